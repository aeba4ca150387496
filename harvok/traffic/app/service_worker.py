"""A worker process: the service of a trial of application traffic. One epoll loop, edge-triggered.

A request that was answered before is known by its bytes, so that most cost one look into a table and one `send`. Large
bodies go from memory by `sendfile`. Who does not prove that he belongs to the trial is sent away without a word.
"""

import _socket
import os
import select
import socket
from functools import partial
from pathlib import Path
from typing import Any

from harvok.clock import SYSTEM, monotonic_ns
from harvok.core.wire.app import EXCHANGE_BYTES, EXCHANGE_MARK, Wanted, read_exchange, read_target
from harvok.core.wire.http1 import (
    END_OF_HEAD,
    MAX_HEAD_BYTES,
    ChunkedBody,
    MalformedMessageError,
    make_response,
    read_request,
)
from harvok.core.wire.media import media_proof
from harvok.traffic.app.http2_service import PREFACE_BEGINS, ServedStreams, StrangerError, StreamService
from harvok.traffic.app.loop import EVENTS, EVENTS_A_LOOK, HUNG_UP, SWEEPS_A_SECOND, TAKEN_BYTES
from harvok.traffic.app.media_service import MediaService
from harvok.traffic.app.orders import (
    OTHER_DESCRIPTORS,
    PATTERN_BYTES,
    ServiceOrders,
    allow_many_descriptors,
    pattern,
    read_orders,
    stay_on_a_core,
)
from harvok.traffic.app.timers import Timers
from harvok.traffic.app.tls import TlsSocket, TlsStream, service_context
from harvok.traffic.sockets import read_segments
from harvok.worker.child import run, say, say_ready, wait_begin, wake_precisely

_LAST_USER_S, _GOODBYE_S = 1.0, 3.0
"""How much longer than ordered the service stays: users began after it, and some may not have gone."""
_PREPARED_BYTES, _PREPARED_OF_ALL_BYTES = 65_536, 32 << 20
"""Of bodies that are kept joined to their heads: the largest, and all together."""
_KNOWN = 16_384
_AT_ONCE_BYTES = 8192
"""An answer that a new socket takes whole, whatever it may buffer (net.ipv4.tcp_wmem)."""
_SAMPLED = 0xF
"""One connection in sixteen tells of its segments: they are only looked at for their share that was sent again."""
TLS_HANDSHAKE = b"\x16"
"""RFC 8446 §5.1: the first byte of a connection that begins with TLS."""
_IN, _OUT = select.EPOLLIN, select.EPOLLOUT
_MORE, _TRUNC, _NOW = socket.MSG_MORE, socket.MSG_TRUNC, socket.MSG_DONTWAIT

IDLE, BODY, WAITING, SENDING, CLOSING, GONE, NEW, SHAKING, STREAMS = range(9)
"""A connection awaits a request, is in the middle of one, waits before it answers, sends, awaits the other's end, or
has ended; with TLS it is new until it is known whether it is one, and then in its handshake; or it has streams
(HTTP/2), which do all of that side by side."""


class _Answer:
    """What is sent in answer to one request: `whole` in one piece, or `head` and then a body from the pattern."""

    __slots__ = ("after_ns", "body_bytes", "close", "flags", "head", "head_bytes", "request_bytes", "size", "whole")

    def __init__(self, head: bytes, body_bytes: int, after_us: int, request_bytes: int, close: bool) -> None:
        self.head, self.head_bytes, self.body_bytes = head, len(head), body_bytes
        self.size = self.head_bytes + body_bytes
        self.after_ns, self.request_bytes, self.close = after_us * 1000, request_bytes, close
        self.flags = _NOW | _MORE if close else _NOW
        self.whole: bytes | None = None


