"""What stands in a sender's ring: the frames of one lap, their sizes and addresses in turn."""

from harvok.core.wire.frame_orders import SendOrder
from harvok.core.wire.test_frame import MOST_SLOTS, Ends, build
from harvok.traffic.rings import slot_bytes_for, slots_in_whole_pages

_RING_BYTES, _LEAST_SLOTS = 8 << 20, 1024
_MOST_BATCH = 64
_BATCHES_A_SECOND = 30_000


def batch_for(load_fps: float, burst_frames: int) -> int:
    """How many frames go with one call: a power of two, so that some 30 000 calls a second do, or one burst."""
    if burst_frames > 1:
        return burst_frames
    batch = 1
    while batch < _MOST_BATCH and batch < load_fps / _BATCHES_A_SECOND:
        batch *= 2
    return batch


def slots_for(largest_frame: int, batch: int, mix: int, pairs: int) -> int:
    """The length of a ring: some megabytes, whole batches, whole turns of a mix, and room for every address pair."""
    slot_bytes = slot_bytes_for(largest_frame)
    wanted = min(max(_RING_BYTES // slot_bytes // 4, _LEAST_SLOTS), 8192)
    whole = mix * batch if mix > 1 else batch
    return min(slots_in_whole_pages(max(wanted, pairs), slot_bytes, whole), MOST_SLOTS)


def lap_of_frames(order: SendOrder) -> list[bytes]:
    """The frames of one lap."""
    ends = [
        Ends(bytes.fromhex(source), bytes.fromhex(to), source_ip, to_ip, source_port, to_port)
        for source, to, source_ip, to_ip, source_port, to_port in order.ends
    ]
    sizes = order.frame_sizes
    return [
        build(sizes[slot % len(sizes)], order.ip, ends[slot % len(ends)], order.stream, slot)
        for slot in range(order.slots)
    ]
