"""State of this user's on this host: locks, control sockets, and notes of what was changed on the host.

Notes are for the next `harvok` command, should the process that changed something be killed. What they say is done, by
root as a rule, so they are believed only where nobody else can have written them: in a folder of the user's own, in
files of the user's own, opened without following links.

Every command looks here, so this file loads nothing that takes time.
"""

import contextlib
import json
import os
import stat
from collections.abc import Mapping
from pathlib import Path
from typing import Any, TextIO

from harvok.errors import StateError

LENT_PORTS, CHANGED_FEATURES = "lent-ports.json", "changed-ports.json"
KERNEL_IMPAIRMENT = "kernel-impairment.json"
TEST_LOCK, IMPAIRMENT_SOCKET = "test.lock", "impairment.sock"
STATE_FOLDER = "HARVOK_STATE_FOLDER"
"""The environment variable that names another folder."""

_OTHERS_WRITE = stat.S_IWGRP | stat.S_IWOTH


def state_folder() -> Path:
    """Where this user's state is: /run/harvok for root, else in the user's runtime folder, or at home."""
    named = os.environ.get(STATE_FOLDER)
    if named:
        return Path(named)
    if _user() == 0:
        return Path("/run/harvok")
    runtime = os.environ.get("XDG_RUNTIME_DIR")
    return Path(runtime) / "harvok" if runtime else Path.home() / ".local" / "state" / "harvok"


def state_path(name: str) -> Path:
    """Where state of that name is, in a folder that nobody else can write into; makes the folder where it is missing.

    Raises StateError for a folder that is not this user's own, and for a file there that is not.
    """
    path = _own_folder() / name
    with contextlib.suppress(FileNotFoundError):
        _check(path, os.lstat(path))
    return path


def take_lock(fd: int) -> bool:
    """Takes the lock of an open file for this process, unless another one has it. The lock is the kernel's and goes
    with the file or the process, however that ends; where the system has no such locks, nothing is held."""
    try:
        import fcntl
    except ImportError:
        return True
    try:
        fcntl.flock(fd, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except OSError:
        return False
    return True


def has_state(name: str) -> bool:
    """Whether something of that name is there, whoever it belongs to."""
    return os.path.lexists(state_folder() / name)


def open_state(name: str, flags: int) -> int:
    """Opens a state file without following links, making it where `flags` say so. Raises StateError."""
    path = state_path(name)
    try:
        fd = os.open(path, flags | getattr(os, "O_NOFOLLOW", 0), 0o600)
    except OSError as error:
        raise StateError(f"{path} cannot be opened: {error.strerror}", f"Remove it: rm '{path}'") from error
    try:
        _check(path, os.fstat(fd))
    except StateError:
        os.close(fd)
        raise
    return fd


def write_state(name: str, text: str) -> None:
    """Writes a state file whole or not at all. Raises StateError."""
    replace_private(_own_folder() / name, text)


def read_state(name: str) -> str | None:
    """What a state file says; None where there is none. Raises StateError for one that may not be believed."""
    if not has_state(name):
        return None
    with os.fdopen(open_state(name, os.O_RDONLY), encoding="utf-8", errors="replace") as file:
        return file.read()


def remove_state(name: str) -> None:
    """Removes a state file, if it is there."""
    state_path(name).unlink(missing_ok=True)


def write_cleanup(name: str, reported: Mapping[str, Any]) -> None:
    """Writes down what is about to be changed, and that this process holds it."""
    write_state(name, json.dumps({"holder": os.getpid(), **reported}))


def read_cleanup(name: str) -> dict[str, Any] | None:
    """What a killed process wrote down; None when there is nothing, its holder lives, or this user could not put it
    back. Raises StateError for notes that may not be believed."""
    text = read_state(name)
    if text is None:
        return None
    try:
        reported: dict[str, Any] = json.loads(text)
        alive = Path(f"/proc/{int(reported['holder'])}").exists()
    except (ValueError, TypeError, KeyError):
        return None
    return None if alive or _user() != 0 else reported


def create_private(path: Path) -> TextIO:
    """A new file for this user alone: never one that was there, nor through a link that somebody put there. Raises
    OSError."""
    flags = os.O_WRONLY | os.O_CREAT | os.O_EXCL | getattr(os, "O_NOFOLLOW", 0)
    return os.fdopen(os.open(path, flags, 0o600), "w", encoding="utf-8")


def replace_private(path: Path, text: str) -> None:
    """Writes a file of this user's own whole or not at all. Raises OSError."""
    fresh = path.with_name(f"{path.name}.{os.getpid()}")
    fresh.unlink(missing_ok=True)
    with create_private(fresh) as file:
        file.write(text)
    fresh.replace(path)


def check_own(path: Path) -> None:
    """Raises StateError for a file or folder that anybody but this user may have put there, or may change."""
    _check(path, os.lstat(path))


def _user() -> int:
    return os.geteuid() if hasattr(os, "geteuid") else -1


def _own_folder() -> Path:
    folder = state_folder()
    try:
        folder.mkdir(mode=0o700, parents=True, exist_ok=True)
        found = os.lstat(folder)
    except OSError as error:
        raise StateError(
            f"the folder for state, {folder}, cannot be made: {error.strerror}",
            f"Name a folder of your own in the environment variable {STATE_FOLDER}.",
        ) from error
    _check(folder, found)
    return folder


def _check(path: Path, found: os.stat_result) -> None:
    """Raises StateError for what anybody but this user may have put there."""
    if _user() < 0:
        return
    if stat.S_ISLNK(found.st_mode):
        why = "is a link"
    elif found.st_uid != _user():
        why = f"belongs to user {found.st_uid}, not to you"
    elif found.st_mode & _OTHERS_WRITE:
        why = "may be written by others"
    elif not stat.S_ISDIR(found.st_mode) and found.st_nlink > 1:
        why = "has another name elsewhere (a hard link)"
    else:
        return
    raise StateError(
        f"{path} {why}, so what it says is not believed",
        f"Find out who put it there, then remove it: rm -r '{path}'",
    )
