"""Tests of this host's own ports: watching what one negotiates, and two of them against each other."""

import tempfile
from collections.abc import Callable
from contextlib import ExitStack
from dataclasses import dataclass
from pathlib import Path

from harvok.clock import SYSTEM, Clock
from harvok.runner.lending import check_lendable, lent_ports
from harvok.runner.lock import one_test_at_a_time
from harvok.runner.namespaced import ADDRESSES, host_namespaces, run_in, station_on


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
    check_lendable(request.ports)
    with ExitStack() as stack:
        what = f"a test of {request.ports[0]} and {request.ports[1]}"
        stack.enter_context(one_test_at_a_time(what, request.wait_s, clock, notice))
        here, there = stack.enter_context(lent_ports(request.ports, ADDRESSES))
        folder = Path(stack.enter_context(tempfile.TemporaryDirectory()))
        near, far = host_namespaces([here], [there], request.ports)
        access = stack.enter_context(station_on(far, folder))
        words = ["tcp", far.address, "--name", near.name, *request.tcp, *(["--json"] if request.as_json else [])]
        return run_in(near, words, access, request.logbook, request.command, folder)
