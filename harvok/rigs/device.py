"""A model of a forwarding device in virtual time: one queue for each direction, exact and free of any clock.

Frames arrive evenly at the offered load and leave evenly at the capacity; what does not fit into the buffer is lost.
The queue is followed as a fluid, stretch by stretch between the moments at which something changes, so a trial of a
minute costs a microsecond and the result is exact to the frame.
"""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from itertools import pairwise

from harvok.core.ethernet import LINE_OVERHEAD_BYTES
from harvok.core.trials.frames import LoadStep

_ALMOST = 1e-9  # of a frame: what rounding may leave behind in a sum of floats


@dataclass(frozen=True, slots=True)
class Device:
    """What a simulated device can do. None means no limit of that kind.

    `forwarding_fps` and `forwarding_bps` (frames, without preamble and gap) bound each direction; the buffer holds
    `buffer_frames`, or `buffer_bytes`. Latency is the device's own: last bit in to first bit out for store-and-forward,
    first bit in to first bit out otherwise (RFC 1242 §3.8). Every `burst_every_s` the device loses all frames for
    `burst_s`. After `hot_after_s` under load its capacity falls to the share `hot_share`. A reset takes `reset_s`.
    """

    port_bps: float
    forwarding_fps: float | None = None
    forwarding_bps: float | None = None
    buffer_frames: float | None = None
    buffer_bytes: float | None = None
    latency_s: float = 0.0
    jitter_s: float = 0.0
    store_and_forward: bool = True
    loss: float = 0.0
    reordering: float = 0.0
    duplication: float = 0.0
    corruption: float = 0.0
    burst_every_s: float | None = None
    burst_s: float = 0.0
    hot_after_s: float | None = None
    hot_share: float = 1.0
    reset_s: float = 0.0

    def line_fps(self, size_bytes: float) -> float:
        """The line rate of a port in frames/s."""
        return self.port_bps / (8 * (size_bytes + LINE_OVERHEAD_BYTES))

    def capacity_fps(self, size_bytes: float) -> float:
        """What the device forwards when it is cold."""
        limits = [self.line_fps(size_bytes)]
        if self.forwarding_fps is not None:
            limits.append(self.forwarding_fps)
        if self.forwarding_bps is not None:
            limits.append(self.forwarding_bps / (8 * size_bytes))
        return min(limits)

    def room_frames(self, size_bytes: float) -> float:
        """How many frames the buffer holds."""
        room = [self.buffer_frames] if self.buffer_frames is not None else []
        if self.buffer_bytes is not None:
            room.append(self.buffer_bytes / size_bytes)
        return min(room, default=float("inf"))

    def transit_s(self, size_bytes: float) -> float:
        """Time through the empty device, first bit in to first bit out."""
        serial_s = size_bytes * 8 / self.port_bps if self.store_and_forward else 0.0
        return serial_s + self.latency_s


@dataclass(frozen=True, slots=True)
class Stretch:
    """A stretch of time in which nothing changes: load, capacity, and the queue at both ends in frames."""

    start_s: float
    end_s: float
    load_fps: float
    capacity_fps: float
    queue_at_start: float
    queue_at_end: float
    lost: float
    lossy_from_s: float | None


def follow(
    device: Device, size_bytes: float, steps: Sequence[LoadStep], reset_at_s: float | None = None
) -> Iterator[Stretch]:
    """Follows the queue of one direction through a trial."""
    room, queue = device.room_frames(size_bytes), 0.0
    for start_s, end_s, load_fps in _stretches(device, steps, reset_at_s):
        dead = _is_dead(device, start_s, reset_at_s)
        capacity_fps = 0.0 if dead else _capacity(device, size_bytes, start_s)
        if dead:
            stretch = Stretch(start_s, end_s, load_fps, 0.0, queue, 0.0, load_fps * (end_s - start_s), start_s)
        else:
            stretch = _fill(start_s, end_s, load_fps, capacity_fps, queue, room)
        yield stretch
        queue = stretch.queue_at_end


def _fill(start_s: float, end_s: float, load_fps: float, capacity_fps: float, queue: float, room: float) -> Stretch:
    length_s, growth_fps = end_s - start_s, load_fps - capacity_fps
    if growth_fps <= 0:
        return Stretch(
            start_s, end_s, load_fps, capacity_fps, queue, max(queue + growth_fps * length_s, 0.0), 0.0, None
        )
    full_after_s = (room - queue) / growth_fps
    if full_after_s >= length_s:
        return Stretch(start_s, end_s, load_fps, capacity_fps, queue, queue + growth_fps * length_s, 0.0, None)
    lost = growth_fps * (length_s - full_after_s)
    return Stretch(start_s, end_s, load_fps, capacity_fps, queue, room, lost, start_s + full_after_s)


def _stretches(
    device: Device, steps: Sequence[LoadStep], reset_at_s: float | None
) -> Iterator[tuple[float, float, float]]:
    """(start, end, load) between all moments at which load or capacity change."""
    total_s = sum(step.duration_s for step in steps)
    moments = {0.0, total_s, device.hot_after_s}
    if reset_at_s is not None:
        moments |= {reset_at_s, reset_at_s + device.reset_s}
    if device.burst_every_s:
        number = 1
        while number * device.burst_every_s < total_s:
            moments |= {number * device.burst_every_s, number * device.burst_every_s + device.burst_s}
            number += 1
    at_s = 0.0
    for step in steps:
        moments.add(at_s := at_s + step.duration_s)
    inside = sorted(m for m in moments if m is not None and 0 <= m <= total_s)
    for start_s, end_s in pairwise(inside):
        if end_s > start_s:
            yield start_s, end_s, _load_at(steps, (start_s + end_s) / 2)


def _load_at(steps: Sequence[LoadStep], at_s: float) -> float:
    end_s = 0.0
    for step in steps:
        end_s += step.duration_s
        if at_s < end_s:
            return step.load_fps
    return 0.0


def _is_dead(device: Device, at_s: float, reset_at_s: float | None) -> bool:
    if reset_at_s is not None and reset_at_s <= at_s < reset_at_s + device.reset_s:
        return True
    if not device.burst_every_s or at_s < device.burst_every_s:
        return False
    return at_s % device.burst_every_s < device.burst_s - _ALMOST


def _capacity(device: Device, size_bytes: float, at_s: float) -> float:
    hot = device.hot_after_s is not None and at_s >= device.hot_after_s
    return device.capacity_fps(size_bytes) * (device.hot_share if hot else 1.0)


def whole_frames(fluid: float) -> int:
    """A fluid amount in whole frames."""
    return int(fluid + _ALMOST * max(fluid, 1.0))


_LATE_S = 2.0
"""After the last frame was sent, the receivers wait this long for those that are still under way (RFC 2544 §23)."""


def late_frames(last: Stretch) -> float:
    """How many frames are still in the queue when the receivers stop waiting, after the last stretch of a trial."""
    return max(last.queue_at_end - _LATE_S * last.capacity_fps, 0.0)


def carries(device: Device, size_bytes: float, load_fps: float, duration_s: float) -> bool:
    """Whether the device, left alone by chance, loses nothing at a load: the truth that a search is held against."""
    stretches = list(follow(device, size_bytes, [LoadStep(load_fps, duration_s)]))
    return not whole_frames(late_frames(stretches[-1])) and not any(whole_frames(one.lost) for one in stretches)
