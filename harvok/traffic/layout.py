"""What stands in a sender's ring: the frames of one lap, their sizes and addresses in turn."""

import math

from harvok.core.wire.frame import MAX_SLOTS, Ends, build
from harvok.core.wire.frame_orders import SendOrder
from harvok.errors import UsageError
from harvok.traffic.rings import slot_bytes_for, slots_in_whole_pages

_RING_BYTES, _MIN_SLOTS = 8 << 20, 1024
_MAX_BATCH = 512
_BATCHES_A_SECOND = 30_000
_DELAYS_A_SECOND, _MAX_DELAY_ONE_IN = 100_000, 31
_BLOCKS, _HIGH_LOAD_FPS = 64, 200_000


def batch_for(load_fps: float, burst_frames: int) -> int:
    """How many frames go with one call: a power of two, so that some 30 000 calls a second do, or one burst."""
    if burst_frames > 1:
        return burst_frames
    batch = 1
    while batch < _MAX_BATCH and batch < load_fps / _BATCHES_A_SECOND:
        batch *= 2
    return batch


def blocks_for(load_fps: float) -> int:
    """How many blocks a receiving ring has: enough for stalls of a tenth of a second and more at any load."""
    return _BLOCKS if load_fps > _HIGH_LOAD_FPS else _BLOCKS // 2


def delay_one_in(load_fps: float) -> int:
    """Of how many frames the delay of one is counted, so that some 100 000 a second are: an odd number, which has no
    divisor in common with the size of a batch, so that frames at each place of a batch have their turn."""
    return min(int(load_fps / _DELAYS_A_SECOND), _MAX_DELAY_ONE_IN) | 1


def slots_for(largest_frame: int, batch: int, mix: int, pairs: int, taken_at_once: bool = False) -> int:
    """The length of a ring: some megabytes, two or more whole batches, whole turns of a mix, and room for every address
    pair.

    A card takes frames when it gets round to them. Virtual ports take them at once, on the sender's own core, so that
    half the length is enough, and what stays in that core's cache is sent faster.

    Raises UsageError when no ring is long enough for that.
    """
    slot_bytes = slot_bytes_for(largest_frame)
    wanted = min(max(_RING_BYTES // slot_bytes // 4, _MIN_SLOTS), 8192) // (2 if taken_at_once else 1)
    whole = mix * batch if mix > 1 else batch
    slots = slots_in_whole_pages(max(wanted, pairs, 2 * batch), slot_bytes, whole)
    if slots > MAX_SLOTS:
        raise UsageError(
            f"no sending ring holds bursts of {batch} frames of a mix of {mix} sizes over {pairs} address pairs",
            "Use bursts of 16, 64, 256 or 1024 frames (RFC 2544 §21), or fewer address pairs.",
        )
    return slots


def templates(order: SendOrder) -> list[bytes]:
    """The frames that a ring repeats, all with slot 0: one for each size with each pair of ends, as far as it goes."""
    sizes = order.frame_sizes
    ends = [
        Ends(bytes.fromhex(source), bytes.fromhex(to), source_ip, to_ip, source_port, to_port)
        for source, to, source_ip, to_ip, source_port, to_port in order.ends
    ]
    count = min(math.lcm(len(sizes), len(ends)), order.slots)
    return [
        build(sizes[n % len(sizes)], order.ip, ends[n % len(ends)], order.stream, 0, order.vlans, order.dscp)
        for n in range(count)
    ]
