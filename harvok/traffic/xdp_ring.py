"""A sending ring of the express data path (AF_XDP, uapi linux/if_xdp.h): frames lie in memory that the card's driver
reads itself where it can, and go past the kernel's queues. Receiving stays with packet rings: it was slower this way.

A socket has memory for frames and rings of 16-byte descriptors over them. Each descriptor is written once; afterwards
only the index moves up to which frames are to be sent.
"""

import ctypes
import errno
import mmap
import os
import resource
import socket
import struct
import sys
from collections.abc import Callable, Sequence
from contextlib import suppress
from typing import Any

import numpy as np
from numpy.typing import NDArray

from harvok.core.wire.frame import FrameIp
from harvok.traffic.rings import MSG_DONTWAIT, Lap, check_sending, lay_out, mark_layout, open_packet_socket

_AF_XDP, _SOL_XDP = 44, 283
_OFFSETS, _TX_RING, _UMEM, _FILL_RING, _DONE_RING, _CALL_BUDGET = 1, 3, 4, 5, 6, 9
_COPY, _ZERO_COPY, _WAKE = 1 << 1, 1 << 2, 1 << 3
_TX_AT, _DONE_AT = 0x8000_0000, 0x1_8000_0000  # where rings are mapped from
_CALL_FRAMES = 32
"""What the kernel takes with one call unless it is told otherwise, which Linux 6.18 can be."""
_MASK = 0xFFFF_FFFF
_CHUNKS = (2048, 4096)
_QUEUE = 0


class NoXdpError(Exception):
    """Why frames cannot be sent this way here: a half sentence."""


def may_lock_memory() -> None:
    """Lets this process keep the rings in memory, before it is nobody to this host."""
    with suppress(ValueError, OSError):
        resource.setrlimit(resource.RLIMIT_MEMLOCK, (resource.RLIM_INFINITY, resource.RLIM_INFINITY))


