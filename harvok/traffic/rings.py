"""Packet rings of Linux (AF_PACKET, uapi linux/if_packet.h): memory shared with the kernel, seen as NumPy arrays.

The sending ring is of version 2 with a virtio header before each frame, whose `hdr_len` makes the kernel copy the frame
into one linear buffer, which is faster than mapping pages. The receiving ring is of version 3: whole blocks of
frames, cut by a classic BPF filter to one length, so that a block is an array with one stride.
"""

import errno
import mmap
import socket
import struct
import sys
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from typing import Any, NamedTuple, Protocol

import numpy as np
from numpy.typing import NDArray

from harvok.core.ethernet import FCS_BYTES, VLAN_TAG_BYTES
from harvok.core.wire.frame import (
    ETHERTYPE_OF,
    MORE_FRAGMENTS,
    FrameIp,
    fragment_offset,
    header_offset,
    mark_bytes,
    mark_offset,
    slot_offset,
    udp6_checksum_offset,
)
from harvok.errors import NearEndError
from harvok.traffic.packet_filter import attach_filter, share_by
from harvok.traffic.stream_filter import (
    MAX_WORDS,
    corrupted_snap_bytes,
    intact_filter,
    lane_chooser,
    snap_bytes,
    stream_filter,
)

SOL_PACKET = 263
_ADD_MEMBERSHIP, _PROMISCUOUS = 1, 1
_RX_RING, _STATISTICS, _VERSION, _TX_RING, _LOSS, _VNET_HDR, IGNORE_OUTGOING = 5, 6, 10, 13, 14, 15, 23
_V2, _V3 = 1, 2
EVERY_PROTOCOL = 0x0003
_FREE, SEND_REQUEST = 0, 1  # TP_STATUS_AVAILABLE, TP_STATUS_SEND_REQUEST
_WITH_USER = 1
MSG_DONTWAIT = int(socket.MSG_DONTWAIT)
_PAGE = 4096

PACKET_RING = "packet ring"
_SLOT_HEADER, _VNET_BYTES = 32, 10
_V2_DATA = _SLOT_HEADER + _VNET_BYTES
SLOT_OVERHEAD = _V2_DATA

_BLOCK_BYTES, _RETIRE_MS = 1 << 20, 8
"""Of a receiving ring. What a block costs is the same for a hundred frames and for thousands."""
_SNAP_OFFSET_IN_V3 = 82  # netoff 96 less 14 bytes of Ethernet header


def open_packet_socket(interface: str) -> socket.socket:
    """A raw packet socket that hears nothing yet. Raises NearEndError without the rights for it."""
    try:
        return socket.socket(socket.AF_PACKET, socket.SOCK_RAW, 0)
    except PermissionError as error:
        raise NearEndError(
            f"sending frames on {interface} needs the right to open packet sockets",
            "Run Harvok as root, or give Python the capability CAP_NET_RAW; a virtual rig needs neither.",
        ) from error


def bind(sock: socket.socket, interface: str, protocol: int) -> None:
    """Binds a packet socket, or closes it. Raises NearEndError when there is no such interface."""
    try:
        sock.bind((interface, protocol))
    except OSError as error:
        sock.close()
        if error.errno == errno.ENODEV:
            raise NearEndError(
                f"there is no interface {interface}", "`harvok ports` lists them; correct what names it."
            ) from error
        raise


class Lap(NamedTuple):
    """The batches of one lap of a sending ring: how many; the marks of each, to be written; whether the kernel still
    holds slots of one; and what marks so many frames of one for sending, which goes round the ring batch by batch."""

    turns: int
    marks: list[NDArray[Any]]
    is_held: Callable[[int], object]
    request: Callable[[int, int], None]


class SendingRing(Protocol):
    """A ring of frames that are sent again and again."""

    @property
    def slots(self) -> int: ...

    @property
    def socket(self) -> socket.socket: ...

    @property
    def give(self) -> Callable[[bytes, int], int]: ...

    @property
    def about(self) -> str:
        """What carries the frames: PACKET_RING or another."""

    def lap(self, batch: int) -> Lap: ...

    def part(self, first: int, last: int) -> Lap: ...

    def send(self) -> None: ...

    def check(self, error: OSError) -> None: ...

    def pending(self) -> int: ...

    def close(self) -> None: ...


