"""The service's half of media streams: sends to whoever proves that he belongs to the trial, and reports what came."""

import contextlib
import socket
from collections.abc import Callable
from typing import Any

from harvok.clock import monotonic_ns
from harvok.core.wire.media import BRINGS, REPORTS, Asked, MediaDatagram, Reception, make_media, read_media
from harvok.traffic.own_address import Control, from_same_address

_MAX_CALLS = 20_000
_REPORT_AFTER_NS, _FORGET_AFTER_NS = 250_000_000, 2_000_000_000
"""After its last datagram the service reports once more, to a user who may have sent until now, and then forgets."""
_AT_ONCE = 64
At = Callable[[int, Callable[[int, Any], None], Any], None]


class _ServedCall:
    __slots__ = ("asked", "control", "heard", "next", "number", "peer", "sock")

    def __init__(self, sock: socket.socket, peer: Any, control: Control, number: int, asked: Asked) -> None:
        self.sock, self.peer, self.control, self.number, self.asked = sock, peer, control, number, asked
        self.heard, self.next = Reception(), 0


class MediaService:
    """All calls to one process of the service. `at` has something called at a moment of the monotonic clock."""

    def __init__(self, sockets: dict[int, socket.socket], proof: bytes, at: At) -> None:
        self.sockets, self._proof, self._at = sockets, proof, at
        self._calls: dict[tuple[Any, int], _ServedCall] = {}
        self._fill = bytes(2048)
        self.calls = self.strangers = self.request_bytes = self.response_bytes = 0

    def take(self, fd: int) -> None:
        """Takes what has come at a socket."""
        sock = self.sockets[fd]
        for _ in range(_AT_ONCE):
            try:
                data, control, _, peer = sock.recvmsg(2048, 128)
            except OSError:
                return
            said = read_media(data, self._proof)
            if said is None or said.asked is None:
                self.strangers += 1
                continue
            call = self._calls.get((peer, said.call)) or self._begin(sock, peer, control, said, said.asked)
            if call:
                call.heard.take(said.number, said.sent_ns, monotonic_ns())
                self.request_bytes += len(data)

    def _begin(
        self, sock: socket.socket, peer: Any, control: Control, said: MediaDatagram, asked: Asked
    ) -> _ServedCall | None:
        if len(self._calls) >= _MAX_CALLS:
            return None
        call = self._calls[peer, said.call] = _ServedCall(sock, peer, from_same_address(control), said.call, asked)
        self.calls += 1
        self._send(monotonic_ns(), call)
        return call

    def _send(self, due_ns: int, call: _ServedCall) -> None:
        """The next datagram of a call is due; after the last one, its report is."""
        self._say(call, BRINGS, call.asked.size_bytes)
        call.next += 1
        if call.next < call.asked.datagrams:
            self._at(due_ns + call.asked.gap_us * 1000, self._send, call)
        else:
            self._at(due_ns + _REPORT_AFTER_NS, self._report, call)

    def _report(self, due_ns: int, call: _ServedCall) -> None:
        self._say(call, REPORTS, 0)
        self._at(due_ns + _FORGET_AFTER_NS, self._forget, call)

    def _forget(self, _due_ns: int, call: _ServedCall) -> None:
        self._calls.pop((call.peer, call.number), None)

    def _say(self, call: _ServedCall, kind: int, size_bytes: int) -> None:
        head = make_media(self._proof, kind, call.number, call.next, monotonic_ns(), call.heard.report)
        data = head + self._fill[: max(size_bytes - len(head), 0)]
        with contextlib.suppress(OSError):  # no room, or nobody there: it is lost, as on the way
            call.sock.sendmsg([data], call.control, 0, call.peer)
            self.response_bytes += len(data)
