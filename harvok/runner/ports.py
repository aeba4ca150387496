"""Tests of this host's own ports: watching what one negotiates, and two of them against each other."""

import json
import tempfile
from collections.abc import Callable, Iterator
from contextlib import ExitStack, contextmanager
from dataclasses import asdict, dataclass
from pathlib import Path

from harvok.clock import SYSTEM, Clock
from harvok.errors import NearEndError, UsageError
from harvok.host.interfaces import port_to_use
from harvok.host.pair import PairSpec, restore_lent_ports
from harvok.host.state import LENT_PORTS
from harvok.runner.lock import one_test_at_a_time
from harvok.runner.namespaced import ADDRESSES, host_namespaces, run_in, station_on
from harvok.worker.parent import Worker


@dataclass(frozen=True, slots=True)
class PairRequest:
    """Everything that `harvok ports pair` was asked for. `tcp` are the options handed on to the TCP test."""

    ports: tuple[str, str]
    tcp: list[str]
    logbook: str
    command: list[str]
    as_json: bool = False
    wait_s: float = 0.0


def pair(request: PairRequest, notice: Callable[[str], None], clock: Clock = SYSTEM) -> int:
    """Runs a TCP test from one port to the other, each in a namespace of its own, and keeps its runs.

    Returns the exit code of the test. Raises PortError for ports that may not be lent.
    """
    for port in request.ports:
        port_to_use(
            port, "`harvok ports` lists them.", "It would be cut off: test ports that nothing else needs meanwhile."
        )
    if request.ports[0] == request.ports[1]:
        raise UsageError("a port cannot be tested against itself", "Name two ports that a lead or a switch joins.")
    with ExitStack() as stack:
        what = f"a test of {request.ports[0]} and {request.ports[1]}"
        stack.enter_context(one_test_at_a_time(what, request.wait_s, clock, notice))
        here, there = stack.enter_context(_lent(request.ports))
        folder = Path(stack.enter_context(tempfile.TemporaryDirectory()))
        near, far = host_namespaces([here], [there], request.ports)
        access = stack.enter_context(station_on(far, folder))
        words = ["tcp", far.address, "--name", near.name, *request.tcp, *(["--json"] if request.as_json else [])]
        return run_in(near, words, access, request.logbook, request.command, folder)


_HOME_S = 30.0
"""How long ports may take to be put back; killed before, they would stay away."""


@contextmanager
def _lent(ports: tuple[str, str]) -> Iterator[list[str]]:
    """Lends the ports to two namespaces for a while; yields their paths."""
    spec = PairSpec(ports, ADDRESSES, LENT_PORTS)
    worker = Worker("harvok.host.pair", json.dumps(asdict(spec)))
    try:
        try:
            lent: list[str] = worker.wait_ready()
        except NearEndError as error:
            message = f"the ports could not be moved into namespaces of their own: {error.message}"
            raise NearEndError(message, "Run Harvok as root.") from error
        yield lent
    finally:
        worker.end(_HOME_S)  # the ports are home when it has ended


def restore_ports() -> tuple[list[str], list[str]]:
    """Puts back ports that a killed test left behind; returns their names, and those of ports that are gone."""
    return restore_lent_ports(LENT_PORTS)