class SendRing:
    """Frames laid out once, and then sent again and again, lap after lap, with a new mark each time.

    A lap is `slots` frames: those of `frames` in turn, each with the number of its slot. Slots are all as large as the
    largest frame needs.
    """

    def __init__(self, interface: str, frames: Sequence[bytes], slots: int, ip: FrameIp, tags: int = 0) -> None:
        slot_bytes = slot_bytes_for(max(map(len, frames)))
        size = -(-slots * slot_bytes // _PAGE) * _PAGE
        if size // slot_bytes != slots:
            raise ValueError(f"{slots} slots of {slot_bytes} B do not fill whole pages")
        self.slots, self.about = slots, PACKET_RING
        self._sock = self.socket = open_packet_socket(interface)
        self._sock.setsockopt(SOL_PACKET, _VERSION, _V2)
        self._sock.setsockopt(SOL_PACKET, _VNET_HDR, 1)
        self._sock.setsockopt(SOL_PACKET, _LOSS, 1)
        request = struct.pack("IIII", size, 1, slot_bytes, slots)
        self._sock.setsockopt(SOL_PACKET, _TX_RING, request)
        self._map = mmap.mmap(self._sock.fileno(), size, mmap.MAP_SHARED, mmap.PROT_READ | mmap.PROT_WRITE)
        memory = np.frombuffer(self._map, dtype=np.uint8).reshape(self.slots, slot_bytes)
        self._fill(memory, frames, ip, tags)
        lap = memory.reshape(-1).view(mark_layout(ip, tags, _V2_DATA, slot_bytes))
        self._status: NDArray[np.uint32] = lap["status"]
        self._mark: NDArray[Any] = lap["mark"]
        self.give: Callable[[bytes, int], int] = self._sock.send
        """What `send` calls, bare, for a loop that has no time for more: with b"" and MSG_DONTWAIT."""
        bind(self._sock, interface, 0)

    def lap(self, batch: int) -> "Lap":
        """The batches of a lap: cutting views of them takes longer than sending."""
        return self._cut([slice(at, at + batch) for at in range(0, self.slots - batch + 1, batch)], batch)

    def part(self, first: int, last: int) -> "Lap":
        """Some slots alone, as a single batch."""
        return self._cut([slice(first, last)], last - first)

    def _cut(self, places: Sequence[slice], batch: int) -> "Lap":
        count, status = np.count_nonzero, [self._status[place] for place in places]

        def request(at: int, frames: int) -> None:
            (status[at] if frames == batch else status[at][:frames]).fill(SEND_REQUEST)

        marks = [self._mark[place] for place in places]
        return Lap(len(status), marks, lambda at: count(status[at]), request)

    def _fill(self, memory: NDArray[np.uint8], frames: Sequence[bytes], ip: FrameIp, tags: int) -> None:
        for turn, frame in enumerate(frames):
            vnet = struct.pack("<BBHHHH", 0, 0, len(frame), 0, 0, 0)
            head = struct.pack("<II", _FREE, _VNET_BYTES + len(frame)).ljust(_SLOT_HEADER, b"\0") + vnet
            memory[turn :: len(frames), : len(head)] = np.frombuffer(head, dtype=np.uint8)
        lay_out(memory[:, _V2_DATA:], frames, ip, tags)

    def send(self) -> None:
        """Tells the kernel to take what was marked for sending; what it cannot take now stays marked.

        Never waits: a sender that waits is throttled by the device under test. Raises NearEndError when the port is
        down.
        """
        try:
            self.give(b"", MSG_DONTWAIT)
        except OSError as error:
            self.check(error)

    def check(self, error: OSError) -> None:
        """Raises what is more than a ring that is full. Raises NearEndError when the port is down."""
        check_sending(error)

    def pending(self) -> int:
        """How many slots the kernel has not yet taken."""
        return int((self._status == SEND_REQUEST).sum())

    def close(self) -> None:
        del self._status, self._mark
        self._sock.close()


def check_sending(error: OSError) -> None:
    """Raises what is more than a ring that is full. Raises NearEndError when the port is down."""
    if error.errno in (errno.ENETDOWN, errno.ENXIO, errno.ENODEV):
        raise NearEndError("the sending port went down", "Check the lead and the port.") from error
    if error.errno not in (errno.EAGAIN, errno.ENOBUFS):
        raise error


def lay_out(memory: NDArray[np.uint8], frames: Sequence[bytes], ip: FrameIp, tags: int) -> None:
    """Writes frames into the slots of a ring in turn, each with the number of its slot. `memory` has a row for each
    slot, from the first byte of its frame on."""
    for turn, frame in enumerate(frames):
        memory[turn :: len(frames), : len(frame)] = np.frombuffer(frame, dtype=np.uint8)
    numbers = np.arange(len(memory))
    _write_words(memory, slot_offset(ip, tags), numbers)
    if ip == 6:
        at = udp6_checksum_offset(tags)
        total = (~_read_words(memory, at) & 0xFFFF) + numbers
        checksum = ~((total & 0xFFFF) + (total >> 16)) & 0xFFFF
        _write_words(memory, at, np.where(checksum, checksum, 0xFFFF))


def mark_layout(ip: FrameIp, tags: int, frame_at: int, slot_bytes: int) -> np.dtype[Any]:
    """Where the status word of a slot stands, if it has one, and the mark of its frame."""
    return np.dtype(
        {
            "names": ["status", "mark"],
            "formats": ["<u4", np.dtype((np.void, mark_bytes(ip)))],
            "offsets": [0, frame_at + mark_offset(ip, tags)],
            "itemsize": slot_bytes,
        }
    )


def _write_words(memory: NDArray[np.uint8], at: int, values: NDArray[Any]) -> None:
    """Writes a 16-bit word, big-endian, at the same place of every slot."""
    memory[:, at], memory[:, at + 1] = values >> 8, values & 0xFF


def _read_words(memory: NDArray[np.uint8], at: int) -> NDArray[np.int64]:
    """The 16-bit word, big-endian, at the same place of every slot."""
    words: NDArray[np.int64] = (memory[:, at].astype(np.int64) << 8) | memory[:, at + 1]
    return words


def slot_bytes_for(frame_bytes: int) -> int:
    """The size of a slot: a power of two, at least 128 B."""
    return max(1 << (SLOT_OVERHEAD + frame_bytes - 1).bit_length(), 128)


def slots_in_whole_pages(wanted: int, slot_bytes: int, multiple_of: int) -> int:
    """The number of slots nearest above `wanted` that is a multiple and fills whole pages."""
    a_page = max(_PAGE // slot_bytes, 1)
    step = int(np.lcm(a_page, multiple_of))
    return -(-wanted // step) * step


@dataclass(slots=True)
class CorruptedFrames:
    """How many frames came and were not as they were sent: in pieces, of another length, with another content."""

    fragments: int = 0
    wrong_length: int = 0
    altered: int = 0

    @property
    def frames(self) -> int:
        return self.fragments + self.wrong_length + self.altered


class Block:
    """The frames of a block, in the order of arrival; each field is gathered from the ring when it is asked for."""

    def __init__(self, frames: NDArray[Any]) -> None:
        self._frames = frames

    def __len__(self) -> int:
        return len(self._frames)

    def part(self, start: int, end: int) -> "Block":
        """Some of the frames, from one place to before another."""
        return Block(self._frames[start:end])

    def is_run(self, first: int, slots: int, raw_slots: NDArray[np.uint16]) -> bool:
        """Whether the numbers follow one upon the other from `first` on, given how many slots a lap has and the numbers
        of the slots as frames carry them. Compares bytes as they came, which costs a tenth of making numbers of them.
        False, too, for a block of several whole laps, which it does not look through."""
        lap, slot = divmod(first, slots)
        in_lap = min(len(self), slots - slot)
        if len(self) - in_lap > slots:
            return False
        laps, came = self._frames["raw_lap"], self._frames["raw_slot"]
        return (
            not np.count_nonzero(laps[:in_lap] != _raw_lap(lap))
            and not np.count_nonzero(came[:in_lap] != raw_slots[slot : slot + in_lap])
            and not np.count_nonzero(laps[in_lap:] != _raw_lap(lap + 1))
            and not np.count_nonzero(came[in_lap:] != raw_slots[: len(self) - in_lap])
        )

    def numbers(self, slots: int) -> NDArray[np.int64]:
        """Sequence numbers, given how many slots a lap has."""
        numbers: NDArray[np.int64] = self._frames["lap"].astype(np.int64)
        numbers *= slots
        numbers += self._frames["slot"]
        return numbers

    def at_ns(self) -> NDArray[np.int64]:
        """When this host's kernel received each frame."""
        at_ns: NDArray[np.int64] = self._frames["ns"].astype(np.int64)
        seconds = self._frames["s"]
        if seconds[0] == seconds[-1]:
            at_ns += int(seconds[0]) * 1_000_000_000
        else:
            at_ns += seconds.astype(np.int64) * 1_000_000_000
        return at_ns

    def stream(self) -> int:
        """The number of the stream, or lane of one, that the frames are of."""
        return int(self._frames["stream"][0])

    def stamped_each(self) -> bool:
        """Whether each frame has a stamp of its own, and not that of its batch: those of the kernel are odd."""
        return bool(int(self._frames["stamp"][0]) & 1)

    def stamp_ns(self, which: Any) -> NDArray[np.int64]:
        """When some frames left, or the sender handed over their batch."""
        stamps: NDArray[np.int64] = self._frames["stamp"][which].astype(np.int64)
        return stamps


def raw_slots(slots: int) -> NDArray[np.uint16]:
    """The numbers of a lap's slots as frames carry them, in the order of bytes of the wire."""
    return np.arange(slots).astype(">u2").view(np.uint16)


def _raw_lap(lap: int) -> int:
    return int.from_bytes((lap & 0xFFFFFFFF).to_bytes(4, "big"), sys.byteorder)


class ReceiveRing:
    """Hears the frames of one stream on one port, and nothing else, or shares them with the other receivers of a
    `group`, each of which gets one of as many `lanes`, whichever; those that are not as they were sent are only
    counted, in `corrupted`."""

    def __init__(
        self,
        interface: str,
        ip: FrameIp,
        stream: int,
        frame_sizes: Sequence[int],
        read_one_in: int,
        blocks: int,
        tags: int = 0,
        lanes: int = 1,
        group: int = 0,
    ) -> None:
        self._blocks = blocks
        self._sock = open_packet_socket(interface)
        self._sock.setsockopt(SOL_PACKET, _VERSION, _V3)
        self._sock.setsockopt(SOL_PACKET, IGNORE_OUTGOING, 1)
        snap = snap_bytes(ip, tags)
        _attach_intact_filter(self._sock, ip, stream, frame_sizes, read_one_in, tags, lanes)
        frame_bytes = 2048
        request = struct.pack(
            "IIIIIII", _BLOCK_BYTES, blocks, frame_bytes, _BLOCK_BYTES // frame_bytes * blocks, _RETIRE_MS, 0, 0
        )
        self._sock.setsockopt(SOL_PACKET, _RX_RING, request)
        self._map = mmap.mmap(
            self._sock.fileno(), _BLOCK_BYTES * blocks, mmap.MAP_SHARED, mmap.PROT_READ | mmap.PROT_WRITE
        )
        self._memory = np.frombuffer(self._map, dtype=np.uint8)
        self._status = self._memory[8:].view("<u4")[:: _BLOCK_BYTES // 4][:blocks]
        stride = -(-(_SNAP_OFFSET_IN_V3 + snap) // 8) * 8
        test, fragment = _SNAP_OFFSET_IN_V3 + header_offset(ip, tags), _SNAP_OFFSET_IN_V3 + fragment_offset(tags)
        self._layout = np.dtype(
            {
                "names": [
                    "next",
                    "s",
                    "ns",
                    "kept",
                    "length",
                    "fragment",
                    "slot",
                    "lap",
                    "stamp",
                    "raw_slot",
                    "raw_lap",
                    "stream",
                ],
                "formats": ["<u4", "<u4", "<u4", "<u4", "<u4", ">u2", ">u2", ">u4", ">u8", "u2", "u4", ">u4"],
                "offsets": [0, 4, 8, 12, 16, fragment, test + 4, test + 6, test + 10, test + 4, test + 6, test],
                "itemsize": stride,
            }
        )
        self.corrupted = CorruptedFrames()
        self._ip, self._tags = ip, tags
        self._lengths = np.array([size - FCS_BYTES + VLAN_TAG_BYTES * tags for size in frame_sizes])
        self._at = 0
        bind(self._sock, interface, EVERY_PROTOCOL)
        listen_to_everything(self._sock, interface)
        if lanes > 1:
            share_by(self._sock, group, lane_chooser(ip, tags))

    def fileno(self) -> int:
        """Readable when a block is full."""
        return self._sock.fileno()

    def blocks(self) -> Iterator[Block]:
        """The blocks that are full by now, oldest first."""
        while self._status[self._at] & _WITH_USER:
            if len(block := self._intact(self._read(self._at * _BLOCK_BYTES))):
                yield block
            self._status[self._at] = 0
            self._at = (self._at + 1) % self._blocks

    def _intact(self, frames: NDArray[Any]) -> Block:
        """The frames of a block that are as they were sent."""
        corrupted = frames["kept"] == corrupted_snap_bytes(self._ip, self._tags)
        if not np.count_nonzero(corrupted):
            return Block(frames)
        lengths, fragments = frames["length"][corrupted], frames["fragment"][corrupted] & MORE_FRAGMENTS
        in_pieces = (fragments != 0) if self._ip == 4 else np.zeros(len(lengths), bool)
        altered = np.isin(lengths, self._lengths) & ~in_pieces
        self.corrupted.fragments += int(in_pieces.sum())
        self.corrupted.altered += int(altered.sum())
        self.corrupted.wrong_length += len(lengths) - int((in_pieces | altered).sum())
        return Block(frames[~corrupted])

    def _read(self, start: int) -> NDArray[Any]:
        count, first = self._memory[start + 12 : start + 20].view("<u4")
        size = self._layout.itemsize * int(count)
        frames: NDArray[Any] = self._memory[start + int(first) :][:size].view(self._layout)
        if count > 1 and int(frames["next"][0]) != self._layout.itemsize:
            raise NearEndError(
                "this kernel lays out receive rings in a way unknown here", "Report the kernel's version."
            )
        return frames

    def drops(self) -> int:
        """Frames that found the ring full since this was last asked."""
        return statistics(self._sock)[1]

    def close(self) -> None:
        del self._status, self._memory
        self._sock.close()


def listen_to_everything(sock: socket.socket, interface: str) -> None:
    """Lets the port take frames for any address, as long as the socket lives."""
    index = socket.if_nametoindex(interface)
    sock.setsockopt(SOL_PACKET, _ADD_MEMBERSHIP, struct.pack("iHH8s", index, _PROMISCUOUS, 0, b""))


def counting_socket(interface: str, ip: FrameIp, stream: int, tags: int = 0) -> socket.socket:
    """A socket that only counts: how many frames of a stream come in on a port; see `statistics`. Where it can, it asks
    for one protocol alone: a socket that asks for every one has the kernel look at each frame that the port sends."""
    sock = open_packet_socket(interface)
    sock.setsockopt(SOL_PACKET, IGNORE_OUTGOING, 1)
    sock.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 4096)
    attach_filter(sock, stream_filter(ip, stream, 64, tags))
    bind(sock, interface, EVERY_PROTOCOL if tags else ETHERTYPE_OF[ip])
    return sock


def statistics(sock: socket.socket) -> tuple[int, int]:
    """(frames that passed the filter, those of them that were dropped) since this was last asked."""
    packets, drops = struct.unpack("II", sock.getsockopt(SOL_PACKET, _STATISTICS, 12)[:8])
    return packets, drops


def _attach_intact_filter(
    sock: socket.socket, ip: FrameIp, stream: int, frame_sizes: Sequence[int], read_one_in: int, tags: int, lanes: int
) -> None:
    """As long a filter as the kernel grants memory for: 20 kB by default before Linux 6.9 (net.core.optmem_max)."""
    words = MAX_WORDS
    while True:
        try:
            return attach_filter(sock, intact_filter(ip, stream, frame_sizes, read_one_in, words, tags, lanes))
        except OSError as error:
            if error.errno != errno.ENOMEM or not words:
                raise
        words //= 2
