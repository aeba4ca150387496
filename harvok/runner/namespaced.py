"""A station and a test on one host, each in a namespace of its own, so that traffic takes what is between them."""

import json
import os
import secrets
import shutil
import subprocess
import sys
from collections.abc import Iterator, Sequence
from contextlib import closing, contextmanager
from dataclasses import dataclass
from pathlib import Path

from harvok.errors import NearEndError
from harvok.logbook.store import Logbook
from harvok.worker.parent import module_command

ADDRESSES = ("198.18.0.1/24", "198.18.0.2/24")  # RFC 2544 App. C.2.2
"""Of the near and the far room, with prefix length."""
TYPED_COMMAND = "HARVOK_TYPED_COMMAND"
"""The environment variable by which a test that is started for another command learns what was really typed."""
_BOOK = "within.sqlite"


@dataclass(frozen=True, slots=True)
class HostNamespaces:
    """A namespace, by the paths to enter in order; what the end in it is called, and its address."""

    namespaces: tuple[str, ...]
    name: str
    address: str


def host_namespaces(
    near: Sequence[str], far: Sequence[str], names: tuple[str, str]
) -> tuple[HostNamespaces, HostNamespaces]:
    """The near and the far room, by their namespaces."""
    here, there = (address.partition("/")[0] for address in ADDRESSES)
    return HostNamespaces(tuple(near), names[0], here), HostNamespaces(tuple(far), names[1], there)


def _inside(room: HostNamespaces, *words: str) -> list[str]:
    program = shutil.which("harvok") or str(Path(sys.executable).with_name("harvok"))
    return module_command("harvok.host.enter", ":".join(room.namespaces), program, *words)


@contextmanager
def station_in(room: HostNamespaces) -> Iterator[str]:
    """A station in a room; yields its token. Raises NearEndError when none comes up."""
    token = secrets.token_hex(8)
    words = ["station", "--host", room.address, "--name", room.name, "--token", token]
    process = subprocess.Popen(_inside(room, *words), stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)
    try:
        assert process.stdout and process.stderr
        if not process.stdout.readline():
            raise NearEndError(f"no station came up behind {room.name}: {process.stderr.read().strip()}", "Try again.")
        yield token
    finally:
        process.terminate()
        process.communicate()


def run_in(
    room: HostNamespaces, words: Sequence[str], token: str, logbook: str, typed: Sequence[str], folder: Path
) -> int:
    """Runs a `harvok` command in a room, which shows itself on this terminal; returns its exit code.

    Its runs come into the user's logbook. `folder` stands for the temporary one: this process holds the host's lock.
    """
    place = str(folder / _BOOK) if "://" in logbook else logbook  # a database elsewhere cannot be reached from there
    environment = os.environ | {"TMPDIR": str(folder), TYPED_COMMAND: json.dumps(list(typed)), "HARVOK_TOKEN": token}
    code = subprocess.run(_inside(room, *words, "--logbook", place), env=environment).returncode
    if (folder / _BOOK).exists():
        with closing(Logbook(place)) as theirs, closing(Logbook(logbook)) as ours:
            for record in theirs.records([line.id for line in reversed(theirs.lines())]):
                ours.add(record)
    return code
