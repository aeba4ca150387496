"""Numbered datagrams through sockets, many with one call of the kernel: Linux's UDP_SEGMENT, UDP_GRO and recvmmsg.

Senders hand over a whole batch as one super-datagram, which the kernel or the card cuts apart; receivers take several
messages with one call, each of which may be such a super-datagram. Every datagram has a number and a stamp either way.
"""

import contextlib
import ctypes
import errno
import socket
import struct
import sys
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from harvok.clock import SYSTEM
from harvok.core.trials.udp import Means, Method
from harvok.core.wire.datagram import HEAD_BYTES
from harvok.traffic.icmp_errors import hear_errors, take_prohibitions
from harvok.traffic.sockets import never_fragment
from harvok.traffic.stamps import SO_TIMESTAMPNS

_SOL_UDP, _UDP_SEGMENT, _UDP_GRO = 17, 103, 104  # uapi linux/udp.h
_SO_RCVBUFFORCE, _SO_MEMINFO = 33, 55  # uapi asm-generic/socket.h
_MEMINFO_DROPS = 8  # SK_MEMINFO_DROPS, uapi linux/sock_diag.h
_MAX_SEGMENTS, _MAX_SUPER_BYTES = 64, 65000
_MESSAGES = 32  # taken with one call
_SUPER_SLOT = 1 << 16
_CONTROL_BYTES = 64
_STAMP_AT, _STAMPED = 16, 32  # struct timespec behind its cmsghdr, and the room that both take
_SEGMENT_AT = 48  # the int behind the cmsghdr that follows the stamp's
_WANTED_BUFFER = 64 << 20
"""What comes in some 25 ms at 20 Gb/s: so long may the receiver have no core on a host that others use."""

HEAD_DTYPE = np.dtype(
    {"names": ["trial", "number", "stamp"], "formats": [">u2", ">u8", ">u8"], "offsets": [0, 2, 10], "itemsize": 18}
)

Heads = tuple[NDArray[np.int64], NDArray[np.int64], NDArray[np.int64]]
"""Numbers, stamps and arrival times, all in the order of arrival."""


