"""Which frames a receiving ring takes, decided by the kernel: a classic BPF program.

It looks at every frame of the stream for its length, and at every frame or one in so many for its content, word by word
(RFC 2544 §10 asks for both). It can only say what it found by how many bytes of a frame it lets through: one more of a
frame that is not as it was sent. The slots of the ring stay alike, since a slot is made of eights of bytes, and neither
number fills the last of them.
"""

import math
from collections.abc import Sequence

from harvok.core.ethernet import ETHERNET_HEADER_BYTES, FCS_BYTES, VLAN_TAG_BYTES
from harvok.core.wire.frame import (
    ETHERTYPE_OF,
    FILL,
    LAP_AND_STAMP_BYTES,
    FrameIp,
    ethertype_offset,
    header_offset,
    mark_bytes,
    mark_offset,
    slot_offset,
)
from harvok.traffic.packet_filter import Instruction

_LOAD_HALF, _LOAD_WORD, _LOAD_LENGTH, _AND, _IF_EQUAL, _IF_ABOVE, _GIVE, _GIVE_LOADED = (
    0x28, 0x20, 0x80, 0x54, 0x15, 0x35, 0x06, 0x16,
)  # fmt: skip
_WORDS_A_SECOND = 32e6
"""What the kernel reads besides receiving: a stream of 1 Gb/s whole, of a faster one every second frame or fewer."""
MAX_LANES = 8
"""How many receivers may share the frames of a stream: the number of each of its lanes differs from the others in the
lowest bits alone."""
MAX_WORDS = 512
"""Words that are read of a frame, evenly spread: a filter may not be longer than 4096 instructions."""


def snap_bytes(ip: FrameIp, tags: int = 0) -> int:
    """How much of a frame the ring keeps: all headers, lap and stamp."""
    return mark_offset(ip, tags) + LAP_AND_STAMP_BYTES


def corrupted_snap_bytes(ip: FrameIp, tags: int = 0) -> int:
    """How much it keeps of a frame that is not as it was sent."""
    return snap_bytes(ip, tags) + 1


def stream_filter(ip: FrameIp, stream: int, snap: int, tags: int = 0) -> list[Instruction]:
    """`snap` bytes of the frames of a stream, and nothing of any other."""
    return [*_of_stream(ip, stream, tags), (_GIVE, 0, 0, snap)]


def sampled_filter(ip: FrameIp, stream: int, every: int, tags: int = 0) -> list[Instruction]:
    """The frames of a stream whose slots have numbers that `every`, a power of two, divides."""
    chosen = [(_LOAD_HALF, 0, 0, slot_offset(ip, tags)), (_AND, 0, 0, every - 1), (_IF_EQUAL, 1, 0, 0)]
    return [*_of_stream(ip, stream, tags), *chosen, (_GIVE, 0, 0, 0), (_GIVE, 0, 0, snap_bytes(ip, tags))]


def one_in(load_fps: float, frame_bytes: float) -> int:
    """Of how many frames the content of one is read: a power of two, so that the slot's number tells."""
    wanted = load_fps * frame_bytes / 4 / _WORDS_A_SECOND
    return 1 << math.ceil(math.log2(max(wanted, 1.0)))


def intact_filter(
    ip: FrameIp,
    stream: int,
    frame_sizes: Sequence[int],
    read_one_in: int = 1,
    max_words: int = MAX_WORDS,
    tags: int = 0,
    lanes: int = 1,
) -> list[Instruction]:
    """The same, with one byte more of frames that have another length than any of `frame_sizes` (FCS counted, `tags`
    not), or another content, which is read of one in `read_one_in`. Of a stream in several `lanes` those of each."""
    lengths = sorted({size - FCS_BYTES + VLAN_TAG_BYTES * tags for size in frame_sizes})
    intact, corrupted = (_GIVE, 0, 0, snap_bytes(ip, tags)), (_GIVE, 0, 0, corrupted_snap_bytes(ip, tags))
    one_of_them = [(_LOAD_LENGTH, 0, 0, 0)]
    one_of_them += [(_IF_EQUAL, len(lengths) - number, 0, length) for number, length in enumerate(lengths)]
    words = _words(mark_offset(ip, tags) + mark_bytes(ip), lengths, max_words, intact, corrupted)
    few = [(_LOAD_HALF, 0, 0, slot_offset(ip, tags)), (_AND, 0, 0, read_one_in - 1), (_IF_EQUAL, 1, 0, 0), intact]
    own = _of_stream(ip, stream, tags, lanes)
    return [*own, *one_of_them, corrupted, *(few if read_one_in > 1 else []), *words, intact]


def lane_chooser(ip: FrameIp, tags: int = 0) -> list[Instruction]:
    """The number of a frame's stream, which the kernel takes modulo the number of receivers that share a port. Places
    count from behind the Ethernet header there."""
    return [(_LOAD_WORD, 0, 0, header_offset(ip, tags) - ETHERNET_HEADER_BYTES), (_GIVE_LOADED, 0, 0, 0)]


def _of_stream(ip: FrameIp, stream: int, tags: int, lanes: int = 1) -> list[Instruction]:
    nothing = (_GIVE, 0, 0, 0)
    any_lane = [(_AND, 0, 0, 0xFFFF_FFFF - (MAX_LANES - 1))] if lanes > 1 else []
    number = stream // MAX_LANES * MAX_LANES if lanes > 1 else stream
    return [
        (_LOAD_HALF, 0, 0, ethertype_offset(tags)), (_IF_EQUAL, 1, 0, ETHERTYPE_OF[ip]), nothing,
        (_LOAD_WORD, 0, 0, header_offset(ip, tags)), *any_lane, (_IF_EQUAL, 1, 0, number), nothing,
    ]  # fmt: skip


def _words(
    first: int, lengths: Sequence[int], max_words: int, intact: Instruction, corrupted: Instruction
) -> list[Instruction]:
    """Reads words behind the mark, as far as the frame goes: a load beyond its end would drop it."""
    program: list[Instruction] = []
    reached = 0
    every = range(first, lengths[-1] - 3, 4)
    for at in every[:: -(-len(every) // max_words) or 1] if max_words else ():
        if at + 4 > reached:
            reached = next(length for length in lengths if length >= at + 4)
            program += [(_LOAD_LENGTH, 0, 0, 0), (_IF_ABOVE, 1, 0, reached), intact]
        program += [(_LOAD_WORD, 0, 0, at), (_IF_EQUAL, 1, 0, FILL), corrupted]
    return program
