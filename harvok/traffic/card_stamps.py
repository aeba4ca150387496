"""Stamps of single frames by the card or its driver: asked for at some places of the sending ring, heard at the other
end by a socket beside the receiving ring. A card has room for few stamps at a time: only some frames are asked for.
"""

import ctypes
import errno
import fcntl
import socket
import struct
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

from harvok.clock import SYSTEM
from harvok.core.time_axis import ClockOffset
from harvok.core.wire.card_stamps import (
    CONFIG_BYTES,
    PortStamping,
    decode_key,
    decode_stamps,
    decode_ts_info,
    stamp_everything,
    ts_info_request,
)
from harvok.core.wire.frame import FrameIp, slot_offset
from harvok.core.wire.frame_orders import SampleBy, Stamps, StampsOrder
from harvok.traffic.packet_filter import attach_filter
from harvok.traffic.rings import EVERY_PROTOCOL, IGNORE_OUTGOING, SOL_PACKET, bind, open_packet_socket
from harvok.traffic.stream_filter import sampled_filter, snap_bytes

_ETHTOOL, _SET_STAMPING, _GET_STAMPING = 0x8946, 0x89B0, 0x89B1  # uapi linux/sockios.h
_SO_TIMESTAMPING, _PACKET_TX_TIMESTAMP = 37, 16
_ASK: dict[SampleBy, int] = {"hardware": 1 << 0, "software": 1 << 1}
_HEAR: dict[SampleBy, int] = {"hardware": 1 << 2, "software": 1 << 3}
_REPORT: dict[SampleBy, int] = {"hardware": 1 << 6, "software": 1 << 4}
_NUMBERED, _STAMP_ALONE = 1 << 7, 1 << 11
_ROOM_BYTES = 1 << 18
_MESSAGE_BYTES, _CONTROL_BYTES = 256, 512
_CLOCK_READINGS = 5
MAX_SAMPLES = 4000
"""Of one trial."""


def port_stamping(interface: str) -> PortStamping:
    """What the card of an interface can, as its driver says."""
    with suppress(OSError):
        return decode_ts_info(_ask_driver(interface, _ETHTOOL, ts_info_request()))
    return PortStamping()


def stamps_of(order: StampsOrder) -> Stamps:
    """What the card of a port can, and how its clock stands to another."""
    can = port_stamping(order.interface)
    if min(order.clock, can.clock) >= 0:
        with suppress(OSError):
            apart = clocks_apart(order.clock, can.clock)
            return Stamps(can.software, can.hardware, can.clock, apart.offset_s, apart.error_s)
    return Stamps(can.software, can.hardware, can.clock)


@contextmanager
def card_that_stamps(interface: str) -> Iterator[None]:
    """Has the card of an interface stamp what leaves and all that comes, and sets it back as it was. Raises OSError."""
    before = _ask_driver(interface, _GET_STAMPING, bytes(CONFIG_BYTES))
    _ask_driver(interface, _SET_STAMPING, stamp_everything(before))
    try:
        yield
    finally:
        _ask_driver(interface, _SET_STAMPING, before)


def clocks_apart(one: int, other: int) -> ClockOffset:
    """How far the clock of another card is ahead of one's; its error is half of the time that the reading took. Raises
    OSError."""
    if one == other:
        return ClockOffset(0.0, 0.0)
    with Path(f"/dev/ptp{one}").open("rb") as first, Path(f"/dev/ptp{other}").open("rb") as second:
        readings = [
            (SYSTEM.card_ns(first.fileno()), SYSTEM.card_ns(second.fileno()), SYSTEM.card_ns(first.fileno()))
            for _ in range(_CLOCK_READINGS)
        ]
    before, between, after = min(readings, key=lambda reading: reading[2] - reading[0])
    return ClockOffset((between - (before + after) / 2) / 1e9, (after - before) / 2e9)


def _ask_driver(interface: str, request: int, value: bytes) -> bytes:
    """Gives a driver a structure and returns what it made of it. Raises OSError."""
    buffer = ctypes.create_string_buffer(value, len(value))
    asked = struct.pack("16sP", interface.encode(), ctypes.addressof(buffer)).ljust(40, b"\0")
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as sock:
        fcntl.ioctl(sock, request, asked)
    return buffer.raw


