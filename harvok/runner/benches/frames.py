"""Two ports with a device between them: real ones, virtual ones, or a model in virtual time."""

from collections.abc import Callable, Iterator
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass, replace
from typing import Any, cast

from harvok.clock import Clock
from harvok.core.kinds.table import kind_of
from harvok.core.link import Link
from harvok.core.models.impairment import ImpairmentFile, ImpairmentRecord
from harvok.core.models.rig import PortsRig, RigFile, SimulatedRig, VirtualRig
from harvok.core.models.run import RunRecord
from harvok.core.procedure import Context
from harvok.core.procedures.frames import FramesTest
from harvok.device.orders import SnmpAccess, WatchOrders
from harvok.errors import UsageError
from harvok.host.cpu import may_raise_priority
from harvok.logbook.store import Logbook
from harvok.rigs.device_files import DeviceSettings, settings_of
from harvok.rigs.frame_rigs import (
    Asking,
    FrameRig,
    check_streams,
    open_rig,
    record_of,
    reflecting_ports,
    there_and_back,
)
from harvok.rigs.impairment_files import read_impairment
from harvok.rigs.simulated import SimulatedPorts
from harvok.rigs.simulated_device import DEVICE_PORTS
from harvok.rigs.virtual import VirtualPorts
from harvok.runner.benches.bench import Situation, this_host
from harvok.runner.calibration import floors_of, latest_calibration, limits_of
from harvok.runner.impair import at_work
from harvok.runner.lock import one_test_at_a_time
from harvok.runner.request import RigPlace, TestRequest

_PLANNED_S = 600.0
_NOT_CALIBRATED = (
    "this tester is not calibrated on this rig for all of these frames, so its own limit may pass for the device's: "
    "run `harvok calibrate` with the same rig first"
)
_NOT_ISOLATED = (
    "the rig file does not say that the rig is isolated: RFC 6815 allows these tests on isolated set-ups only, "
    "never on a network that anybody uses"
)
_NOT_PREFERRED = (
    "this user may not raise the priority of what sends frames, which falls short more often while other programs run: "
    "start as root, or with a limit of -10 for nice (ulimit -e 30)"
)


@dataclass(frozen=True, slots=True)
class FramesBench:
    """A rig file, whose rig is opened anew for each run. On a simulated rig each repeat has a seed of its own, counted
    up from the rig's, so that repeats differ as they would on a bench and are the same next year."""

    request: TestRequest
    place: RigPlace
    clock: Clock
    notice: Callable[[str], None]

    @contextmanager
    def situation(self, number: int, logbook: Logbook) -> Iterator[Situation]:
        file, test = self.place.rig, cast(FramesTest, self.request.test)
        check_streams(file, test.settings.streams)
        settings = there_and_back(file, test.settings)
        test = cast(FramesTest, replace(cast(Any, test), settings=settings))
        if file.kind == "remote" and self.request.device:
            raise UsageError("a device between two hosts is not watched", "Leave --device out.")
        with open_rig(file, self.request.first + number, self.clock, self.place.impairment, self._asking()) as rig:
            sent = kind_of(test).frames_sent(test)
            own = [frames.addresses for frames in test.settings.frames_of.values() if frames.cast == "unicast"]
            rig.check(sent.sizes, test.settings.ip_version, max(sent.pairs, *own, 1))
            calibration = self._calibration(test, logbook)
            yield Situation(
                rig=rig,
                kept_as=record_of(file, rig),
                test=self._with_calibration(test, calibration),
                context=Context(Link(rated_bps=file.rated)),
                near=this_host(),
                notices=[
                    *self._calibration_notices(test, calibration),
                    *_isolation_notices(file),
                    *_priority_notices(file),
                    *_reflecting_notices(file),
                ],
                calibration=calibration.id if calibration else None,
                impairment=_impairment_of(self.place),
                device=_device_of(rig, file),
            )

    def _asking(self) -> Asking:
        """How stations are asked for their ports, where the rig has any."""
        return Asking(self.request.test.expected_s or _PLANNED_S, self.request.wait_s, self.notice)

    def _calibration(self, test: FramesTest, logbook: Logbook) -> RunRecord | None:
        """Of a calibration the one before, which it is compared with."""
        if self.place.rig.kind == "simulated":
            return None
        return latest_calibration(logbook, self.place.rig, test.settings)

    def _with_calibration(self, test: FramesTest, calibration: RunRecord | None) -> FramesTest:
        """The test with what is known of the tester: that of a model delays nothing."""
        if calibration:
            limits, delays = limits_of(calibration), floors_of(calibration)
        elif self.place.rig.kind == "simulated":
            limits, delays = {}, {size.name: 0.0 for size in test.sizes}
        else:
            return test
        settings = replace(test.settings, tester_fps=limits, tester_delay_s=delays)
        return cast(FramesTest, replace(cast(Any, test), settings=settings))

    def _needs_calibration(self, test: FramesTest) -> bool:
        return kind_of(test).held_against_calibration and self.place.rig.kind != "simulated"

    def _calibration_notices(self, test: FramesTest, calibration: RunRecord | None) -> list[str]:
        limits = limits_of(calibration) if calibration else {}
        missing = any(size.name not in limits for size in test.sizes)
        return [_NOT_CALIBRATED] if missing and self._needs_calibration(test) else []


