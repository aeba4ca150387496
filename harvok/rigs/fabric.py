"""What a modelled switch has besides its queues: a fabric that all ports share, and a table of addresses.

A fabric forwards so many frames or bits in all, and loses the rest of each stream alike. With head-of-line blocking the
streams of a port wait in one queue, so that none of them is faster than its slowest. What is behind that is a queue at
each way out, which all streams to that port share.
"""

from collections.abc import Callable
from dataclasses import dataclass, field

from harvok.core.ends import Stream
from harvok.core.stream_frames import StreamFrames
from harvok.core.trials.frames import FrameTrial, LoadStep

PortsOf = Callable[[Stream], tuple[str, str]]


@dataclass(frozen=True, slots=True)
class Fabric:
    """What all ports together forward, in frames/s and in bits of frames a second; None means no limit."""

    forwards_fps: float | None = None
    forwards_bps: float | None = None
    head_of_line: bool = False

    def carried_share(self, load_fps: float, load_bps: float) -> float:
        """How much of all that comes in goes on."""
        shares = [
            limit / load
            for limit, load in ((self.forwards_fps, load_fps), (self.forwards_bps, load_bps))
            if limit is not None and load > limit
        ]
        return min(shares, default=1.0)


@dataclass(frozen=True, slots=True)
class Coming:
    """What of a stream reaches the queue of its way out, in a step: frames/s of its own, and of all streams there."""

    own_fps: float
    all_fps: float

    @property
    def share(self) -> float:
        """Its part of what the queue gets."""
        return self.own_fps / self.all_fps if self.all_fps else 0.0


def arrivals(
    trial: FrameTrial,
    step: LoadStep,
    fabric: Fabric,
    capacity_fps: Callable[[float], float],
    reaches: Callable[[Stream], float],
    ports_of: PortsOf,
) -> dict[str, Coming]:
    """What reaches each way out in a step, by stream. `capacity_fps` tells what a way out forwards of frames of a size,
    `reaches` which share of a stream is forwarded to its destination at all."""
    offered = {stream.name: trial.load_of(stream.name, step) for stream in trial.streams}
    bits = {name: load * _frame_bytes(trial, name) * 8 for name, load in offered.items()}
    carried = fabric.carried_share(sum(offered.values()), sum(bits.values()))
    coming = {stream.name: offered[stream.name] * carried * reaches(stream) for stream in trial.streams}
    if fabric.head_of_line:
        coming = _as_fast_as_the_slowest(trial, coming, capacity_fps, ports_of)
    queues = _by_way_out(trial, coming, ports_of)
    return {
        stream.name: Coming(coming[stream.name], sum(queues[ports_of(stream)[1]].values())) for stream in trial.streams
    }


def _as_fast_as_the_slowest(
    trial: FrameTrial, coming: dict[str, float], capacity_fps: Callable[[float], float], ports_of: PortsOf
) -> dict[str, float]:
    granted: dict[str, float] = {}
    for way_out, loads in _by_way_out(trial, coming, ports_of).items():
        total = sum(loads.values())
        size = sum(load * _frame_bytes(trial, name) for name, load in loads.items()) / total if total else 64.0
        granted[way_out] = min(capacity_fps(size) / total, 1.0) if total else 1.0
    slowest: dict[str, float] = {}
    for stream in trial.streams:
        source, destination = ports_of(stream)
        slowest[source] = min(slowest.get(source, 1.0), granted[destination])
    return {stream.name: coming[stream.name] * slowest[ports_of(stream)[0]] for stream in trial.streams}


def _by_way_out(trial: FrameTrial, coming: dict[str, float], ports_of: PortsOf) -> dict[str, dict[str, float]]:
    queues: dict[str, dict[str, float]] = {}
    for stream in trial.streams:
        queues.setdefault(ports_of(stream)[1], {})[stream.name] = coming[stream.name]
    return queues


def _frame_bytes(trial: FrameTrial, stream: str) -> float:
    return trial.frames(stream).mean_bytes(trial.frame_sizes)


@dataclass(frozen=True, slots=True)
class GroupTable:
    """What a switch does with groups: keeps `size` of them (None: any number; 0: it does not look, and floods them
    all), and begins and ends to forward so long after it was told."""

    size: int | None = None
    join_delay_s: float = 0.0
    leave_delay_s: float = 0.0

    def open_s(self, trial: FrameTrial, stream: Stream) -> tuple[float, float]:
        """From when to when of a trial its groups come out where a multicast stream ends."""
        if self.size == 0:
            return 0.0, trial.duration_s
        if stream.name in trial.bystanders:
            return 0.0, 0.0
        begins_s = 0.0 if trial.join_at_s is None else trial.join_at_s + self.join_delay_s
        ends_s = trial.duration_s if trial.leave_at_s is None else trial.leave_at_s + self.leave_delay_s
        return begins_s, min(ends_s, trial.duration_s)

    def reaches(self, trial: FrameTrial, stream: Stream) -> float:
        """The share of a multicast stream that comes out where it ends."""
        begins_s, ends_s = self.open_s(trial, stream)
        groups = trial.frames(stream.name).addresses or trial.address_pairs
        kept = min(self.size or groups, groups) / groups
        return max(ends_s - begins_s, 0.0) / trial.duration_s * kept


@dataclass(slots=True)
class AddressTable:
    """Where a switch knows addresses to be: `size` of them (None: any number), learned at `learns_per_s` at most, and
    forgotten after `aging_s` in which they said nothing. One place is that of the port that tests."""

    size: int | None = None
    learns_per_s: float | None = None
    aging_s: float = 300.0
    _known: dict[int, tuple[str, float, float]] = field(default_factory=dict)

    def learn(self, frames: StreamFrames, port: str, load_fps: float, at_s: float) -> None:
        """Sees a set of addresses come in at a port."""
        number = float(frames.addresses)
        if self.learns_per_s is not None and load_fps > self.learns_per_s:
            number *= self.learns_per_s / load_fps
        if self.size is not None:
            taken = sum(known for _, known, until_s in self._known.values() if until_s > at_s)
            number = min(number, max(self.size - 1 - taken, 0))
        self._known[frames.address_set] = (port, int(number), at_s + self.aging_s)

    def reaches(self, frames: StreamFrames, port: str, at_s: float) -> float:
        """The share of frames to a set of addresses that comes out at a port: all where they are, and elsewhere those
        that are not known, since these are flooded."""
        learned_at, known, until_s = self._known.get(frames.address_set, ("", 0, 0.0))
        if at_s >= until_s:
            return 1.0
        return 1.0 if port == learned_at else 1.0 - known / frames.addresses
