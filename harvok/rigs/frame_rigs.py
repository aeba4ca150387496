"""Opens the rig that a file describes, whatever its kind: one row for each."""

import contextlib
from collections.abc import Iterator, Sequence
from typing import Protocol

from harvok.clock import Clock
from harvok.core.conditions import InterfaceFacts
from harvok.core.ends import TWO_WAY, Stream
from harvok.core.models.impairment import ImpairmentFile
from harvok.core.models.rig import PortsRig, RigFile, SimulatedRig, VirtualRig
from harvok.core.models.run import FrameRigRecord, PortsRigRecord, SimulatedRigRecord, VirtualRigRecord
from harvok.core.observer import Observer
from harvok.core.trials.frames import FrameTrial, FrameTrialResult
from harvok.core.units import format_speed
from harvok.core.wire.frame import FrameIp
from harvok.errors import PortError, UsageError


class FrameRig(Protocol):
    """Where frame trials run."""

    def check(self, sizes: Sequence[int], ip: FrameIp, pairs: int) -> None:
        """Raises UsageError for frames that the rig cannot carry."""

    def run(self, trial: FrameTrial, observer: Observer) -> FrameTrialResult:
        """Runs one trial to its end."""


@contextlib.contextmanager
def open_rig(
    file: RigFile, seed_offset: int, clock: Clock, impairment: ImpairmentFile | None = None
) -> Iterator[FrameRig]:
    """A rig that is ready for trials. Raises PortError or NearEndError when it cannot be.

    `seed_offset` makes the repeats of a simulated rig differ; `impairment` stands for that of the file, where the rig
    is of our own making.
    """
    if isinstance(file, SimulatedRig):
        from harvok.rigs.simulated import SimulatedPorts, device_of, impaired
        from harvok.rigs.simulated_device import FollowedModel

        device = device_of(file)
        asked = FollowedModel(file, file.agent) if file.agent else None
        yield SimulatedPorts(impaired(device, impairment) if impairment else device, file.seed + seed_offset, asked)
    elif isinstance(file, VirtualRig):
        from harvok.rigs.virtual import VirtualPorts

        with VirtualPorts(file, clock, impairment) as virtual:
            yield virtual
    else:
        from harvok.rigs.ports import FramePorts, Wiring

        facts = port_facts(file)
        mtu = min(fact.mtu_bytes or 1500 for fact in facts)
        interfaces = {name: port.interface for name, port in file.ports.items()}
        with FramePorts(Wiring(file.name, interfaces, file.sides, file.device, mtu), clock) as ports:
            yield ports


def record_of(file: RigFile) -> FrameRigRecord:
    """What a run keeps of its rig."""
    if isinstance(file, SimulatedRig):
        return SimulatedRigRecord(file=file)
    if isinstance(file, VirtualRig):
        return VirtualRigRecord(file=file)
    return PortsRigRecord(file=file, ports=port_facts(file))


def port_facts(file: PortsRig) -> list[InterfaceFacts]:
    """The interfaces of a rig. Raises PortError for one that cannot be a tester port."""
    return [_usable_port(port.interface, file.rated) for port in file.ports.values()]


def check_streams(file: RigFile, streams: Sequence[Stream]) -> None:
    """Raises UsageError for streams between ports that a rig does not have, and for a shorthand on one with more than
    two ports."""
    names = file.port_names
    known = [*names, "near", "far"] if len(names) == 2 else names
    for stream in streams:
        if stream.name in TWO_WAY and len(names) > 2:
            raise UsageError(
                f"{file.name} has {len(names)} ports, so {stream.name} does not say which two are meant",
                f"Name the streams, such as --stream {names[0]}:{names[2]}.",
            )
        for end in (stream.source, stream.destination):
            if end not in known:
                raise UsageError(f"{file.name} has no port {end}", f"Its ports are {', '.join(names)}.")


def problems_of(file: RigFile) -> list[str]:
    """What keeps a rig from being used on this host, in sentences; empty when nothing does."""
    problems = []
    for port in file.ports.values() if isinstance(file, PortsRig) else ():
        try:
            _usable_port(port.interface, file.rated)
        except PortError as error:
            problems.append(f"{error.message}. {error.hint}")
    return problems


def _usable_port(name: str, rated_bps: float) -> InterfaceFacts:
    from harvok.host.interfaces import port_that_is_up

    state = port_that_is_up(
        name,
        "Correct the rig file, or plug the adapter in.",
        "Test frames would flood that network: take a port that nothing else uses (RFC 6815).",
    )
    if not state.carrier:
        raise PortError(f"the interface {name} has no link", "Check the lead and the port at its other end.")
    speed = state.facts.negotiated_bps
    if speed and speed < rated_bps:
        raise PortError(
            f"{name} negotiated {format_speed(speed)}, and the rig is rated {format_speed(rated_bps)}",
            "Check the lead and the port; or correct `rated` in the rig file.",
        )
    return state.facts