class StampedSending:
    """Asks for stamps of the frames that a ring's socket sends with one call, and collects them. The kernel numbers the
    frames that it was asked about, and those alone."""

    def __init__(self, sock: socket.socket, source: SampleBy) -> None:
        self._sock, self._source = sock, source
        self._numbers: list[int] = []
        self.stamps: list[tuple[int, int]] = []
        """Numbers of frames, and when these left, in ns."""
        flags = _REPORT[source] | _NUMBERED | _STAMP_ALONE
        sock.setsockopt(socket.SOL_SOCKET, _SO_TIMESTAMPING, struct.pack("I", flags))
        sock.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, _ROOM_BYTES)
        self._control = [(socket.SOL_SOCKET, _SO_TIMESTAMPING, struct.pack("I", _ASK[source]))]

    @property
    def full(self) -> bool:
        """Whether there are as many as a trial may have."""
        return len(self._numbers) >= MAX_SAMPLES

    def send(self) -> None:
        """Sends what is marked in the ring. Raises OSError as a socket's `send` does."""
        self._sock.sendmsg([b""], self._control, socket.MSG_DONTWAIT)

    def asked(self, numbers: range) -> None:
        """These frames, and no others, were taken then."""
        self._numbers += numbers
        self.collect()

    def collect(self) -> None:
        """Takes the stamps that are there."""
        while True:
            try:
                _, control, _, _ = self._sock.recvmsg(0, _CONTROL_BYTES, socket.MSG_ERRQUEUE | socket.MSG_DONTWAIT)
            except OSError as error:
                if error.errno in (errno.EAGAIN, errno.ENOMSG):
                    return
                raise
            self._take(control)

    def _take(self, control: list[tuple[int, int, bytes]]) -> None:
        at_ns, key = 0, None
        for level, kind, value in control:
            if (level, kind) == (socket.SOL_SOCKET, _SO_TIMESTAMPING):
                at_ns = decode_stamps(value)[self._source == "hardware"]
            elif (level, kind) == (SOL_PACKET, _PACKET_TX_TIMESTAMP):
                key = decode_key(value)
        if at_ns and key is not None and key < len(self._numbers):
            self.stamps.append((self._numbers[key], at_ns))


class StampedHearing:
    """Hears some of the frames of a stream, those of one slot in `every`, with the stamps that they came with."""

    def __init__(
        self, interface: str, ip: FrameIp, stream: int, slots: int, every: int, source: SampleBy, tags: int
    ) -> None:
        self._slots, self._source, self._at = slots, source, slot_offset(ip, tags)
        self._sock = open_packet_socket(interface)
        self._sock.setsockopt(SOL_PACKET, IGNORE_OUTGOING, 1)
        attach_filter(self._sock, sampled_filter(ip, stream, every, tags))
        flags = _HEAR[source] | _REPORT[source]
        self._sock.setsockopt(socket.SOL_SOCKET, _SO_TIMESTAMPING, struct.pack("I", flags))
        self._bytes = snap_bytes(ip, tags)
        self.stamps: list[tuple[int, int]] = []
        """Numbers of frames, and when these came, in ns."""
        bind(self._sock, interface, EVERY_PROTOCOL)

    def collect(self) -> None:
        """Takes the frames that are there."""
        while True:
            try:
                frame, control, _, _ = self._sock.recvmsg(_MESSAGE_BYTES, _CONTROL_BYTES, socket.MSG_DONTWAIT)
            except BlockingIOError:
                return
            if len(frame) >= self._bytes and len(self.stamps) < MAX_SAMPLES:
                self._take(frame, control)

    def _take(self, frame: bytes, control: list[tuple[int, int, bytes]]) -> None:
        slot, lap = struct.unpack_from(">HI", frame, self._at)
        for level, kind, value in control:
            if (level, kind) == (socket.SOL_SOCKET, _SO_TIMESTAMPING):
                at_ns = decode_stamps(value)[self._source == "hardware"]
                if at_ns:
                    self.stamps.append((lap * self._slots + slot, at_ns))

    def close(self) -> None:
        self._sock.close()
