"""Users' media streams: calls of datagrams both ways, for a while, at a rate."""

import contextlib
import itertools
import socket
from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from harvok.clock import monotonic_ns
from harvok.core.wire.media import ASKS, BRINGS, Asked, MediaReport, Reception, make_media, read_media

if TYPE_CHECKING:
    from harvok.traffic.app.script import Doing
    from harvok.traffic.app.users_worker import User, Users

_LATE_NS = 500_000_000
"""How long after its last datagram a call waits for those that are under way, and for the last report."""


@dataclass(frozen=True, slots=True)
class Media:
    """A call: `datagrams` each way, one every `gap_ns`, of so many bytes up, and down as `asked`."""

    datagrams: int
    gap_ns: int
    up_bytes: int
    asked: Asked


class Calls:
    """All calls of one process of users. `options` are set on each socket."""

    def __init__(self, users: "Users", proof: bytes, family: int, options: Sequence[tuple[int, int, Any]]) -> None:
        self.users, self.proof, self.family, self.options = users, proof, family, options
        self.numbers = itertools.count(1)
        self.fill = bytes(2048)
        self.open: dict[int, Call] = {}

    def begin(self, user: "User", doing: "Doing", due_ns: int) -> None:
        """Begins a call, which tells the users when it is over."""
        call = Call(self, user, doing, due_ns)
        try:
            call.dial(self.users.media_address, self.users.next_source())
        except OSError as error:
            self.users.could_not_open(user, doing, error.errno)


class Call:
    """One call."""

    __slots__ = (
        "_calls",
        "_doing",
        "_due_ns",
        "_first_ns",
        "_heard",
        "_media",
        "_next",
        "_number",
        "_report",
        "_sock",
        "_user",
    )

    def __init__(self, calls: Calls, user: "User", doing: "Doing", due_ns: int) -> None:
        self._calls, self._user, self._doing, self._due_ns = calls, user, doing, due_ns
        media = doing.media
        assert media
        self._media: Media = media
        self._number, self._next, self._first_ns = next(calls.numbers), 0, 0
        self._heard, self._report = Reception(), MediaReport(0, 0)
        self._sock: socket.socket

    def dial(self, address: Any, source: Any) -> None:
        """Sends the first datagram. Raises OSError."""
        calls = self._calls
        self._sock = sock = socket.socket(calls.family, socket.SOCK_DGRAM | socket.SOCK_NONBLOCK)
        try:
            for option in calls.options:
                sock.setsockopt(*option)
            if source is not None:
                sock.bind(source)
            sock.connect(address)
        except OSError:
            sock.close()
            raise
        calls.open[sock.fileno()] = self
        calls.users.listen_to(sock.fileno())
        self._send(self._due_ns, None)

    def _send(self, due_ns: int, _given: Any) -> None:
        """The next datagram is due; after the last one, the end is."""
        media, calls = self._media, self._calls
        head = make_media(calls.proof, ASKS, self._number, self._next, monotonic_ns(), media.asked)
        with contextlib.suppress(OSError):  # refused, or no room: it is lost, as on the way
            self._sock.send(head + calls.fill[: media.up_bytes - len(head)])
        self._next += 1
        if self._next < media.datagrams:
            calls.users.at(due_ns + media.gap_ns, self._send)
        else:
            calls.users.at(due_ns + _LATE_NS, self._end)

    def take(self) -> None:
        """Takes what has come."""
        calls, sock = self._calls, self._sock
        while True:
            try:
                data = sock.recv(2048)
            except BlockingIOError:
                return
            except OSError:  # a port that nobody listens on is told so, again and again
                continue
            now_ns, said = monotonic_ns(), read_media(data, calls.proof)
            if said is None or said.call != self._number or said.report is None:
                continue
            if said.kind == BRINGS:
                self._first_ns = self._first_ns or now_ns
                self._heard.take(said.number, said.sent_ns, now_ns)
                self._doing.response_bytes += len(data)
            self._report = max(self._report, said.report, key=lambda one: one.came)

    def _end(self, due_ns: int, _given: Any) -> None:
        calls, media, doing = self._calls, self._media, self._doing
        del calls.open[self._sock.fileno()]
        self._sock.close()
        if not self._heard.came:
            calls.users.count_failure(doing, "no-answer")
            calls.users.after_failure(self._user)
            return
        calls.users.count_once(doing, self._first_ns - self._due_ns)
        doing.transactions += 1
        doing.request_bytes += media.datagrams * media.up_bytes
        doing.count_media(media.datagrams, self._report, self._heard)
        calls.users.go_on(self._user, None, due_ns)