@contextmanager
def open_frames(request: TestRequest, notice: Callable[[str], None], clock: Clock) -> Iterator[FramesBench]:
    """Takes this host for a request, unless nothing is really sent."""
    place = request.place
    assert isinstance(place, RigPlace)
    with ExitStack() as stack:
        if place.rig.kind != "simulated" and not _is_elsewhere(place.rig):
            what = f"a test of {place.rig.name}"
            stack.enter_context(one_test_at_a_time(what, request.wait_s, clock, notice))
        yield FramesBench(request, place, clock, notice)


def _is_elsewhere(rig: RigFile) -> bool:
    """Whether stations have all ports, so that nothing of this host is tested."""
    return isinstance(rig, PortsRig) and all(port.station for port in rig.ports.values())


def back_to_back_rig(file: RigFile) -> RigFile:
    """The rig with its ports joined directly, or, where a virtual one has more than two, by a bridge that holds nothing
    back: what is calibrated. Raises UsageError for a simulated one."""
    if isinstance(file, SimulatedRig):
        raise UsageError(
            "a simulated rig needs no calibration: its tester has no limits",
            "Calibrate a rig of ports, or a virtual one.",
        )
    if isinstance(file, VirtualRig):
        return file.model_copy(update={"device": "wire" if file.ports == 2 else "switch", "shape": None})
    return file.model_copy(update={"device": "wire"})


def _device_of(rig: FrameRig, file: RigFile) -> DeviceSettings | None:
    """The device that a rig file describes, or one of our own, which answers when it is asked."""
    if isinstance(file, PortsRig) and file.watched:
        return settings_of(file.watched)
    if isinstance(rig, VirtualPorts):
        return rig.device
    if isinstance(rig, SimulatedPorts) and rig.asked:
        orders = WatchOrders(SnmpAccess("", 0), rig.asked.every_s)
        return DeviceSettings(file.name, orders, dict(DEVICE_PORTS), rig.asked)
    return None


def _isolation_notices(file: RigFile) -> list[str]:
    return [_NOT_ISOLATED] if isinstance(file, PortsRig) and not file.isolated else []


def _reflecting_notices(file: RigFile) -> list[str]:
    return [
        f"{name} sends frames back: loss and delay are of both ways together, with what that host needs for each "
        "frame; on which way a frame was lost is not known"
        for name in reflecting_ports(file)
    ]


def _priority_notices(file: RigFile) -> list[str]:
    return [] if isinstance(file, SimulatedRig) or may_raise_priority() else [_NOT_PREFERRED]


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
        from harvok.rigs.simulated import device_of, impaired

        impaired(device_of(rig), file)


def _impairment_of(place: RigPlace) -> ImpairmentRecord | None:
    if isinstance(place.rig, SimulatedRig):
        asked = place.impairment
        return ImpairmentRecord(carried_out_by="model", impairment=asked) if asked else None
    if isinstance(place.rig, PortsRig):
        return at_work()
    file = place.impairment or base_impairment(place.rig)
    return ImpairmentRecord(carried_out_by="bridge", impairment=file) if file else None
