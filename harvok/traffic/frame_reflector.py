"""Sends frames of a stream back to where they came from: the simplest far end that a tester can have."""

import select
import socket
from collections.abc import Callable, Sequence
from contextlib import ExitStack

from harvok.core.ethernet import IP_HEADER_BYTES
from harvok.core.wire.frame import FrameIp, ethertype_offset
from harvok.core.wire.frame_orders import ReflectOrder, ReflectReport
from harvok.traffic.counters import Counters, FrameCell
from harvok.traffic.packet_filter import attach_filter
from harvok.traffic.rings import EVERY_PROTOCOL, IGNORE_OUTGOING, SOL_PACKET, bind, listen_to_everything, statistics
from harvok.traffic.rings import open_packet_socket as open_socket
from harvok.traffic.stream_filter import stream_filter

_BUFFER_BYTES, _LARGEST_FRAME, _LOOK_MS = 32 << 20, 16_384, 20
_FORCE_RECEIVE_BUFFER = 33  # SO_RCVBUFFORCE, uapi asm-generic/socket.h
_AT_A_TIME = 64
_MAC = 6


def reflect(orders: Sequence[ReflectOrder], counters: Counters, say_ready: Callable[[], None]) -> list[ReflectReport]:
    """Sends back what comes until all are told to stop."""
    with ExitStack() as stack:
        reflectors = [_Reflector(order, counters, stack) for order in orders]
        poll = select.poll()
        for reflector in reflectors:
            poll.register(reflector.sock, select.POLLIN)
        say_ready()
        while not all(reflector.is_to_stop for reflector in reflectors):
            poll.poll(_LOOK_MS)
            for reflector in reflectors:
                reflector.hear()
        return [reflector.report() for reflector in reflectors]


class _Reflector:
    def __init__(self, order: ReflectOrder, counters: Counters, stack: ExitStack) -> None:
        self.sock = stack.enter_context(open_socket(order.interface))
        self.sock.setsockopt(SOL_PACKET, IGNORE_OUTGOING, 1)
        try:
            self.sock.setsockopt(socket.SOL_SOCKET, _FORCE_RECEIVE_BUFFER, _BUFFER_BYTES)
        except PermissionError:
            self.sock.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, _BUFFER_BYTES)
        attach_filter(self.sock, stream_filter(order.ip, order.stream, _LARGEST_FRAME, order.inner_tags))
        bind(self.sock, order.interface, EVERY_PROTOCOL)
        listen_to_everything(self.sock, order.interface)
        self._order, self._cells, self._reflected = order, counters.cells, 0
        self._stop_at = Counters.index(order.row, FrameCell.STOP)
        self._frames_at = Counters.index(order.row, FrameCell.FRAMES)
        self._frame = bytearray(_LARGEST_FRAME)

    @property
    def is_to_stop(self) -> bool:
        return bool(self._cells[self._stop_at])

    def hear(self) -> None:
        """Sends back what is there, some frames at a time."""
        frame, view = self._frame, memoryview(self._frame)
        for _ in range(_AT_A_TIME):
            try:
                size = self.sock.recv_into(frame, 0, socket.MSG_DONTWAIT)
                swap_addresses(frame, self._order.ip, self._order.inner_tags)
                self.sock.send(view[:size], socket.MSG_DONTWAIT)
            except BlockingIOError:
                return
            self._reflected += 1
            self._cells[self._frames_at] = self._reflected

    def report(self) -> ReflectReport:
        return ReflectReport(self._reflected, statistics(self.sock)[1])


def swap_addresses(frame: bytearray, ip: FrameIp, tags: int = 0) -> None:
    """Swaps hardware and IP addresses. No checksum changes by it, since each sums both (RFC 1071)."""
    frame[:_MAC], frame[_MAC : 2 * _MAC] = frame[_MAC : 2 * _MAC], frame[:_MAC]
    if not ip:
        return
    length = 4 if ip == 4 else 16
    at = ethertype_offset(tags) + 2 + IP_HEADER_BYTES[ip] - 2 * length
    frame[at : at + length], frame[at + length : at + 2 * length] = (
        frame[at + length : at + 2 * length],
        frame[at : at + length],
    )