class XdpSendRing:
    """What a packet ring is to a sender, by the express data path. Raises NoXdpError where it cannot be."""

    def __init__(self, interface: str, frames: Sequence[bytes], slots: int, ip: FrameIp, tags: int = 0) -> None:
        chunk = next((size for size in _CHUNKS if size >= max(map(len, frames))), 0)
        if not chunk:
            raise NoXdpError(f"frames of more than {_CHUNKS[-1]} B do not fit")
        if slots & slots - 1:
            raise NoXdpError(f"a lap of {slots} frames is no power of two, which a mix of sizes needs")
        if sys.platform != "linux" or os.uname().machine != "x86_64":
            raise NoXdpError("its rings need the order of memory of x86-64")
        open_packet_socket(interface).close()  # the same rights, with the same words where they are missing
        self.slots, self._sent, self._closed = slots, 0, False
        try:
            self.socket = socket.socket(_AF_XDP, socket.SOCK_RAW, 0)
            self._memory = mmap.mmap(-1, slots * chunk)
            self._make_rings(chunk)
            self.about = self._bind(interface)
        except OSError as error:
            raise NoXdpError(_why(error)) from error
        memory = np.frombuffer(self._memory, np.uint8)
        lay_out(memory.reshape(slots, chunk), frames, ip, tags)
        self._marks: NDArray[Any] = memory.view(mark_layout(ip, tags, 0, chunk))["mark"]
        self._describe(frames, chunk)
        self.give = self._giver()

    def _make_rings(self, chunk: int) -> None:
        address = ctypes.addressof(ctypes.c_char.from_buffer(self._memory))
        self.socket.setsockopt(_SOL_XDP, _UMEM, struct.pack("QQIII4x", address, self.slots * chunk, chunk, 0, 0))
        for ring in (_FILL_RING, _DONE_RING, _TX_RING):
            self.socket.setsockopt(_SOL_XDP, ring, struct.pack("I", self.slots))
        offsets = struct.unpack("16Q", self.socket.getsockopt(_SOL_XDP, _OFFSETS, 128))
        self._tx, self._to_send, self._taken = self._map(offsets[4:8], _TX_AT, 16)
        self._done_map, self._done, self._done_read = self._map(offsets[12:16], _DONE_AT, 8)
        self._tx_descriptors_at = offsets[6]

    def _map(
        self, offsets: Sequence[int], at: int, entry_bytes: int
    ) -> tuple[mmap.mmap, "memoryview[int]", "memoryview[int]"]:
        """A ring, its producer's and its consumer's index."""
        producer, consumer, entries, _ = offsets
        length = entries + self.slots * entry_bytes
        mapped = mmap.mmap(self.socket.fileno(), length, mmap.MAP_SHARED, mmap.PROT_READ | mmap.PROT_WRITE, offset=at)
        words = memoryview(mapped)
        return mapped, words[producer : producer + 4].cast("I"), words[consumer : consumer + 4].cast("I")

    def _bind(self, interface: str) -> str:
        """Without copying where the driver can; how."""
        index = socket.if_nametoindex(interface)
        library = ctypes.CDLL(None, use_errno=True)
        for flags, about in ((_ZERO_COPY | _WAKE, "xdp, zero-copy"), (_COPY | _WAKE, "xdp, copying")):
            address = struct.pack("HHIII", _AF_XDP, flags, index, _QUEUE, 0)
            if library.bind(self.socket.fileno(), address, len(address)) == 0:
                return about
            number = ctypes.get_errno()
            if number not in (errno.EOPNOTSUPP, errno.EINVAL):
                break
        raise OSError(number, os.strerror(number))

    def _describe(self, frames: Sequence[bytes], chunk: int) -> None:
        kind = np.dtype([("at", "<u8"), ("length", "<u4"), ("options", "<u4")])
        entries = np.frombuffer(self._tx, kind, self.slots, self._tx_descriptors_at)
        lengths = np.array([len(frame) for frame in frames])
        numbers = np.arange(self.slots)
        entries["at"], entries["length"], entries["options"] = numbers * chunk, lengths[numbers % len(frames)], 0

    def _giver(self) -> Callable[[bytes, int], int]:
        """What has the kernel take what was marked, as many frames as a batch may have."""
        tell, waiting = self.socket.send, self.pending
        try:
            self.socket.setsockopt(_SOL_XDP, _CALL_BUDGET, struct.pack("I", self.slots))
        except OSError:

            def tell_often(text: bytes, flags: int) -> int:
                for _ in range(-(-waiting() // _CALL_FRAMES)):
                    tell(text, flags)
                return 0

            return tell_often
        return tell

    def lap(self, batch: int) -> Lap:
        """The batches of a lap."""
        slots, done, done_read, to_send = self.slots, self._done, self._done_read, self._to_send

        def is_held(_: int) -> int:
            finished = done[0]
            done_read[0] = finished
            return batch - min(slots - (self._sent - finished & _MASK), batch)

        def request(_: int, frames: int) -> None:
            self._sent = sent = self._sent + frames & _MASK
            to_send[0] = sent

        marks = [self._marks[at : at + batch] for at in range(0, slots - batch + 1, batch)]
        return Lap(len(marks), marks, is_held, request)

    def part(self, first: int, last: int) -> Lap:
        """Some slots alone, as a single batch: the next ones, since this ring knows no others."""
        whole = self.lap(last - first)
        return Lap(1, [self._marks[first:last]], whole.is_held, whole.request)

    def send(self) -> None:
        """Tells the kernel to take what was marked. Never waits. Raises NearEndError when the port is down."""
        try:
            self.give(b"", MSG_DONTWAIT)
        except OSError as error:
            self.check(error)

    def check(self, error: OSError) -> None:
        """Raises what is more than a ring that is full. Raises NearEndError when the port is down."""
        if error.errno != errno.EBUSY:
            check_sending(error)

    def pending(self) -> int:
        """How many frames the kernel has not yet taken."""
        return self._sent - self._taken[0] & _MASK

    def close(self) -> None:
        self.socket.close()


def _why(error: OSError) -> str:
    if error.errno in (errno.EAFNOSUPPORT, errno.EOPNOTSUPP):
        return "this kernel has none, or the driver of the port allows it to nobody"
    if error.errno == errno.EBUSY:
        return "another program has it on this port"
    if error.errno in (errno.EPERM, errno.EACCES):
        return "this user may not use it (root, or CAP_NET_RAW)"
    if error.errno == errno.ENOBUFS:
        return "this user may not keep that much in memory (ulimit -l)"
    return f"the kernel refused: {error.strerror}"
