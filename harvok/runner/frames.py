"""Runs frame tests on a rig, RFC 2544's or a calibration, as often as asked, and keeps every run in the logbook."""

from contextlib import ExitStack
from dataclasses import dataclass, field, replace

from harvok.clock import SYSTEM, Clock
from harvok.core.drive import drive
from harvok.core.judgement.compare import Finding
from harvok.core.judgement.emulator import judge_emulator
from harvok.core.link import Link
from harvok.core.models.impairment import ImpairmentFile, ImpairmentRecord
from harvok.core.models.rig import PortsRig, RigFile, SimulatedRig, VirtualRig
from harvok.core.models.run import RunRecord
from harvok.core.observer import Observer, RunOutline
from harvok.core.procedures.calibrate import CalibrationTest, calibrate
from harvok.core.procedures.emulator import EmulatorTest, emulator_check
from harvok.core.procedures.frames import FrameFindings
from harvok.core.procedures.load import LoadTest, hold_loads
from harvok.core.procedures.rfc2544 import FrameTest, rfc2544
from harvok.errors import UsageError
from harvok.host.facts import host_conditions
from harvok.logbook.store import Logbook
from harvok.rigs.frame_rigs import FrameRig, open_rig, record_of
from harvok.rigs.impairment_files import read_impairment
from harvok.rigs.simulated import device_of, impaired
from harvok.runner.calibration import floors_of, latest_calibration, limits_of
from harvok.runner.impair import at_work
from harvok.runner.journal import Journal
from harvok.runner.keeping import Found, Keeper, Label, OnRecord, new_record
from harvok.runner.lock import one_test_at_a_time

_NOWHERE = "127.0.0.1"  # ports have no route; only the host is described
_NOT_CALIBRATED = (
    "this tester is not calibrated on this rig for all of these frames, so its own limit may pass for the device's: "
    "run `harvok calibrate` with the same rig first"
)


@dataclass(frozen=True, slots=True)
class FrameRequest:
    """Everything that `harvok rfc2544` or `harvok calibrate` was asked for."""

    rig: RigFile
    test: FrameTest | LoadTest | EmulatorTest | CalibrationTest
    logbook: str
    command: list[str]
    label: Label = field(default_factory=Label)
    repeat: int = 1
    wait_s: float = 0.0
    tolerance_s: float = 100e-6
    """How far off a delay may be in a check of an emulator."""
    first: int = 0
    """The number of the first repeat: where a series goes on."""
    impairment: ImpairmentFile | None = None
    """Instead of the one that the rig file names."""


def run_frames(request: FrameRequest, observer: Observer, on_record: OnRecord, clock: Clock = SYSTEM) -> None:
    """Runs every repeat. On a simulated rig each has a seed of its own, counted up from the rig's, so that repeats
    differ as they would on a bench and are the same next year.

    Raises whatever broke the test off, after its record was kept.
    """
    with ExitStack() as stack:
        if not isinstance(request.rig, SimulatedRig):
            what = f"a test of {request.rig.name}"
            stack.enter_context(one_test_at_a_time(what, request.wait_s, clock, observer.notice))
        logbook = Logbook(request.logbook)
        stack.callback(logbook.close)
        keeper = Keeper(logbook, observer, on_record, clock)
        for number in range(request.repeat):
            with open_rig(request.rig, request.first + number, clock, request.impairment) as rig:
                _run_once(request, rig, keeper, number)


def back_to_back_rig(file: RigFile) -> RigFile:
    """The rig with its two ports joined directly: what is calibrated. Raises UsageError for a simulated one."""
    if isinstance(file, SimulatedRig):
        raise UsageError(
            "a simulated rig needs no calibration: its tester has no limits",
            "Calibrate a rig of ports, or a virtual one.",
        )
    if isinstance(file, VirtualRig):
        return file.model_copy(update={"device": "wire", "shape": None})
    return file.model_copy(update={"device": "wire"})


def _run_once(request: FrameRequest, rig: FrameRig, keeper: Keeper, number: int) -> None:
    settings = request.test.settings
    sizes = [bytes_ for size in request.test.sizes for bytes_ in size.sizes]
    rig.check(sizes, settings.ip_version, settings.address_pairs)
    record = _record(request, keeper)
    outline = RunOutline(
        record.id, number + 1, request.repeat, record.near.name, record.rig.name, record.link, ip_version=4
    )
    keeper.observer.run_started(outline)

    def measure(everyone: Observer, _: Journal, found: Found) -> None:
        findings = FrameFindings(notices=list(record.notices))
        found |= {"figures": findings.figures, "notices": findings.notices}
        if isinstance(record.test, CalibrationTest):
            drive(calibrate(record.test, findings), rig, everyone)
        elif isinstance(record.test, EmulatorTest):
            drive(emulator_check(record.test, findings), rig, everyone)
            found["findings"] = _judge_emulator(request, record.test, findings)
        elif isinstance(record.test, LoadTest):
            drive(hold_loads(record.test, findings), rig, everyone)
        elif isinstance(record.test, FrameTest):
            drive(rfc2544(record.test, findings), rig, everyone)

    keeper.measure(record, measure)


def _judge_emulator(request: FrameRequest, test: EmulatorTest, findings: FrameFindings) -> list[Finding]:
    return judge_emulator(test.set_to, findings.figures, request.tolerance_s, test.settings.tester_delay_s)


def _record(request: FrameRequest, keeper: Keeper) -> RunRecord:
    test, calibration, notices = request.test, None, []
    if not isinstance(test, CalibrationTest) and not isinstance(request.rig, SimulatedRig):
        calibration = latest_calibration(keeper.logbook, request.rig, test.settings)
        limits = limits_of(calibration) if calibration else {}
        floors = floors_of(calibration) if calibration else {}
        test = replace(test, settings=replace(test.settings, tester_fps=limits, tester_delay_s=floors))
        if any(size.name not in limits for size in test.sizes):
            notices.append(_NOT_CALIBRATED)
    if isinstance(request.rig, PortsRig) and not request.rig.isolated:
        notices.append(
            "the rig file does not say that the rig is isolated: RFC 6815 allows these tests on isolated set-ups only, "
            "never on a network that anybody uses"
        )
    return new_record(
        command=request.command,
        test=test,
        rig=record_of(request.rig),
        link=Link(rated_bps=request.rig.rated),
        label=request.label,
        near=host_conditions(_NOWHERE),
        clock=keeper.clock,
        notices=notices,
        calibration=calibration.id if calibration else None,
        impairment=_impairment_of(request),
    )


def base_impairment(rig: RigFile) -> ImpairmentFile | None:
    """What a rig of our own puts on the path by itself; None where that is up to the bench."""
    if isinstance(rig, SimulatedRig):
        return read_impairment("clean")
    if isinstance(rig, VirtualRig) and rig.impairment:
        return read_impairment(rig.impairment)
    return None


def check_impairment(rig: RigFile, file: ImpairmentFile) -> None:
    """Raises UsageError for an impairment that the rig cannot carry out."""
    if isinstance(rig, SimulatedRig):
        impaired(device_of(rig), file)


def _impairment_of(request: FrameRequest) -> ImpairmentRecord | None:
    if isinstance(request.rig, SimulatedRig):
        asked = request.impairment
        return ImpairmentRecord(carried_out_by="model", impairment=asked) if asked else None
    if isinstance(request.rig, PortsRig):
        return at_work()
    file = request.impairment or base_impairment(request.rig)
    return ImpairmentRecord(carried_out_by="bridge", impairment=file) if file else None
