"""Tests of this host's own ports: watching what one negotiates, and two of them against each other."""

import json
import subprocess
import sys
import tempfile
from collections.abc import Callable, Iterator
from contextlib import ExitStack, closing, contextmanager
from dataclasses import asdict, dataclass, field
from pathlib import Path

from harvok.clock import SYSTEM, Clock
from harvok.core.drive import drive
from harvok.core.judgement.link import judge_link
from harvok.core.link import Link
from harvok.core.models.run import PortRecord, TrialRecord
from harvok.core.observer import Observer
from harvok.core.procedures.link import LinkFindings, LinkTest, figures_of, link_test
from harvok.core.trials.link import LinkEvent, LinkTrialResult
from harvok.errors import NearEndError, NothingFoundError, UsageError
from harvok.host.cleanup import LENT_PORTS, cleanup_path
from harvok.host.facts import host_conditions
from harvok.host.interfaces import port_state, port_to_use
from harvok.host.pair import PairSpec, restore_lent_ports
from harvok.logbook.store import Logbook
from harvok.rigs.watched import WatchedRig
from harvok.runner.journal import Journal
from harvok.runner.keeping import Found, Keeper, Label, OnRecord, new_record
from harvok.runner.lock import one_test_at_a_time
from harvok.runner.namespaced import ADDRESSES, host_namespaces, run_in, station_in

_NOWHERE = "127.0.0.1"


@dataclass(frozen=True, slots=True)
class WatchRequest:
    """Everything that `harvok ports watch` was asked for."""

    test: LinkTest
    logbook: str
    command: list[str]
    label: Label = field(default_factory=Label)


def watch(
    request: WatchRequest,
    observer: Observer,
    on_event: Callable[[LinkEvent], None],
    on_record: OnRecord,
    clock: Clock = SYSTEM,
) -> None:
    """Watches a port until enough was seen, or the keyboard ends it, which is the usual end and breaks nothing off.

    Raises NothingFoundError when there is no such port.
    """
    test = request.test
    found_port = port_state(test.trial.port)
    if found_port is None:
        raise NothingFoundError(f"this host has no port {test.trial.port}", "`harvok ports` lists them.")
    with closing(Logbook(request.logbook)) as logbook:
        keeper = Keeper(logbook, observer, on_record, clock)
        record = new_record(
            command=request.command,
            test=test,
            rig=PortRecord(port=found_port.facts),
            link=Link(test.rated_bps),
            label=request.label,
            near=host_conditions(_NOWHERE),
            clock=clock,
        )
        rig = WatchedRig(on_event, clock=clock)

        def measure(everyone: Observer, journal: Journal, found: Found) -> None:
            findings = LinkFindings()
            try:
                drive(link_test(test, findings), rig, everyone)
            except KeyboardInterrupt:
                ups = [event for event in rig.events if event.state == "up"]
                findings.link_ups.extend(ups)
                findings.figures.extend(figures_of(ups))
                journal.trials[-1] = TrialRecord(trial=test.trial, result=LinkTrialResult(list(rig.events)))
            found["figures"] = findings.figures
            judged = judge_link(test.trial.port, findings.link_ups, test.rated_bps, test.min_link_ups)
            found["findings"] = judged

        keeper.measure(record, measure)


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
        token = stack.enter_context(station_in(far))
        words = ["tcp", far.address, "--name", near.name, *request.tcp, *(["--json"] if request.as_json else [])]
        return run_in(near, words, token, request.logbook, request.command, folder)


@contextmanager
def _lent(ports: tuple[str, str]) -> Iterator[list[str]]:
    """Lends the ports to two namespaces for a while; yields their paths."""
    spec = PairSpec(ports, ADDRESSES, str(cleanup_path(LENT_PORTS)))
    process = subprocess.Popen(
        [sys.executable, "-m", "harvok.host.pair", json.dumps(asdict(spec))],
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        text=True,
        start_new_session=True,
    )
    try:
        assert process.stdout
        said = process.stdout.readline()
        if not said:
            raise _refused(process)
        yield json.loads(said)
    finally:
        process.communicate()  # closes its standard input, and waits until the ports are home


def _refused(process: "subprocess.Popen[str]") -> NearEndError:
    _, said = process.communicate()
    why = said.strip().splitlines()[-1] if said.strip() else "it says nothing"
    return NearEndError(f"the ports could not be moved into namespaces of their own: {why}", "Run Harvok as root.")


def restore_ports() -> tuple[list[str], list[str]]:
    """Puts back ports that a killed test left behind; returns their names, and those of ports that are gone."""
    return restore_lent_ports(cleanup_path(LENT_PORTS))
