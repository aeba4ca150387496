"""Opens the rig that a file describes, whatever its kind: one row for each."""

import contextlib
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Protocol

from harvok.clock import Clock
from harvok.core.conditions import InterfaceFacts
from harvok.core.ends import TWO_WAY, Stream
from harvok.core.models.impairment import ImpairmentFile
from harvok.core.models.rig import PortsRig, RigFile, SimulatedRig, VirtualRig
from harvok.core.models.run import FrameRigRecord, PortsRigRecord, SimulatedRigRecord, VirtualRigRecord
from harvok.core.observer import Observer
from harvok.core.procedures.frames import FrameSettings
from harvok.core.trials.frames import FrameTrial, FrameTrialResult
from harvok.core.units import format_speed
from harvok.core.wire.frame import FrameIp
from harvok.errors import PortError, UsageError

if TYPE_CHECKING:
    from harvok.rigs.ports import FramePorts


@dataclass(frozen=True, slots=True)
class Asking:
    """How stations are asked for their ports: for about how long, how long to wait for a turn, and whom to tell."""

    planned_s: float = 600.0
    wait_s: float = 0.0
    notice: Callable[[str], None] = lambda _: None


class FrameRig(Protocol):
    """Where frame trials run."""

    def check(self, sizes: Sequence[int], ip: FrameIp, pairs: int) -> None:
        """Raises UsageError for frames that the rig cannot carry."""

    def run(self, trial: FrameTrial, observer: Observer) -> FrameTrialResult:
        """Runs one trial to its end."""


@contextlib.contextmanager
def open_rig(
    file: RigFile,
    seed_offset: int,
    clock: Clock,
    impairment: ImpairmentFile | None = None,
    asking: Asking = Asking(),
) -> Iterator[FrameRig]:
    """A rig that is ready for trials. Raises PortError or NearEndError when it cannot be.

    `seed_offset` makes the repeats of a simulated rig differ; `impairment` stands for that of the file, where the rig
    is of our own making.
    """
    if isinstance(file, SimulatedRig):
        from harvok.rigs.simulated import SimulatedPorts, device_of, fabric_of, impaired
        from harvok.rigs.simulated_device import FollowedModel

        device = device_of(file)
        asked = FollowedModel(file, file.agent) if file.agent else None
        whole = impaired(device, impairment) if impairment else device
        yield SimulatedPorts(whole, file.seed + seed_offset, asked, *fabric_of(file))
    elif isinstance(file, VirtualRig):
        from harvok.rigs.virtual import VirtualPorts

        with VirtualPorts(file, clock, impairment) as virtual:
            yield virtual
    else:
        with _open_ports(file, clock, asking) as ports:
            yield ports


@contextlib.contextmanager
def _open_ports(file: PortsRig, clock: Clock, asking: Asking) -> "Iterator[FramePorts]":
    """Interfaces of this host, and those that stations lend."""
    from harvok.rigs.lent import StationWorkers, stations_of
    from harvok.rigs.ports import FramePorts, Wiring

    with contextlib.ExitStack() as stack:
        stations = {
            name: stack.enter_context(StationWorkers(port, asking, clock)) for name, port in stations_of(file).items()
        }
        facts = [
            _fast_enough(stations[port.station].port_facts(port.interface), port.place, file.rated)
            if port.station
            else usable_port(port.interface, file.rated)
            for port in file.ports.values()
        ]
        wiring = Wiring(
            file.name,
            {name: port.interface for name, port in file.ports.items()},
            file.sides,
            file.device,
            min(fact.mtu_bytes or 1500 for fact in facts),
            places={name: port.station for name, port in file.ports.items() if port.station},
            facts=facts,
            reflecting=file.reflecting,
            workers=file.workers,
            sender=file.sender,
            card_clocks_within_s=file.card_clocks_within,
        )
        yield stack.enter_context(FramePorts(wiring, clock, elsewhere=stations))


def record_of(file: RigFile, rig: FrameRig | None = None) -> FrameRigRecord:
    """What a run keeps of its rig; of ports, as they are in the open rig."""
    if isinstance(file, SimulatedRig):
        return SimulatedRigRecord(file=file)
    if isinstance(file, VirtualRig):
        return VirtualRigRecord(file=file)
    from harvok.rigs.ports import FramePorts

    return PortsRigRecord(file=file, ports=list(rig.facts) if isinstance(rig, FramePorts) else [])


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
        if _named(file, stream.source) in reflecting_ports(file):
            raise UsageError(
                f"{stream.name}: {_named(file, stream.source)} sends back what it gets, and nothing else",
                "Let the stream end there, or leave `reflect` out of the rig file.",
            )


def reflecting_ports(file: RigFile) -> list[str]:
    """The ports of a rig that send frames back."""
    return file.reflecting if isinstance(file, PortsRig) else []


def _named(file: RigFile, end: str) -> str:
    """The name of a port, where it may be said as an end."""
    first, second, *_ = file.port_names
    return {"near": first, "far": second}.get(end, end)


def there_and_back(file: RigFile, settings: FrameSettings) -> FrameSettings:
    """The settings of a test on a rig, whose streams say so where their frames come back to the port that sent them:
    loss and delay are then of both ways together."""
    names = {
        stream.name: f"{stream.name} and back"
        for stream in settings.streams
        if _named(file, stream.destination) in reflecting_ports(file)
    }
    streams = tuple(replace(stream, name=names.get(stream.name, stream.name)) for stream in settings.streams)
    frames_of = {names.get(name, name): frames for name, frames in settings.frames_of.items()}
    return replace(settings, streams=streams, frames_of=frames_of)


def problems_of(file: RigFile) -> list[str]:
    """What keeps a rig from being used on this host, in sentences; empty when nothing does."""
    problems = []
    for port in file.ports.values() if isinstance(file, PortsRig) else ():
        if port.station:
            continue
        try:
            usable_port(port.interface, file.rated)
        except PortError as error:
            problems.append(f"{error.message}. {error.hint}")
    return problems


def usable_port(name: str, rated_bps: float) -> InterfaceFacts:
    """An interface of this host as a tester port. Raises PortError for one that cannot be one."""
    from harvok.host.interfaces import port_that_is_up

    state = port_that_is_up(
        name,
        "Correct the rig file, or plug the adapter in.",
        "Test frames would flood that network: take a port that nothing else uses (RFC 6815).",
    )
    if not state.carrier:
        raise PortError(f"the interface {name} has no link", "Check the lead and the port at its other end.")
    return _fast_enough(state.facts, name, rated_bps)


def _fast_enough(port: InterfaceFacts, name: str, rated_bps: float) -> InterfaceFacts:
    speed = port.negotiated_bps
    if speed and speed < rated_bps:
        raise PortError(
            f"{name} negotiated {format_speed(speed)}, and the rig is rated {format_speed(rated_bps)}",
            "Check the lead and the port; or correct `rated` in the rig file.",
        )
    return port