def max_in_a_batch(payload_bytes: int) -> int:
    """How many datagrams of a size one super-datagram can hold."""
    return max(min(_MAX_SEGMENTS, _MAX_SUPER_BYTES // payload_bytes), 1)


def can_segment(sock: socket.socket, payload_bytes: int) -> bool:
    """Lets the kernel cut what is sent on a socket into datagrams of a size; False where it cannot."""
    try:
        sock.setsockopt(_SOL_UDP, _UDP_SEGMENT, payload_bytes)
    except OSError:
        return False
    return True


def prepare_sending(sock: socket.socket) -> None:
    """Never fragment, never wait, and be told when this host's own queue drops."""
    sock.setblocking(False)
    if sys.platform != "linux":
        return
    never_fragment(sock)
    hear_errors(sock)


def prepare_receiving(sock: socket.socket, buffer_bytes: int | None) -> None:
    """Kernel stamps, and a socket buffer that is large unless a size was asked for."""
    wanted = buffer_bytes or _WANTED_BUFFER
    if sys.platform == "linux":
        sock.setsockopt(socket.SOL_SOCKET, SO_TIMESTAMPNS, 1)
        if buffer_bytes is None:
            with contextlib.suppress(OSError):  # needs CAP_NET_ADMIN; without it the system's limit holds
                sock.setsockopt(socket.SOL_SOCKET, _SO_RCVBUFFORCE, wanted)
                return
    sock.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, wanted)


def socket_drops(sock: socket.socket) -> int:
    """Datagrams that reached this host and found the socket's buffer full, since the socket was made."""
    if sys.platform != "linux":
        return 0
    words = sock.getsockopt(socket.SOL_SOCKET, _SO_MEMINFO, 9 * 4)
    return int(struct.unpack_from("I", words, 4 * _MEMINFO_DROPS)[0]) if len(words) == 36 else 0


class DatagramSender:
    """Sends the datagrams of one flow, a batch with each call."""

    def __init__(self, sock: socket.socket, trial: int, payload_bytes: int, batch: int, method: Method) -> None:
        self._sock = sock
        segmented = method != "plain" and batch > 1 and can_segment(sock, payload_bytes)
        self.batch = min(batch, max_in_a_batch(payload_bytes)) if segmented else 1
        self.means: Means = "segmented" if segmented else "plain"
        self.sent = self.refused = self.prohibited = 0
        text = np.random.default_rng(trial).bytes(self.batch * payload_bytes)
        self._view = memoryview(bytearray(text))
        heads: NDArray[Any] = np.ndarray(self.batch, HEAD_DTYPE, self._view, 0, (payload_bytes,))
        heads["trial"] = trial
        self._heads = heads
        self._steps = np.arange(self.batch)
        self._payload_bytes = payload_bytes
        self._pack_into = struct.Struct("!QQ").pack_into

    def send(self, maximum: int) -> int:
        """Sends the next batch, of at most `most` datagrams; returns how many the kernel took, 0 when it is full.

        Raises OSError when the far end's port is closed, or a datagram does not fit the path.
        """
        count = min(self.batch, maximum)
        if self.batch == 1:
            self._pack_into(self._view, 2, self.sent, SYSTEM.wall_ns())
        else:
            self._heads["number"] = self._steps + self.sent
            self._heads["stamp"] = SYSTEM.wall_ns()
        try:
            self._sock.send(self._view[: count * self._payload_bytes])
        except OSError as error:
            if error.errno in (errno.EAGAIN, errno.ENOBUFS):
                self.refused += 1
                return 0
            if error.errno in (errno.EHOSTUNREACH, errno.ENETUNREACH):
                self.prohibited += take_prohibitions(self._sock)
                return 0  # told by a router on the way, of an earlier one: to this test it is loss
            raise
        self.sent += count
        return count


class _Iovec(ctypes.Structure):
    _fields_ = (("base", ctypes.c_void_p), ("length", ctypes.c_size_t))


_MESSAGE_DTYPE = np.dtype(
    {
        "names": ["iov", "iov_count", "control", "control_bytes", "flags", "bytes"],
        "formats": ["u8", "u8", "u8", "u8", "i4", "u4"],
        "offsets": [16, 24, 32, 40, 48, 56],
        "itemsize": 64,
    }
)  # struct mmsghdr of 64-bit Linux


@dataclass(frozen=True, slots=True)
class Received:
    """A portion of datagrams of this trial, and how many others came along."""

    heads: Heads
    foreign: int


class BatchReceiver:
    """Takes up to 32 messages with one call, each with the kernel's stamp; each may be several datagrams in one."""

    def __init__(self, sock: socket.socket, trial: int, payload_bytes: int, coalesce: bool) -> None:
        self._sock, self._trial = sock, trial
        if coalesce:
            try:
                sock.setsockopt(_SOL_UDP, _UDP_GRO, 1)
            except OSError:
                coalesce = False
        self.means: Means = "segmented" if coalesce else "batched"
        self._calls = self._datagrams = 0
        self._slot = _SUPER_SLOT if coalesce else -(-(payload_bytes + 1) // 64) * 64
        self._arena = np.zeros((_MESSAGES, self._slot), dtype=np.uint8)
        self._control = np.zeros((_MESSAGES, _CONTROL_BYTES), dtype=np.uint8)
        self._stamps = self._control[:, _STAMP_AT:_STAMPED].view(np.int64)
        self._segments = self._control[:, _SEGMENT_AT : _SEGMENT_AT + 4].view(np.int32)
        numbers = np.arange(_MESSAGES, dtype=np.uint64)
        self._iovecs = (_Iovec * _MESSAGES)(
            *(_Iovec(self._arena.ctypes.data + n * self._slot, self._slot) for n in range(_MESSAGES))
        )
        self._messages = np.zeros(_MESSAGES, dtype=_MESSAGE_DTYPE)
        self._messages["iov"] = ctypes.addressof(self._iovecs) + numbers * ctypes.sizeof(_Iovec)
        self._messages["iov_count"] = 1
        self._messages["control"] = self._control.ctypes.data + numbers * _CONTROL_BYTES
        self._address = ctypes.c_void_p(self._messages.ctypes.data)
        self._heads: NDArray[Any] = np.ndarray(_MESSAGES, HEAD_DTYPE, self._arena.data, 0, (self._slot,))
        libc = ctypes.CDLL(None, use_errno=True)
        self._take = libc.recvmmsg

    def receive(self) -> Received | None:
        """What has come, without waiting; None when nothing has."""
        self._messages["control_bytes"] = _CONTROL_BYTES
        count = self._take(self._sock.fileno(), self._address, _MESSAGES, socket.MSG_DONTWAIT, None)
        if count <= 0:
            return None
        at_ns = self._stamps[:count, 0] * 1_000_000_000 + self._stamps[:count, 1]
        messages = self._messages[:count]
        if self.means == "segmented" and (messages["control_bytes"] > _STAMPED).any():
            heads, at_ns, short = self._cut(messages, at_ns)
        else:
            heads = self._heads[:count].copy()
            too_short = messages["bytes"] < HEAD_BYTES
            short = int(np.count_nonzero(too_short))
            if short:
                heads, at_ns = heads[~too_short], at_ns[~too_short]
        self._calls, self._datagrams = self._calls + count, self._datagrams + len(heads)
        return _own(heads, at_ns, self._trial, short)

    @property
    def datagrams_a_message(self) -> float:
        """How many datagrams the kernel took for one message on average: it counts its drops in messages."""
        return self._datagrams / self._calls if self._calls else 1.0

    def _cut(self, messages: NDArray[Any], at_ns: NDArray[np.int64]) -> tuple[NDArray[Any], NDArray[np.int64], int]:
        """The heads of the datagrams within super-datagrams, all of one message with the stamp of its first; and how
        many were too short to have one."""
        sizes = messages["bytes"].tolist()
        controls = messages["control_bytes"].tolist()
        parts, counts = [], []
        for number, (size, control) in enumerate(zip(sizes, controls, strict=True)):
            segment = int(self._segments[number, 0]) if control > _STAMPED else max(size, HEAD_BYTES)
            whole = size // segment + (size % segment >= HEAD_BYTES)
            parts.append(np.ndarray(whole, HEAD_DTYPE, self._arena.data, number * self._slot, (segment,)))
            counts.append(whole)
        return np.concatenate(parts), np.repeat(at_ns, counts), counts.count(0)


class PlainReceiver:
    """Takes one datagram with each call: the slow and simple way, everywhere the same."""

    means: Means = "plain"
    datagrams_a_message = 1.0

    def __init__(self, sock: socket.socket, trial: int, payload_bytes: int) -> None:
        self._sock, self._trial = sock, trial
        self._buffer = bytearray(payload_bytes + 1)

    def receive(self) -> Received | None:
        """What has come, up to a few hundred datagrams; None when nothing has."""
        heads, stamps = bytearray(), []
        with contextlib.suppress(BlockingIOError):
            for _ in range(256):
                size, control, _, _ = self._sock.recvmsg_into([self._buffer], 64)
                seconds, ns = struct.unpack("qq", control[0][2]) if control else divmod(SYSTEM.wall_ns(), 10**9)
                heads += self._buffer[:HEAD_BYTES] if size >= HEAD_BYTES else bytes(HEAD_BYTES)
                stamps.append(seconds * 10**9 + ns)
        if not stamps:
            return None
        return _own(np.frombuffer(heads, HEAD_DTYPE), np.array(stamps, dtype=np.int64), self._trial)


def _own(heads: NDArray[Any], at_ns: NDArray[np.int64], trial: int, short: int = 0) -> Received:
    own = heads["trial"] == trial
    foreign = len(heads) - int(np.count_nonzero(own))
    if foreign:
        heads, at_ns = heads[own], at_ns[own]
    foreign += short
    return Received((heads["number"].astype(np.int64), heads["stamp"].astype(np.int64), at_ns), foreign)


def make_receiver(
    sock: socket.socket, trial: int, payload_bytes: int, batch: int, method: Method
) -> BatchReceiver | PlainReceiver:
    """The fastest receiver that this system has; coalescing only where batches are sent, since it blurs stamps."""
    if method == "plain" or sys.platform != "linux":
        return PlainReceiver(sock, trial, payload_bytes)
    return BatchReceiver(sock, trial, payload_bytes, coalesce=batch > 1)
