"""Finds what this tester was calibrated to on a rig."""

import socket
from dataclasses import dataclass, replace
from typing import Any

from harvok.core.conditions import HostConditions
from harvok.core.kinds.app import mix_conditions
from harvok.core.models.rig import PortsRig, RigFile, VirtualRig
from harvok.core.models.run import PortsRigRecord, RunRecord, VirtualRigRecord
from harvok.core.procedures.frames import FrameSettings
from harvok.logbook.store import Logbook

_LOOK_BACK = 20


@dataclass(frozen=True, slots=True)
class Calibrated:
    """A test with what a calibration says of the tester, and which run that is; None without one."""

    test: Any
    run: str | None = None


def latest_calibration(logbook: Logbook, rig: RigFile, settings: FrameSettings) -> RunRecord | None:
    """The newest complete calibration of this host on the same ports, in the same directions, with the same kind of
    frames; None when there is none."""
    for record in logbook.newest_of("calibration", _LOOK_BACK):
        test = record.test
        if (
            record.near.name == socket.gethostname()
            and test.settings.streams == settings.streams
            and test.settings.ip_version == settings.ip_version
            and _same_ports(record, rig)
        ):
            return record
    return None


def calibration_of_ports(logbook: Logbook, rig: RigFile) -> RunRecord | None:
    """The newest complete calibration of this host on the same ports, whatever was sent; None when there is none."""
    every = logbook.newest_of("calibration", _LOOK_BACK)
    return next((one for one in every if one.near.name == socket.gethostname() and _same_ports(one, rig)), None)


def _same_ports(record: RunRecord, rig: RigFile) -> bool:
    there = record.rig
    if isinstance(rig, VirtualRig):
        return isinstance(there, VirtualRigRecord) and there.file.mtu == rig.mtu and there.file.rated >= rig.rated
    if not isinstance(there, PortsRigRecord) or not isinstance(rig, PortsRig):
        return False
    ports = [{port.place for port in file.ports.values()} for file in (there.file, rig)]
    return ports[0] == ports[1] and there.file.rated == rig.rated


def with_app_calibration(test: Any, near: HostConditions, far: HostConditions, logbook: Logbook) -> Calibrated:
    """A test of application traffic with what the same two hosts were calibrated to for the same mix, if that was a
    limit of theirs; any other test as it is."""
    if test.kind != "app":
        return Calibrated(test)
    wanted = dict(mix_conditions(test.trial.mix))
    for record in logbook.newest_of("app-calibration", _LOOK_BACK):
        limit = next((figure.value for figure in record.figures if figure.mark == "tester-limit"), None)
        ends = (record.near.name, record.far.name if record.far else "")
        if ends == (near.name, far.name) and limit and dict(mix_conditions(record.test.trial.mix)) == wanted:
            return Calibrated(replace(test, tester_per_s=limit), record.id)
    return Calibrated(test)


def limits_of(calibration: RunRecord) -> dict[str, float]:
    """The tester's limit in frames/s by frame size."""
    return {f.labels["frame-size"]: f.value for f in calibration.figures if f.quantity == "tester-limit"}


def floors_of(calibration: RunRecord) -> dict[str, float]:
    """The tester's own median delay in seconds by frame size."""
    return {f.labels["frame-size"]: f.value for f in calibration.figures if f.quantity == "delay-floor-median"}
