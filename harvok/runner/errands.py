"""Tests that a station runs for this host: the coordinator asks, the near end measures, and the record is kept here."""

import socket
from collections.abc import Iterable, Iterator
from contextlib import closing
from dataclasses import replace

from pydantic import ValidationError

from harvok.core.figures import Figure
from harvok.core.judgement.finding import Finding
from harvok.core.kinds.table import kind_of
from harvok.core.models.control import Fault
from harvok.core.models.errand import Errand
from harvok.core.models.run import RunRecord
from harvok.core.observer import Observer
from harvok.core.procedure import Findings
from harvok.core.samples import Event, replayed
from harvok.core.time_axis import ClockOffset
from harvok.errors import ProtocolError, StationLostError, UsageError
from harvok.logbook.recovery import Entry
from harvok.rigs.stations import StationsSettings
from harvok.runner.benches.stations import planned_s
from harvok.runner.pace import outline_of
from harvok.runner.recorder import Recorder, new_id
from harvok.runner.request import ReflectorPlace, TestRequest
from harvok.station.address import resolve
from harvok.station.client import StationClient, error_of
from harvok.traffic.sockets import Source

CLOCK_AHEAD, CLOCK_ERROR = "clock-ahead-s", "clock-error-s"
"""The attributes that say how far a near end's clock was ahead of the coordinator's, and how well that is known."""
_PASS_LASTS_S = 120.0
"""Beyond the test itself."""


class Told(Entry):
    """A line of what an errand tells: a run that begins, what its journal would have, a notice, figures on the way,
    what it came to, or why it broke off."""

    number: int = 0
    begun: RunRecord | None = None
    notice: str | None = None
    figures: list[Figure] = []
    ended: RunRecord | None = None
    broken: Fault | None = None


def run_elsewhere(request: TestRequest, recorder: Recorder) -> None:
    """Runs every repeat with another station as its near end, over connections of control alone. Raises whatever broke
    it off, after its record was kept."""
    sent = request.sent
    assert sent
    if kind_of(request.test).rig not in ("stations", "users", "reflector"):
        raise UsageError(f"{request.test.title} is of no station", "Leave out --from.")
    clock, notice = recorder.clock, recorder.observer.notice
    with StationClient(resolve(sent.station), sent.access, Source(), clock) as near:
        near.claim(socket.gethostname(), planned_s(request), request.wait_s, notice)
        for number in range(request.repeat):
            if number and request.pause_s:
                clock.sleep(request.pause_s)
            errand, ahead = _errand(request, recorder), None
            if errand.group:
                ahead = near.clock_offset()
                errand = errand.model_copy(update={"begins_ns": errand.begins_ns + round(ahead.offset_s * 1e9)})
            near.send_on_errand(errand.model_dump_json())
            try:
                with closing(near.errand_lines()) as lines:
                    _record_run(_with_clock(request, ahead), recorder, number, _told(lines))
            finally:
                near.drop_errand()


def _with_clock(request: TestRequest, ahead: ClockOffset | None) -> TestRequest:
    """The request with how far the near end's clock is ahead of this host's, where that was asked."""
    if ahead is None:
        return request
    known = {CLOCK_AHEAD: f"{ahead.offset_s:.6f}", CLOCK_ERROR: f"{ahead.error_s:.6f}"}
    return replace(request, label=replace(request.label, attributes=request.label.attributes | known))


def _errand(request: TestRequest, recorder: Recorder) -> Errand:
    """What the near end is asked, with a pass for the far end where it needs one."""
    place, sent = request.place, request.sent
    assert sent and isinstance(place, (StationsSettings, ReflectorPlace))
    reflector = place if isinstance(place, ReflectorPlace) else None
    settings = reflector.stations if reflector else place
    assert isinstance(settings, StationsSettings)
    certificate, token = None, ""
    if not reflector or bool(getattr(request.test, "loads", False)):
        address = resolve(settings.station, settings.ip_version)
        with StationClient(address, settings.access, settings.source, recorder.clock) as far:
            token = far.make_pass((request.test.expected_s or 0.0) + request.wait_s + _PASS_LASTS_S)
            for said in far.notices:
                recorder.observer.notice(said)
        known = settings.access.keys.station(address.place)
        certificate = known.certificate if known and not settings.access.plain else None
    return Errand(
        test=request.test,
        station=sent.reached_at or settings.station,
        certificate=certificate,
        token=token,
        ip_version=settings.ip_version,
        rated_bps=settings.rated_bps,
        reflector_port=reflector.port if reflector else None,
        by=reflector.by if reflector else None,
        load_bps=reflector.load.load_bps if reflector else None,
        group=settings.start.group if settings.start else None,
        begins_ns=settings.start.at_ns if settings.start else 0,
        every_s=settings.start.every_s if settings.start else 0.0,
        wait_s=request.wait_s,
        asked_by=socket.gethostname(),
    )


def _told(lines: Iterable[bytes]) -> Iterator[Told]:
    """What the near end tells, until it is over. Raises what broke it off, StationLostError where it stops too soon."""
    begun = trials = False
    for line in lines:
        try:
            told = Told.model_validate_json(line)
        except ValidationError as error:
            raise _unknown(str(error.errors()[0]["msg"])) from error
        begun, trials = begun or bool(told.begun), trials or bool(told.trial)
        if not told.broken and (told.trial or told.ended) and not begun:
            raise _unknown("something of a run that has not begun")
        if not trials and (told.samples or told.events or told.device or told.result):
            raise _unknown("something of a trial that has not begun")
        yield told
        if told.broken:
            raise error_of(told.broken)
        if told.ended and told.ended.state == "complete":
            return
    raise StationLostError(
        "the near end stopped telling how it goes", "See whether the station there still runs, and measure again."
    )


def _unknown(what: str) -> ProtocolError:
    return ProtocolError(
        f"the near end tells what this version does not know: {what}", "Upgrade the older end of the two."
    )


def _record_run(request: TestRequest, recorder: Recorder, number: int, told: Iterator[Told]) -> None:
    begun = _begun(told, recorder.observer)
    record = begun.model_copy(
        update={
            "id": new_id(begun.started, recorder.logbook.has),
            "command": request.command,
            "series": request.label.series,
            "attributes": request.label.attributes,
            "note": request.label.note,
        }
    )
    outline = outline_of(recorder.logbook, record, number, request.repeat, record.ip_version)
    recorder.observer.run_started(outline)
    judged: list[Finding] = []

    def work(observer: Observer, findings: Findings) -> None:
        for line in told:
            _replay(line, observer)
            if line.ended:
                findings.figures[:] = line.ended.figures
                findings.readings[:] = line.ended.readings
                findings.notices[:] = line.ended.notices
                judged[:] = line.ended.findings

    def judge(findings: Findings, events: list[Event]) -> list[Finding]:  # noqa: ARG001
        return judged

    recorder.measure(record, work, judge)


def _begun(told: Iterator[Told], observer: Observer) -> RunRecord:
    """The record with which a run begins, after notices."""
    for line in told:
        if line.notice:
            observer.notice(line.notice)
        if line.begun:
            return line.begun
    raise _unknown("no run")


def _replay(line: Told, observer: Observer) -> None:
    """Tells an observer what the near end's observer heard."""
    if line.trial:
        observer.trial_started(line.number, line.trial)
    if line.samples:
        observer.samples(replayed(line.samples))
    if line.events:
        observer.happened(line.events)
    if line.device:
        observer.device_told(line.device)
    if line.result:
        observer.trial_finished(line.number, line.result)
    if line.figures:
        observer.found(line.figures)
    if line.notice:
        observer.notice(line.notice)
