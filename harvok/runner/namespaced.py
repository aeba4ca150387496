"""A station and a test on one host, each in a namespace of its own, so that traffic takes what is between them."""

import json
import os
import secrets
import shutil
import subprocess
import sys
from collections.abc import Iterator, Mapping, Sequence
from contextlib import closing, contextmanager
from dataclasses import dataclass
from pathlib import Path

from harvok.errors import NearEndError
from harvok.host.state import STATE_FOLDER
from harvok.logbook.store import Logbook
from harvok.station.keys import KEYS_FOLDER, Keys
from harvok.worker.parent import module_command

ADDRESSES = ("198.18.0.1/24", "198.18.0.2/24")  # RFC 2544 App. C.2.2
"""Of the near and the far host, with prefix length."""
BUILT_RIG = "HARVOK_BUILT_RIG"
"""That by which it learns which rig was built for it (JSON)."""
BUILT_AGENT = "HARVOK_BUILT_AGENT"
"""And at which port of loopback the agent of that rig's device answers."""
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
    near: Sequence[str], far: Sequence[str], names: tuple[str, str], addresses: tuple[str, str] = ADDRESSES
) -> tuple[HostNamespaces, HostNamespaces]:
    """The near and the far host, by their namespaces and addresses."""
    here, there = (address.partition("/")[0] for address in addresses)
    return HostNamespaces(tuple(near), names[0], here), HostNamespaces(tuple(far), names[1], there)


def _inside(host: HostNamespaces, *words: str) -> list[str]:
    program = shutil.which("harvok") or str(Path(sys.executable).with_name("harvok"))
    return module_command("harvok.host.enter", ":".join(host.namespaces), program, *words)


@contextmanager
def station_on(host: HostNamespaces, folder: Path) -> Iterator[dict[str, str]]:
    """A station on a host, known to nobody else: its keys are in `folder`. Yields the environment of its near end.

    Raises NearEndError when none comes up.
    """
    environment = {"HARVOK_TOKEN": secrets.token_hex(8), KEYS_FOLDER: str(folder)}
    words = ["station", "--host", host.address, "--name", host.name]
    process = subprocess.Popen(
        _inside(host, *words), env=os.environ | environment, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True
    )
    try:
        assert process.stdout and process.stderr
        if not process.stdout.readline():
            raise NearEndError(f"no station came up behind {host.name}: {process.stderr.read().strip()}", "Try again.")
        yield environment | {"HARVOK_CODE": Keys(folder).code}
    finally:
        process.terminate()
        process.communicate()


def run_in(
    host: HostNamespaces,
    words: Sequence[str],
    access: Mapping[str, str],
    logbook: str,
    typed: Sequence[str],
    folder: Path,
    shows: bool = True,
) -> int:
    """Runs a `harvok` command on a host, which `shows` itself on this terminal; returns its exit code. `access` is the
    environment in which it knows its station.

    Its runs come into the user's logbook. `folder` holds the state of that command: this process holds the host's lock.
    """
    place = str(folder / _BOOK) if "://" in logbook else logbook  # a database elsewhere cannot be reached from there
    environment = os.environ | access | {STATE_FOLDER: str(folder), TYPED_COMMAND: json.dumps(list(typed))}
    code = subprocess.run(
        _inside(host, *words, "--logbook", place), env=environment, stdout=None if shows else subprocess.DEVNULL
    ).returncode
    if (folder / _BOOK).exists():
        with closing(Logbook(place)) as theirs, closing(Logbook(logbook)) as ours:
            for record in theirs.records([line.id for line in reversed(theirs.lines())]):
                ours.add(record)
    return code
