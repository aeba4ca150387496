"""The one path from a request to kept records, whatever the kind of test."""

from collections.abc import Callable, Sequence
from contextlib import AbstractContextManager, ExitStack, closing
from dataclasses import replace

from harvok import __version__
from harvok.clock import SYSTEM, Clock
from harvok.core.drive import drive
from harvok.core.judgement.finding import Finding
from harvok.core.kinds.kind import Kind, RigNeed, check_events
from harvok.core.kinds.table import kind_of
from harvok.core.models.device import DeviceRecord
from harvok.core.models.run import PortsRigRecord, RunRecord
from harvok.core.observer import Observer
from harvok.core.procedure import Findings
from harvok.core.samples import Event
from harvok.logbook.spool import open_logbook
from harvok.runner.benches.bench import Bench, Situation
from harvok.runner.benches.browser import open_browser
from harvok.runner.benches.frames import open_frames
from harvok.runner.benches.port import open_port
from harvok.runner.benches.reflector import open_reflector
from harvok.runner.benches.stations import open_stations
from harvok.runner.benches.users import open_users_bench
from harvok.runner.device import WatchedDevice, followed, record_of
from harvok.runner.errands import run_elsewhere
from harvok.runner.events import EventfulRig, eventful
from harvok.runner.known_good import known_good
from harvok.runner.pace import outline_of
from harvok.runner.recorder import OnRecord, Recorder, RunRecorder, new_id
from harvok.runner.request import TestRequest

OpenBench = Callable[[TestRequest, Callable[[str], None], Clock], AbstractContextManager[Bench]]

BENCHES: dict[RigNeed, OpenBench] = {
    "stations": open_stations,
    "users": open_users_bench,
    "reflector": open_reflector,
    "port": open_port,
    "frames": open_frames,
    "browser": open_browser,
}
"""How the bench of each need is opened for a request: told notices, and by which clock."""


def run_test(request: TestRequest, observer: Observer, on_record: OnRecord, clock: Clock = SYSTEM) -> None:
    """Runs every repeat; `on_record` gets each finished record, also one that broke off.

    Raises whatever broke the test off, after its record was kept.
    """
    with closing(open_logbook(request.logbook, observer.notice)) as logbook:  # refused before anything is sent
        recorder = RunRecorder(logbook, observer, on_record, clock)
        run = run_elsewhere if request.sent else run_here
        run(request, recorder)


def run_here(request: TestRequest, recorder: Recorder) -> None:
    """Runs every repeat from this host, on the bench that its kind of test needs. Raises whatever broke it off."""
    kind, clock = kind_of(request.test), recorder.clock
    check_events(kind, request.events)
    with BENCHES[kind.rig](request, recorder.observer.notice, clock) as bench:
        for number in range(request.repeat):
            if number and request.pause_s:
                clock.sleep(request.pause_s)
            with bench.situation(number, recorder.logbook) as situation:
                _run_once(request, kind, recorder, number, situation)


def _run_once(request: TestRequest, kind: Kind, recorder: Recorder, number: int, situation: Situation) -> None:
    settings = request.device or situation.device
    with ExitStack() as stack:
        around: list[WatchedDevice | EventfulRig] = []
        rig, device = situation.rig, None
        watch = stack.enter_context(followed(settings))
        if watch and settings:
            macs = _hardware_addresses(situation)
            around.append(rig := WatchedDevice(rig, watch, settings, recorder.clock, macs))
            device = record_of(watch, settings)
        if request.events:
            opened = eventful(rig, situation.rig, request.events, settings, recorder.observer.notice, recorder.clock)
            around.append(rig := stack.enter_context(opened))
        _measure(request, kind, recorder, number, replace(situation, rig=rig), device, around)


def _hardware_addresses(situation: Situation) -> dict[str, str]:
    """Of the ends of a test, or of the ports of its rig, where they have any."""
    hosts = {"near": situation.near, "far": situation.far}
    found = {end: host.interface for end, host in hosts.items() if host and host.interface}
    if isinstance(situation.kept_as, PortsRigRecord):
        found |= dict(zip(situation.kept_as.file.port_names, situation.kept_as.ports, strict=False))
    return {end: port.hardware_address for end, port in found.items() if port.hardware_address}


def _measure(
    request: TestRequest,
    kind: Kind,
    recorder: Recorder,
    number: int,
    situation: Situation,
    device: DeviceRecord | None,
    around: Sequence[WatchedDevice | EventfulRig],
) -> None:
    record = _new_record(request, situation, recorder, device)
    outline = outline_of(recorder.logbook, record, number, request.repeat, situation.context.ip_version)
    recorder.observer.run_started(outline)

    context = replace(situation.context, known_good=known_good(recorder.logbook, record))

    def work(observer: Observer, findings: Findings) -> None:
        try:
            drive(kind.procedure(situation.test, context, findings), situation.rig, observer, findings)
        finally:
            for one in around:
                one.add_to(findings)

    def judge(findings: Findings, events: list[Event]) -> list[Finding]:
        return kind.judge(situation.test, findings, events)

    recorder.measure(record, work, judge)


def _new_record(
    request: TestRequest, situation: Situation, recorder: Recorder, device: DeviceRecord | None
) -> RunRecord:
    """The record of a run that starts now."""
    started, label = recorder.clock.utc(), request.label
    return RunRecord(
        id=new_id(started, recorder.logbook.has),
        state="running",
        started=started,
        harvok=__version__,
        command=request.command,
        test=situation.test,
        rig=situation.kept_as,
        link=situation.context.link,
        series=label.series,
        attributes=label.attributes,
        note=label.note,
        calibration=situation.calibration,
        impairment=situation.impairment,
        near=situation.near,
        far=situation.far,
        device=device,
        notices=situation.notices,
        preflight=situation.preflight,
    )
