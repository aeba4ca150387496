"""Runs a TCP test between this host and a station, as often as asked, and keeps every run in the logbook."""

import secrets
from collections.abc import Callable
from contextlib import ExitStack
from dataclasses import dataclass, field

from harvok import __version__
from harvok.clock import SYSTEM, Clock
from harvok.core.drive import drive
from harvok.core.models.conditions import HostConditions
from harvok.core.models.control import Fault
from harvok.core.models.run import RigRecord, RunRecord
from harvok.core.observer import Observer, Observers, RunOutline
from harvok.core.procedures.tcp import TcpTest, tcp_test
from harvok.core.tcp.notices import link_notices, result_notices
from harvok.core.units import format_size
from harvok.errors import BrokenOffError, HarvokError, LogbookError
from harvok.logbook.store import Logbook
from harvok.rigs.stations import StationsRig, StationsSettings
from harvok.runner.journal import Journal
from harvok.runner.lock import one_test_at_a_time
from harvok.runner.rescue import rescue

_AROUND_A_TRIAL_S = 1.0  # connecting, starting workers, letting go: only to tell others when the station is free
_NO_DURATION_GUESS_S = 60.0
_ID_LETTERS = "abcdefghjkmnpqrstuvwxyz23456789"  # none that look alike


@dataclass(frozen=True, slots=True)
class Label:
    """What the user says about the runs."""

    series: str | None = None
    attributes: dict[str, str] = field(default_factory=dict)
    note: str = ""


@dataclass(frozen=True, slots=True)
class TcpRequest:
    """Everything that `harvok tcp` was asked for. `command` is what was typed, without the token."""

    stations: StationsSettings
    test: TcpTest
    logbook: str
    command: list[str]
    label: Label = field(default_factory=Label)
    repeat: int = 1
    pause_s: float = 0.0
    wait_s: float = 0.0

    @property
    def planned_s(self) -> float:
        """How long all repeats should take, in seconds."""
        traffic_s = self.test.expected_s or _NO_DURATION_GUESS_S
        once_s = traffic_s + _AROUND_A_TRIAL_S * len(self.test.trials)
        return self.repeat * once_s + (self.repeat - 1) * self.pause_s


OnRecord = Callable[[RunRecord], None]


def run_tcp(request: TcpRequest, observer: Observer, on_record: OnRecord, clock: Clock = SYSTEM) -> None:
    """Runs every repeat; `on_record` gets each finished record, also one that broke off.

    Raises whatever broke the test off, after its record was kept.
    """
    with ExitStack() as stack:
        what = f"a test towards {request.stations.station}"
        stack.enter_context(one_test_at_a_time(what, request.wait_s, clock, observer.notice))
        logbook = Logbook(request.logbook)
        stack.callback(logbook.close)
        rig = stack.enter_context(StationsRig(request.stations, clock))
        rig.claim(request.planned_s, request.wait_s, observer.notice)
        for number in range(request.repeat):
            if number and request.pause_s:
                clock.sleep(request.pause_s)
            record = _new_record(request, rig, clock)
            observer.run_started(_outline(record, number + 1, request.repeat))
            _run_once(record, rig, logbook, observer, on_record, clock)


def _run_once(
    record: RunRecord, rig: StationsRig, logbook: Logbook, observer: Observer, on_record: OnRecord, clock: Clock
) -> None:
    """Measures and keeps one run. One that breaks off goes to `on_record` as well, before its error goes on."""
    for notice in record.notices:
        observer.notice(notice)
    logbook.begin(record)
    journal = Journal(logbook, record.id)
    try:
        findings = drive(tcp_test(record.test, record.link), rig, Observers([journal, observer]))
    except (HarvokError, KeyboardInterrupt) as broken:
        fault = broken if isinstance(broken, HarvokError) else _broken_off()
        journal.close()
        told = Fault(reference=fault.reference, message=fault.message, hint=fault.hint)
        record = record.model_copy(update={"state": "broken", "fault": told})
        on_record(_keep(record, journal, logbook, observer, clock))
        raise fault from broken
    journal.close()
    results = [direction for t in journal.trials if t.result for direction in t.result.directions]
    notices = [*record.notices, *result_notices(results, findings.readings)]
    found = {"state": "complete", "readings": findings.readings, "figures": findings.figures, "notices": notices}
    on_record(_keep(record.model_copy(update=found), journal, logbook, observer, clock))


def _outline(record: RunRecord, number: int, of: int) -> RunOutline:
    return RunOutline(
        run=record.id,
        number=number,
        of=of,
        near=record.near.name,
        far=record.far.name if record.far else record.rig.station,
        link=record.link,
        ip_version=6 if ":" in record.rig.address else 4,
    )


def _broken_off() -> BrokenOffError:
    return BrokenOffError("broken off at the keyboard", "What was measured until then is in the logbook.")


def _keep(record: RunRecord, journal: Journal, logbook: Logbook, observer: Observer, clock: Clock) -> RunRecord:
    """Puts the final record into the logbook, or into a file when the logbook does not take it."""
    record = record.model_copy(update={"ended": clock.utc(), "trials": journal.trials})
    try:
        logbook.finish(record)
    except LogbookError as error:
        path = rescue(record)
        where = (
            f"its record is in {path}: `harvok logbook import` takes it" if path else "and no folder takes its record"
        )
        observer.notice(f"{error.message}; {where}")
    return record


def _new_record(request: TcpRequest, rig: StationsRig, clock: Clock) -> RunRecord:
    near, far = rig.look()
    link = rig.link()
    started = clock.utc()
    ending = "".join(secrets.choice(_ID_LETTERS) for _ in range(4))
    return RunRecord(
        id=f"{started:%Y%m%d-%H%M%S}-{ending}",
        state="running",
        started=started,
        harvok=__version__,
        command=request.command,
        test=request.test,
        rig=RigRecord(station=request.stations.station, address=rig.address.host, port=rig.address.port),
        link=link,
        series=request.label.series,
        attributes=request.label.attributes,
        note=request.label.note,
        near=near,
        far=far,
        notices=[*link_notices(link), *_buffer_notices(request.test, near, far)],
    )


def _buffer_notices(test: TcpTest, near: HostConditions, far: HostConditions) -> list[str]:
    """Says when a kernel will not grant the socket buffer that was asked for."""
    asked = test.trial.options.socket_buffer_bytes
    notices = []
    for end, host in (("near", near), ("far", far)):
        limits = host.socket_limits
        capped = [
            most for most in (limits.receive_most_bytes, limits.send_most_bytes) if asked and most and most < asked
        ]
        if asked and capped:
            notices.append(
                f"the {end} end allows socket buffers of {format_size(min(capped))} at most, not the "
                f"{format_size(asked)} asked for: raise net.core.rmem_max and net.core.wmem_max there"
            )
    return notices