class _ServedConnection:
    __slots__ = (
        "answer", "blocking", "chunked", "fd", "head", "left", "proven", "recv_into", "send", "sent",
        "since_ns", "sock", "state", "streams", "tls",
    )  # fmt: skip

    def __init__(self, sock: _socket.socket, now_ns: int) -> None:
        self.sock, self.fd = sock, sock.fileno()
        self.recv_into, self.send = sock.recv_into, sock.send
        self.state, self.proven, self.since_ns, self.blocking = IDLE, False, now_ns, True
        self.head = b""
        self.left = self.sent = 0
        self.answer: _Answer | None = None
        self.chunked: ChunkedBody | None = None
        self.tls: TlsStream | None = None
        self.streams: ServedStreams | None = None


class AppService:
    """Answers whoever proves that he belongs to the trial."""

    def __init__(self, orders: ServiceOrders) -> None:
        self._orders = orders
        self._proof = orders.proof.encode()
        descriptors = allow_many_descriptors()
        self._connections: list[_ServedConnection | None] = [None] * (descriptors + 1)
        self._max_open, self._listens = descriptors - OTHER_DESCRIPTORS, False
        self._listeners = {fd: _socket.socket(fileno=fd) for fd in orders.fds}
        self._pattern = pattern()
        self._bodies = os.pread(self._pattern, _PREPARED_BYTES, 0)
        self._prepared_bytes = 0
        self._known: dict[bytes, _Answer] = {}
        self._tls = service_context(orders.certificate) if orders.certificate else None
        self._socket = TlsSocket if self._tls else _socket.socket
        self._buffer = bytearray(_PREPARED_BYTES)
        self._view = memoryview(self._buffer)
        self._taken = memoryview(bytearray(TAKEN_BYTES))
        self._timers = Timers()
        self._streams = StreamService(self._proof, self._bodies)
        media = {fd: socket.socket(fileno=fd) for fd in orders.media_fds}
        self._media = MediaService(media, media_proof(orders.proof), self._timers.at)
        self._epoll = select.epoll()
        self._transactions = self._accepted = self._open = self._malformed = self._strangers = 0
        self._request_bytes = self._response_bytes = self._segments_sent = self._retransmitted = 0
        self._swept = self._interval = self._highest_fd = self._dropped = self._first = 0
        self._told = (0, 0, 0, 0)
        self._over = self._at_once = False
        self._overflows_before = _listen_overflows()

    def serve(self) -> None:
        """Until its time is over and the last user has gone, or the parent has."""
        began_ns = monotonic_ns()
        self._began_wall_ns, self._began_ns = SYSTEM.wall_ns(), began_ns
        for listener in self._listeners.values():
            listener.setblocking(False)
        self._listen()
        for fd in self._media.sockets:
            self._epoll.register(fd, select.EPOLLIN)
        self._epoll.register(0, select.EPOLLIN)
        self._epoll.register(self._timers.alarm.fileno(), select.EPOLLIN | select.EPOLLET)
        self._timers.at(began_ns + int(self._orders.interval_s * 1e9), self._tell)
        self._timers.at(began_ns, self._sweep)
        poll, timers = self._epoll.poll, self._timers
        while not self._over:
            timers.run()
            self._take(poll(1.0, EVENTS_A_LOOK))
        say({"over": self._counts()})

    def _listen(self) -> None:
        for fd in self._listeners:
            self._epoll.register(fd, select.EPOLLIN | select.EPOLLEXCLUSIVE)
        self._listens = True

    def _listen_no_more(self) -> None:
        """There is no room for another connection: they go to the other processes, if there are any."""
        for fd in self._listeners:
            self._epoll.unregister(fd)
        self._listens = False

    def _counts(self) -> dict[str, int]:
        return {
            "transactions": self._transactions + self._streams.transactions + self._media.calls,
            "connections": self._accepted,
            "malformed": self._malformed,
            "strangers": self._strangers + self._media.strangers,
            "overflows": _listen_overflows() - self._overflows_before,
            "segments_sent": self._segments_sent,
            "retransmitted": self._retransmitted,
        }

    def _take(self, events: list[tuple[int, int]]) -> None:
        """The hot path: most events are a request that is known, and whose answer goes in one piece."""
        connections, buffer, view, known = self._connections, self._buffer, self._view, self._known
        for fd, event in events:
            connection = connections[fd]
            if connection is None or connection.state or not event & _IN:
                self._take_rarer(connection, fd, event)
                continue
            try:
                got = connection.recv_into(buffer, 0, _NOW)
            except OSError as error:
                self._could_not(connection, error)
                continue
            answer = known.get(view[:got].tobytes())
            if answer is None or answer.whole is None or connection.head:
                self._take_slowly(connection, got)
                continue
            connection.proven = True
            self._transactions += 1
            self._request_bytes += got
            try:
                sent = connection.send(answer.whole, answer.flags)
            except OSError as error:
                self._could_not(connection, error)
                sent = 0
            if sent != answer.size:
                self._send_rest(connection, answer, sent)
                continue
            self._response_bytes += sent
            if answer.close:
                self._say_goodbye(connection)

    def _take_rarer(self, connection: _ServedConnection | None, fd: int, event: int) -> None:
        if connection is None:
            self._take_other(fd)
            return
        if connection.state in (NEW, SHAKING):
            self._begin_tls(connection)
        if connection.state == CLOSING and event & select.EPOLLRDHUP:
            self._drop(connection)
            return
        if event & _OUT and connection.state == SENDING:
            self._send_on(connection)
        elif event & _OUT and connection.state == STREAMS and connection.proven:
            self._send_streams(connection)
        if event & _IN or connection.state == IDLE:
            self._read_on(connection)
        elif event & HUNG_UP and connection.state != GONE:
            self._drop(connection)

    def _begin_tls(self, connection: _ServedConnection) -> None:
        """Sees whether a connection speaks TLS, and goes on with its handshake."""
        assert self._tls
        try:
            if connection.state == NEW:
                first = TLS_HANDSHAKE if self._orders.all_tls else connection.sock.recv(1, socket.MSG_PEEK | _NOW)
                if first != TLS_HANDSHAKE:
                    connection.state = IDLE
                    return
                connection.sock.setblocking(False)
                connection.blocking, connection.state = False, SHAKING
                assert isinstance(connection.sock, TlsSocket)
                connection.tls = TlsStream(self._tls, connection.sock, is_service=True)
                connection.recv_into, connection.send = connection.tls.recv_into, connection.tls.send  # type: ignore[assignment]
            if connection.tls and connection.tls.is_ready():
                connection.state = IDLE
        except BlockingIOError:
            return
        except OSError:
            self._send_away(connection, malformed=False)

    def _take_slowly(self, connection: _ServedConnection, got: int) -> None:
        """A request that is new, or not whole, or whose answer takes more than one call."""
        if got:
            self._hear(connection, self._view[:got].tobytes())
            self._read_on(connection)
        else:
            self._drop(connection)

    def _could_not(self, connection: _ServedConnection, error: OSError) -> None:
        """A call was refused: the socket is not ready, or the connection is gone."""
        if not isinstance(error, BlockingIOError):
            self._drop(connection)

    def _send_rest(self, connection: _ServedConnection, answer: _Answer, sent: int) -> None:
        """What the socket did not take at once goes when it has room."""
        if connection.state != GONE:
            connection.answer, connection.sent, connection.state = answer, sent, SENDING

    def _take_other(self, fd: int) -> None:
        """An event of what is no connection: somebody at the door, or the parent, which has closed this one's input."""
        listener = self._listeners.get(fd)
        if listener is not None:
            self._accept(listener)
        elif fd in self._media.sockets:
            self._media.take(fd)
        elif fd == 0 and not os.read(0, 1):
            self._over = True

    def _accept(self, listener: _socket.socket) -> None:
        now_ns, accept, family = monotonic_ns(), listener._accept, listener.family  # type: ignore[attr-defined]
        try:
            for _ in range(min(EVENTS_A_LOOK, self._max_open - self._open)):
                fd, _address = accept()
                sock = self._socket(family, socket.SOCK_STREAM, 0, fd)  # said, so that the kernel need not be asked
                self._accepted += 1
                got = self._first_bytes(sock)
                if got and self._is_served_at_once(sock, got):
                    continue
                connection = _ServedConnection(sock, now_ns)
                if self._tls:
                    connection.state = NEW
                self._connections[fd], self._highest_fd = connection, max(self._highest_fd, fd)
                self._epoll.register(fd, EVENTS)
                self._open += 1
                if got:
                    self._take_slowly(connection, got)
        except OSError:  # nobody is waiting any more, or no descriptor is left
            return
        if self._open >= self._max_open:
            self._listen_no_more()

    def _first_bytes(self, sock: _socket.socket) -> int:
        """How much of a first request is there already, in the buffer; 0 for nothing, or where TLS is to be looked for.
        One connection in sixteen goes the long way, so that its segments are counted at its end."""
        self._first += 1
        if self._tls or self._first & _SAMPLED == 0:
            return 0
        try:
            return sock.recv_into(self._buffer, 0, _NOW)
        except OSError:
            return 0

    def _is_served_at_once(self, sock: _socket.socket, got: int) -> bool:
        """Whether all of a connection is over with its first request, since that is known and its only one: it then
        costs half of what others do."""
        answer = self._known.get(self._view[:got].tobytes())
        if answer is None or answer.whole is None or not answer.close or answer.size > _AT_ONCE_BYTES:
            return False
        try:
            sent = sock.send(answer.whole, answer.flags)
        except OSError:
            sent = 0
        sock.close()
        self._at_once = True
        self._transactions += 1
        self._request_bytes += got
        self._response_bytes += sent
        return True

    def _drop(self, connection: _ServedConnection) -> None:
        self._dropped += 1
        if self._at_once or self._dropped & _SAMPLED == 0:
            self._count_segments(connection)
        self._connections[connection.fd], connection.state = None, GONE
        self._open -= 1
        connection.sock.close()

    def _count_segments(self, connection: _ServedConnection) -> None:
        segments = read_segments(connection.sock)
        if segments:
            self._segments_sent += segments[0]
            self._retransmitted += segments[2]

    def _send_away(self, connection: _ServedConnection, malformed: bool) -> None:
        """Somebody who is no user of this trial, or does not speak as one."""
        if malformed:
            self._malformed += 1
        else:
            self._strangers += 1
        self._drop(connection)

    def _hear(self, connection: _ServedConnection, data: bytes) -> None:
        """Takes what came while a request was awaited."""
        data = connection.head + data
        if data.startswith(PREFACE_BEGINS) and not connection.proven:
            connection.head, connection.state = b"", STREAMS
            connection.streams = ServedStreams(
                self._streams, connection.send, partial(self._wait_for_stream, connection)
            )
            self._hear_streams(connection, data)
            return
        end = self._end_of_head(data)
        if end < 0:
            connection.head = data
            if len(data) > MAX_HEAD_BYTES or (not connection.proven and not self._may_become_request(data)):
                self._send_away(connection, connection.proven)
            return
        connection.head = b""
        head, rest = data[:end], data[end:]
        try:
            answer = self._known.get(head) or self._read(head, connection)
        except MalformedMessageError:
            self._send_away(connection, malformed=True)
            return
        if answer is None:
            self._send_away(connection, malformed=False)
            return
        connection.proven, connection.answer, connection.sent = True, answer, 0
        self._request_bytes += end
        self._take_body(connection, answer, rest)

    def _hear_streams(self, connection: _ServedConnection, data: bytes) -> None:
        """Takes what came on a connection of HTTP/2."""
        assert connection.streams
        try:
            connection.proven = connection.streams.hear(data) or connection.proven
        except MalformedMessageError:
            self._send_away(connection, malformed=connection.proven)
        except StrangerError:
            self._send_away(connection, malformed=False)
        else:
            if connection.proven:  # to others not even settings are told
                self._send_streams(connection)

    def _send_streams(self, connection: _ServedConnection) -> None:
        assert connection.streams
        try:
            connection.streams.send_on()
        except OSError as error:
            self._could_not(connection, error)
            return
        if connection.streams.is_over:
            self._say_goodbye(connection)

    def _wait_for_stream(self, connection: _ServedConnection, after_ns: int, stream: int) -> None:
        """The service takes its own time for an answer."""
        self._timers.at(monotonic_ns() + after_ns, self._answer_stream, (connection, stream))

    def _answer_stream(self, _due_ns: int, given: tuple[_ServedConnection, int]) -> None:
        connection, stream = given
        if connection.state == STREAMS and connection.streams:
            connection.streams.answer(stream)
            self._send_streams(connection)

    def _end_of_head(self, data: bytes) -> int:
        """Where the head of a request ends; -1 where it has not yet."""
        if data[0] == EXCHANGE_MARK:
            return EXCHANGE_BYTES if len(data) >= EXCHANGE_BYTES else -1
        found = data.find(END_OF_HEAD)
        return found + len(END_OF_HEAD) if found >= 0 else -1

    def _may_become_request(self, data: bytes) -> bool:
        return data[0] == EXCHANGE_MARK or data[:1].isalpha()

    def _read(self, head: bytes, connection: _ServedConnection) -> _Answer | None:
        """The answer to a request that was not seen before; None for a stranger's. Raises MalformedMessageError."""
        plain = head[0] == EXCHANGE_MARK
        answer = self._read_plain(head) if plain else self._read_http(head, connection)
        if answer and not connection.chunked:
            self._prepare(answer)
            if len(self._known) < _KNOWN:
                self._known[head] = answer
        return answer

    def _read_plain(self, head: bytes) -> _Answer | None:
        wanted = read_exchange(head, self._proof)
        if wanted is None:
            return None
        return _Answer(b"", wanted.response_bytes, wanted.after_us, wanted.request_bytes, wanted.close)

    def _read_http(self, head: bytes, connection: _ServedConnection) -> _Answer | None:
        request = read_request(head)
        asked = read_target(request.target, self._proof)
        if asked is None:
            return None
        connection.chunked = ChunkedBody() if request.body_bytes is None else None
        if request.method not in (b"GET", b"POST", b"PUT", b"HEAD"):
            return _Answer(make_response(405, 0, close=True), 0, 0, request.body_bytes or 0, True)
        wanted = Wanted(*asked, request.body_bytes or 0, request.close)
        answer_head = make_response(200, wanted.response_bytes, wanted.close)
        body_bytes = 0 if request.method == b"HEAD" else wanted.response_bytes
        return _Answer(answer_head, body_bytes, wanted.after_us, wanted.request_bytes, wanted.close)

    def _prepare(self, answer: _Answer) -> None:
        """Joins head and body where they are small and nothing has to be waited for."""
        fits = answer.body_bytes <= _PREPARED_BYTES
        if fits and self._prepared_bytes + answer.size <= _PREPARED_OF_ALL_BYTES:
            whole = answer.head + self._bodies[: answer.body_bytes]
            self._prepared_bytes += len(whole)
            if not answer.after_ns and not answer.request_bytes and whole:
                answer.whole = whole
            answer.head = whole
            answer.head_bytes, answer.body_bytes = len(whole), 0

    def _take_body(self, connection: _ServedConnection, answer: _Answer, data: bytes) -> None:
        """What of the body came along with the head; the rest is to come."""
        if connection.chunked:
            connection.state = BODY
            self._feed(connection, data)
            return
        connection.left = answer.request_bytes - len(data)
        self._request_bytes += min(len(data), answer.request_bytes)
        if connection.left < 0:  # the next request came along, which no user of ours does
            connection.head, connection.left = data[answer.request_bytes :], 0
        if connection.left:
            connection.state = BODY
        else:
            self._answer(connection, answer)

    def _feed(self, connection: _ServedConnection, data: bytes) -> None:
        assert connection.chunked and connection.answer
        try:
            taken = connection.chunked.feed(data)
        except MalformedMessageError:
            self._send_away(connection, malformed=True)
            return
        self._request_bytes += taken
        if connection.chunked.over:
            connection.chunked, connection.head = None, data[taken:]
            self._answer(connection, connection.answer)

    def _read_on(self, connection: _ServedConnection) -> None:
        """Reads until nothing is there; what comes while an answer is waited for or sent is read after it."""
        while connection.state in (IDLE, BODY, CLOSING, STREAMS):
            if connection.state == IDLE and connection.head and self._end_of_head(connection.head) >= 0:
                self._hear(connection, b"")  # it came along with the request before
            elif not self._read_once(connection):
                return

    def _read_once(self, connection: _ServedConnection) -> bool:
        """Takes what one call brings; False where nothing is there."""
        state, chunked = connection.state, connection.chunked
        try:
            if state in (IDLE, STREAMS) or chunked:
                got = connection.recv_into(self._buffer, 0, _NOW)
            else:
                most = min(connection.left, TAKEN_BYTES) if state == BODY else 0
                got = connection.recv_into(self._taken, most, _NOW | _TRUNC)
        except BlockingIOError:
            return False
        except OSError:
            got = 0
        if not got:
            self._drop(connection)
        elif state == IDLE:
            self._hear(connection, self._view[:got].tobytes())
        elif state == STREAMS:
            self._hear_streams(connection, self._view[:got].tobytes())
        elif state == BODY and chunked:
            self._feed(connection, self._view[:got].tobytes())
        elif state == BODY:
            self._count_body(connection, got)
        return True

    def _count_body(self, connection: _ServedConnection, got: int) -> None:
        self._request_bytes += got
        connection.left -= got
        if not connection.left:
            assert connection.answer
            self._answer(connection, connection.answer)

    def _answer(self, connection: _ServedConnection, answer: _Answer) -> None:
        """The request is whole: answers it, now or after the service's own time."""
        self._transactions += 1
        if answer.after_ns:
            connection.state = WAITING
            self._timers.at(monotonic_ns() + answer.after_ns, self._answer_late, (connection, answer))
        else:
            connection.state = SENDING
            self._send_on(connection)

    def _answer_late(self, _due_ns: int, given: tuple[_ServedConnection, _Answer]) -> None:
        connection, answer = given
        if self._connections[connection.fd] is connection and connection.answer is answer:
            connection.state = SENDING
            self._send_on(connection)
            self._read_on(connection)

    def _send_on(self, connection: _ServedConnection) -> None:
        """Sends what is left of an answer, as far as the socket takes it."""
        answer = connection.answer
        assert answer
        try:
            while connection.sent < answer.head_bytes:
                flags = _NOW | _MORE if answer.close or answer.body_bytes else _NOW
                connection.sent += connection.send(answer.head[connection.sent :], flags)
            if answer.body_bytes and connection.sent < answer.size:
                self._send_body(connection, answer)
        except BlockingIOError:
            return
        except OSError:
            self._drop(connection)
            return
        self._response_bytes += answer.size
        connection.state, connection.answer = IDLE, None
        if answer.close:
            self._say_goodbye(connection)

    def _send_body(self, connection: _ServedConnection, answer: _Answer) -> None:
        if connection.tls:
            self._send_body_in_records(connection, answer)
            return
        if connection.blocking:
            os.set_blocking(connection.fd, False)  # sendfile knows no flags
            connection.blocking = False
        sendfile, fd, source = os.sendfile, connection.fd, self._pattern
        while connection.sent < answer.size:
            at = (connection.sent - answer.head_bytes) % PATTERN_BYTES
            connection.sent += sendfile(fd, source, at, min(answer.size - connection.sent, PATTERN_BYTES - at))

    def _send_body_in_records(self, connection: _ServedConnection, answer: _Answer) -> None:
        """The same through TLS, which the kernel does not do for us."""
        bodies = memoryview(self._bodies)
        while connection.sent < answer.size:
            at = (connection.sent - answer.head_bytes) % len(bodies)
            connection.sent += connection.send(bodies[at : at + min(answer.size - connection.sent, len(bodies) - at)])

    def _say_goodbye(self, connection: _ServedConnection) -> None:
        """Ends a connection whose last answer was sent: its end travels with the last of the data."""
        connection.state, connection.since_ns = CLOSING, monotonic_ns()
        if connection.tls:
            connection.tls.say_goodbye()
        try:
            connection.sock.shutdown(socket.SHUT_WR)
        except OSError:
            self._drop(connection)

    def _sweep(self, due_ns: int, _given: Any) -> None:
        """Looks at a part of the connections, for those that take too long; ends the service when nobody is left."""
        now_ns, connections = monotonic_ns(), self._connections
        part = self._highest_fd // SWEEPS_A_SECOND + 1
        for connection in connections[self._swept : self._swept + part]:
            if connection and self._takes_too_long(connection, now_ns):
                if connection.proven:
                    self._drop(connection)
                else:
                    self._send_away(connection, malformed=False)
        self._swept = 0 if self._swept + part > self._highest_fd else self._swept + part
        if not self._listens and self._open < self._max_open:
            self._listen()
        past_s = (now_ns - self._began_ns) / 1e9 - self._orders.lasts_s
        self._over = self._over or (past_s > _LAST_USER_S and not self._open) or past_s > _GOODBYE_S
        self._timers.at(due_ns + 1_000_000_000 // SWEEPS_A_SECOND, self._sweep)

    def _takes_too_long(self, connection: _ServedConnection, now_ns: int) -> bool:
        age_s = (now_ns - connection.since_ns) / 1e9
        if not connection.proven:
            return age_s > self._orders.prove_s
        return connection.state == CLOSING and age_s > self._orders.timeout_s

    def _tell(self, due_ns: int, _given: Any) -> None:
        """An interval is over."""
        streams, media = self._streams, self._media
        total = (
            self._transactions + streams.transactions + media.calls,
            self._accepted,
            self._request_bytes + streams.request_bytes + media.request_bytes,
            self._response_bytes + streams.response_bytes + media.response_bytes,
        )
        grown = [now - before for now, before in zip(total, self._told, strict=True)]
        self._told = total
        end_s = (monotonic_ns() - self._began_ns) / 1e9
        say(
            {
                "interval": self._interval,
                "end_s": end_s,
                "began_ns": self._began_wall_ns,
                "open_connections": self._open,
                "transactions": grown[0],
                "connections": grown[1],
                "request_bytes": grown[2],
                "response_bytes": grown[3],
            }
        )
        self._interval += 1
        if (self._interval + 0.5) * self._orders.interval_s < self._orders.lasts_s:
            self._timers.at(due_ns + int(self._orders.interval_s * 1e9), self._tell)


def _listen_overflows() -> int:
    """How many new connections this host has refused so far since nobody took them in time (/proc/net/netstat)."""
    try:
        names, values = (line.split() for line in Path("/proc/net/netstat").read_text().splitlines()[:2])
        return int(dict(zip(names, values, strict=True))["ListenOverflows"])
    except (OSError, ValueError, KeyError):
        return 0


def work(text: str) -> None:
    orders = read_orders(text)
    stay_on_a_core(orders.number, service=True)
    service = AppService(orders)
    wake_precisely()
    say_ready()
    wait_begin()
    service.serve()


if __name__ == "__main__":
    import gc

    gc.disable()  # nothing here makes cycles, and a pause would be read as the device's
    run(work)
