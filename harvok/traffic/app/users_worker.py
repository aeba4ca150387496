"""A worker process: the users of a trial of application traffic, or a share of them. One epoll loop, edge-triggered.

The head of an answer is learned once and from then on compared whole; bodies are counted and cut off in the kernel
(MSG_TRUNC), so that no user's reading is what limits. Times run from the moment at which a user meant to begin: who
waits for a device waits in the figures too. How late this process itself began is counted apart, as lag.
"""

import _socket
import os
import select
import socket
import struct
from collections.abc import Iterator
from dataclasses import asdict
from errno import EADDRNOTAVAIL, ECONNREFUSED, ECONNRESET, EINPROGRESS, EMFILE, ENFILE, EPIPE, ETIMEDOUT
from itertools import cycle
from typing import Any

from harvok.clock import SYSTEM, monotonic_ns
from harvok.core.app.population import UserChange, arrivals, changes, turns
from harvok.core.measures.bins import BINS_UP_TO_AN_HOUR, BITS, bin_of, sparse
from harvok.core.trials.app import LevelCounts
from harvok.core.wire.http1 import (
    END_OF_HEAD,
    MAX_HEAD_BYTES,
    ChunkedBody,
    MalformedMessageError,
    read_response,
)
from harvok.core.wire.media import media_proof
from harvok.traffic.app.http2_users import DRAINING, STREAMS, UserStreams
from harvok.traffic.app.loop import EVENTS, EVENTS_A_LOOK, HUNG_UP, SWEEPS_A_SECOND, TAKEN_BYTES
from harvok.traffic.app.media_users import Calls
from harvok.traffic.app.orders import (
    COARSE,
    PATTERN_BYTES,
    UsersOrders,
    allow_many_descriptors,
    pattern,
    read_orders,
    stay_on_a_core,
)
from harvok.traffic.app.script import Doing, Request, Using, script_of
from harvok.traffic.app.timers import Due, Timers
from harvok.traffic.app.tls import HTTP1, HTTP2, TlsSocket, TlsStream, users_context
from harvok.traffic.sockets import read_segments, source_options
from harvok.worker.child import raise_priority, run, say, say_ready, wait_begin, wake_precisely
from harvok.zones import socket_address

_BUFFER_BYTES = 1 << 18
_AFTER_FAILURE_NS = 1_000_000_000
_RESET_AT_CLOSE = struct.pack("ii", 1, 0)
_NONE_COUNTED = (0, 0, 0)
_SAMPLED = 15
"""One in so many more short connections has its segments counted."""
_NOTHING_AGAIN_NS = 200_000_000
"""Linux sends nothing again sooner, neither by its timer nor by its probe of a tail loss (TCP_RTO_MIN), where nothing
but one segment is under way."""
_IN, _OUT = select.EPOLLIN, select.EPOLLOUT
_END = select.EPOLLRDHUP
_TRUNC = socket.MSG_TRUNC
_IP_BIND_ADDRESS_NO_PORT = 24  # uapi linux/in.h
_IPV6_FREEBIND = 78  # uapi linux/in6.h: a network is routed to this host, none of its addresses are on an interface
_REASONS = {
    ECONNREFUSED: "refused",
    ECONNRESET: "reset",
    EPIPE: "reset",
    ETIMEDOUT: "timeout",
    EADDRNOTAVAIL: "no-port",
    EMFILE: "no-descriptor",
    ENFILE: "no-descriptor",
}

CONNECTING, HEAD, IDLE, CLOSING, CHUNKED, UNTIL_END, SHAKING, GONE = -2, -1, 0, -3, -4, -5, -6, -9
"""What a connection needs next, where it is not a number of bytes of a body; see http2_users.py, too."""


class User:
    """Somebody at his application: which action, and how much of it is to do and under way."""

    __slots__ = ("at", "idle", "leaves", "once", "opened", "to_do", "under_way", "using")

    def __init__(self, using: Using, once: bool) -> None:
        self.using, self.once, self.leaves = using, once, False
        self.at = self.to_do = self.under_way = self.opened = 0
        self.idle: list[UserConnection] = []


class UserConnection:
    __slots__ = (
        "began_ns", "came", "chunked", "doing", "due_ns", "exchange", "fd", "left", "need", "partial", "recv_into",
        "segments", "send", "sock", "streams", "tls", "unsent", "upload_left", "user", "using",
    )  # fmt: skip

    def __init__(self, sock: _socket.socket, user: User) -> None:
        self.sock, self.fd, self.recv_into, self.send = sock, sock.fileno(), sock.recv_into, sock.send
        self.user, self.using = user, user.using
        self.left = user.using.transactions_per_connection
        self.need = CONNECTING
        self.segments = _NONE_COUNTED
        self.partial = self.unsent = b""
        self.upload_left = self.came = 0
        self.chunked: ChunkedBody | None = None
        self.tls: TlsStream | None = None
        self.streams: UserStreams | None = None
        self.doing: Doing
        self.exchange: Request
        self.began_ns = self.due_ns = 0


class Users:
    """All users of this process, their connections, and what becomes of both."""

    def __init__(self, orders: UsersOrders) -> None:
        trial = orders.trial
        self._orders, self._trial = orders, trial
        self._pattern = pattern()
        bodies = os.pread(self._pattern, PATTERN_BYTES, 0)
        host, port = orders.address
        host_field = f"[{host.partition('%')[0]}]:{port}" if ":" in host else f"{host}:{port}"
        self._script = script_of(trial.mix, orders.proof, host_field, bodies)
        self._address = socket_address(host, port)
        self._family = socket.AF_INET6 if ":" in host else socket.AF_INET
        source = orders.source
        self._from = cycle(socket_address(one, 0) for one in source.clients or [source.address] if one)
        self._binds = bool(source.address or source.clients)
        self._options: list[tuple[int, int, Any]] = list(source_options(source))
        if self._binds:
            self._options.append((socket.IPPROTO_IP, _IP_BIND_ADDRESS_NO_PORT, 1))
        if source.clients and self._family == socket.AF_INET6:
            self._options.append((socket.IPPROTO_IPV6, _IPV6_FREEBIND, 1))
        proof = media_proof(orders.proof)
        self._calls = Calls(
            self, proof, self._family, [option for option in self._options if _is_for_datagrams(option)]
        )
        self.media_address = socket_address(host, orders.media_port) if orders.media_port else None
        self._connections: list[UserConnection | None] = [None] * (allow_many_descriptors() + 1)
        self._buffer, self._taken = bytearray(_BUFFER_BYTES), memoryview(bytearray(TAKEN_BYTES))
        self._turns = turns(trial.mix.shares(), orders.number, orders.of)
        self._here: dict[int, User] = {}
        self._timers, self._epoll = Timers(), select.epoll()
        self._tls = {name: users_context(name) for name in (HTTP1, HTTP2)} if any(trial.mix.with_tls) else {}
        self._bodies = memoryview(bodies)
        self._timeout_ns = int(trial.timeout_s * 1e9)
        self._parts = min(max(int(trial.timeout_s / 4 * SWEEPS_A_SECOND), 1), SWEEPS_A_SECOND)
        self._highest_fd = 0
        self._open = self._present = self._unserved = self._failed = 0
        self._lag = [0] * BINS_UP_TO_AN_HOUR
        self._recent, self._recent_first = [0] * (BINS_UP_TO_AN_HOUR >> COARSE), [0] * (BINS_UP_TO_AN_HOUR >> COARSE)
        self._recent_lag = [0] * (BINS_UP_TO_AN_HOUR >> COARSE)
        self._told_before, self._told = (0, 0, 0, 0), (0, 0, 0, 0, 0, 0)
        self._interval = self._swept = self._looks = self._open_seen = self._present_seen = 0
        self._over = False

    def work(self) -> None:
        """From the first user to the end of the trial, or until the parent has gone."""
        self._began_wall_ns, self._began_ns = SYSTEM.wall_ns(), monotonic_ns()
        self._epoll.register(0, select.EPOLLIN)
        self._epoll.register(self._timers.alarm.fileno(), select.EPOLLIN | select.EPOLLET)
        self._plan()
        poll, timers = self._epoll.poll, self._timers
        while not self._over:
            timers.run()
            self._take(poll(1.0, EVENTS_A_LOOK))
        say({"over": {"header_bytes": self._header_bytes()}})

    def _plan(self) -> None:
        """Sets everything that happens at a time of its own."""
        trial, orders, timers = self._trial, self._orders, self._timers
        for number, (_, begins_s, ends_s) in enumerate(trial.sustained()):
            timers.at(self._moment_ns(begins_s), self._begin_level)
            timers.at(self._moment_ns(ends_s), self._end_level, number)
        timers.at(self._moment_ns(trial.duration_s), self._end)
        timers.at(self._moment_ns(trial.interval_s), self._tell)
        timers.at(self._began_ns, self._sweep)
        if trial.levels[0].users is None:
            self._next_arrival(arrivals(trial, orders.number, orders.of))
        else:
            self._next_change(changes(trial, orders.number, orders.of))

    def _moment_ns(self, at_s: float) -> int:
        return self._began_ns + int(at_s * 1e9)

    # Users

    def _next_change(self, coming: Iterator[UserChange]) -> None:
        change = next(coming, None)
        if change is not None:
            self._timers.at(self._moment_ns(change.at_s), self._change, (change, coming))

    def _change(self, due_ns: int, given: tuple[UserChange, Iterator[UserChange]]) -> None:
        change, coming = given
        if change.joins:
            user = self._here[change.user] = User(self._script[next(self._turns)], once=False)
            self._present += 1
            self._begin_on_time(user, due_ns)
        else:
            self._ask_to_leave(self._here.pop(change.user))
        self._next_change(coming)

    def _ask_to_leave(self, user: User) -> None:
        """Who is in the middle of something leaves after it."""
        user.leaves = True
        if not user.under_way:
            self._leave(user)

    def _next_arrival(self, coming: Iterator[float]) -> None:
        at_s = next(coming, None)
        if at_s is not None:
            self._timers.at(self._moment_ns(at_s), self._arrive, coming)

    def _arrive(self, due_ns: int, coming: Iterator[float]) -> None:
        using = self._script[next(self._turns)]
        if self._present * self._orders.of >= self._trial.max_users:
            self._unserved += 1
        else:
            self._present += 1
            self._begin_on_time(User(using, once=True), due_ns)
        self._next_arrival(coming)

    def _begin_action(self, user: User, due_ns: int) -> None:
        """The next action of a user, who meant to begin it at `due_ns`."""
        doing = user.using.actions[user.at]
        user.to_do = doing.times
        self._begin_more(user, doing, due_ns)

    def _begin_more(self, user: User, doing: Doing, due_ns: int) -> None:
        """Begins as much of an action as there is room for."""
        if user.using.has_calls:
            user.under_way, user.to_do = user.to_do, 0
            for _ in range(doing.times):
                self._calls.begin(user, doing, due_ns)
            return
        while user.to_do and (user.idle or user.opened < user.using.connections):
            user.to_do -= 1
            user.under_way += 1
            if user.idle:
                connection = user.idle.pop()
                self._ask(connection, doing, due_ns)
                if connection.streams is not None and connection.streams.has_room:
                    self.offer(connection)
            else:
                self.open_connection(user, doing, due_ns)

    def offer(self, connection: UserConnection) -> None:
        """There is room on a connection; of several, that which waits longest is the next."""
        if connection not in connection.user.idle:
            connection.user.idle.insert(0, connection)

    def withdraw(self, connection: UserConnection) -> None:
        """There will be no room on a connection any more."""
        user = connection.user
        user.opened -= 1
        if connection in user.idle:
            user.idle.remove(connection)

    def _resume(self, due_ns: int, user: User) -> None:
        """Goes on after a pause, in which he may have left."""
        if not user.leaves:
            self._begin_on_time(user, due_ns)

    def _begin_on_time(self, user: User, due_ns: int) -> None:
        """What a user meant to do at a time of his own; counts how late it is."""
        lag = bin_of(monotonic_ns() - due_ns)
        self._lag[lag] += 1
        self._recent_lag[lag >> COARSE] += 1
        self._begin_action(user, due_ns)

    def _leave(self, user: User) -> None:
        self._present -= 1
        for connection in user.idle:
            self._close(connection)
        user.idle.clear()

    def go_on(self, user: User, connection: UserConnection | None, now_ns: int) -> None:
        """A transaction is over, and its connection free for the next, unless None."""
        doing = user.using.actions[user.at]
        has_room = connection is not None or user.opened < user.using.connections
        if user.to_do and not user.leaves and has_room:
            user.to_do -= 1
            if connection is None:
                self.open_connection(user, doing, now_ns)
            else:
                self._ask(connection, doing, now_ns)
            return
        user.under_way -= 1
        if connection is not None:
            self.offer(connection)
        if user.under_way:
            return
        if user.leaves:
            self._leave(user)
            return
        user.at = user.at + 1 if user.at + 1 < len(user.using.actions) else 0
        if user.at == 0 and not self._begin_again(user):
            self._leave(user)
            return
        think_ns = doing.think_ns()
        if think_ns:
            self._timers.at(now_ns + think_ns, self._resume, user)
        else:
            self._begin_action(user, now_ns)

    def _begin_again(self, user: User) -> bool:
        """Whether a user who has gone through his application begins anew; where what flows is shared by transactions
        or bytes, with the application whose turn it is."""
        if user.once:
            return False
        if self._trial.mix.shared_by != "users":
            for connection in user.idle:
                self._close(connection)
            user.idle.clear()
            user.using = self._script[next(self._turns)]
        return True

    # Connections

    def open_connection(self, user: User, doing: Doing, due_ns: int) -> None:
        try:
            sock = (TlsSocket if user.using.tls else _socket.socket)(
                self._family, socket.SOCK_STREAM | socket.SOCK_NONBLOCK
            )
        except OSError as error:
            self.could_not_open(user, doing, error.errno)
            return
        try:
            for option in self._options:
                sock.setsockopt(*option)
            if self._binds:
                sock.bind(next(self._from))
        except OSError as error:
            sock.close()
            self.could_not_open(user, doing, error.errno)
            return
        code = sock.connect_ex(self._address)
        if code not in (0, EINPROGRESS):
            sock.close()
            self.could_not_open(user, doing, code)
            return
        connection = UserConnection(sock, user)
        connection.doing, connection.due_ns, connection.began_ns = doing, due_ns, monotonic_ns()
        self._connections[connection.fd] = connection
        self._highest_fd = max(self._highest_fd, connection.fd)
        self._epoll.register(connection.fd, EVENTS)
        user.opened += 1

    def next_source(self) -> Any:
        """The local address that the next call comes from; None for any."""
        return next(self._from) if self._binds else None

    def listen_to(self, fd: int) -> None:
        """Has the calls take what comes at a socket."""
        self._epoll.register(fd, _IN)

    def at(self, due_ns: int, what: Due) -> None:
        """Has something called at a moment of the monotonic clock."""
        self._timers.at(due_ns, what)

    def could_not_open(self, user: User, doing: Doing, code: int | None) -> None:
        """A connection, or the socket of a call, could not even be tried."""
        self.count_failure(doing, _REASONS.get(code or 0, "unreachable"))
        self.after_failure(user)

    def _connected(self, connection: UserConnection, event: int) -> None:
        if event & HUNG_UP:
            code = connection.sock.getsockopt(socket.SOL_SOCKET, socket.SO_ERROR)
            if not code:  # the event was of a connection that had this descriptor before
                return
            self.lose(connection, "connect-timeout" if code == ETIMEDOUT else _REASONS.get(code, "unreachable"))
            return
        using = connection.using
        using.opened += 1
        self._open += 1
        now_ns = monotonic_ns()
        using.handshake[bin_of(now_ns - connection.began_ns)] += 1
        if using.tls:
            assert isinstance(connection.sock, TlsSocket)
            connection.need, connection.began_ns = SHAKING, now_ns
            context = self._tls[HTTP2 if using.has_streams else HTTP1]
            connection.tls = TlsStream(context, connection.sock, is_service=False)
            connection.recv_into, connection.send = connection.tls.recv_into, connection.tls.send  # type: ignore[assignment]
            self._shake(connection)
        else:
            self._ask_first(connection)

    def _shake(self, connection: UserConnection) -> None:
        """Goes on with the handshake of TLS."""
        assert connection.tls
        try:
            if not connection.tls.is_ready():
                return
        except OSError as error:
            reset = error.errno in (ECONNRESET, EPIPE)
            self.lose(connection, "reset" if reset else "tls")
            return
        if connection.using.has_streams and connection.tls.protocol != HTTP2:
            self.lose(connection, "tls")
            return
        connection.using.tls_handshake[bin_of(monotonic_ns() - connection.began_ns)] += 1
        self._ask_first(connection)

    def _ask_first(self, connection: UserConnection) -> None:
        """A connection is ready for the transaction that it was opened for; one of streams, for others as well."""
        user, doing, due_ns = connection.user, connection.doing, connection.due_ns
        if not connection.using.has_streams:
            self._ask(connection, doing, due_ns)
            return
        connection.streams = UserStreams(self, connection, self._bodies)
        connection.streams.ask(doing, due_ns)
        if connection.streams.has_room:
            self.offer(connection)
            self._begin_more(user, doing, due_ns)

    def _ask(self, connection: UserConnection, doing: Doing, due_ns: int) -> None:
        """Sends the next request of an action."""
        if connection.streams is not None:
            connection.streams.ask(doing, due_ns)
            return
        exchange = doing.take_exchange()
        connection.exchange, connection.doing, connection.due_ns = exchange, doing, due_ns
        connection.need, connection.began_ns = HEAD, due_ns
        request = exchange.last if connection.left == 1 else exchange.request
        try:
            sent = connection.send(request)
        except BlockingIOError:
            sent = 0
        except OSError as error:
            self.lose(connection, _REASONS.get(error.errno or 0, "reset"))
            return
        if sent != len(request) or exchange.upload_bytes:
            connection.unsent, connection.upload_left = request[sent:], exchange.upload_bytes
            self._send_on(connection)

    def _send_on(self, connection: UserConnection) -> None:
        """Sends what is left of a request, as far as the socket takes it."""
        try:
            while connection.unsent:
                connection.unsent = connection.unsent[connection.send(connection.unsent) :]
            while connection.upload_left:
                at = (connection.exchange.upload_bytes - connection.upload_left) % PATTERN_BYTES
                most = min(connection.upload_left, PATTERN_BYTES - at)
                if connection.tls:
                    connection.upload_left -= connection.send(self._bodies[at : at + most])
                else:
                    connection.upload_left -= os.sendfile(connection.fd, self._pattern, at, most)
        except BlockingIOError:
            return
        except OSError as error:
            self.lose(connection, _REASONS.get(error.errno or 0, "reset"))

    def _close(self, connection: UserConnection) -> None:
        """Ends a connection, and counts its segments; two more each way say goodbye."""
        self._count_at_end(connection)
        self._forget(connection)
        connection.using.segments_sent += 1
        connection.using.segments_received += 1

    def _count_at_end(self, connection: UserConnection) -> None:
        """Counts the segments of a connection that ends. Of those that had one transaction and were over before
        anything could be sent again, one in sixteen is looked at, and stands for the others."""
        using = connection.using
        is_new = connection.need == CLOSING and connection.segments is _NONE_COUNTED
        if not (using.is_brief and is_new and connection.began_ns - connection.due_ns < _NOTHING_AGAIN_NS):
            self._count_segments(connection)
            return
        using.short += 1
        if using.short & _SAMPLED == 1 and (found := read_segments(connection.sock)):
            using.looked_at += 1
            using.short_sent += found[0]
            using.short_received += found[1]

    def _forget(self, connection: UserConnection) -> None:
        self._connections[connection.fd] = None
        self._open -= connection.need != CONNECTING
        connection.user.opened -= connection.need not in (CLOSING, DRAINING)
        connection.need = GONE
        connection.sock.close()

    def _count_segments(self, connection: UserConnection) -> None:
        """Counts the segments of a connection since they were last counted."""
        now, before, using = read_segments(connection.sock), connection.segments, connection.using
        if now is None:
            return
        using.segments_sent += now[0] - before[0]
        using.segments_received += now[1] - before[1]
        using.retransmitted += now[2] - before[2]
        connection.segments = now

    def lose(self, connection: UserConnection, reason: str) -> None:
        """A transaction failed, and its connection with it."""
        user = connection.user
        if connection.need == GONE:
            return
        if connection.need == CLOSING:  # its last transaction was over
            self._forget(connection)
            return
        if reason == "reset" and connection.need != CONNECTING:
            connection.using.resets += 1
        if connection.streams is not None:
            self._lose_streams(connection, connection.streams.give_up(), reason)
            return
        if connection.need == IDLE:
            user.idle.remove(connection)
            self._forget(connection)
            return
        self.count_failure(connection.doing, reason)
        self._forget(connection)
        self.after_failure(user)

    def lose_for(self, connection: UserConnection, error: OSError) -> None:
        """A call was refused: the connection is gone."""
        self.lose(connection, _REASONS.get(error.errno or 0, "reset"))

    def _lose_streams(self, connection: UserConnection, doings: list[Doing], reason: str) -> None:
        """A connection is gone, and all that was under way on it."""
        user = connection.user
        if connection in user.idle:
            user.idle.remove(connection)
        self._forget(connection)
        for doing in doings:
            self.count_failure(doing, reason)
        for _ in doings:
            self.after_failure(user)

    def await_end(self, connection: UserConnection, now_ns: int) -> None:
        """All is over on a connection: the service ends it."""
        connection.need, connection.began_ns = CLOSING, now_ns

    def count_failure(self, doing: Doing, reason: str) -> None:
        """A transaction failed."""
        self._failed += 1
        doing.failures[reason] = doing.failures.get(reason, 0) + 1

    def after_failure(self, user: User) -> None:
        """Who stays tries his action again in a while; who came once leaves."""
        user.under_way -= 1
        user.to_do = 0
        if user.under_way:
            return
        if user.once or user.leaves:
            user.leaves = True
            self._leave(user)
        else:
            self._timers.at(monotonic_ns() + _AFTER_FAILURE_NS, self._resume, user)

    # What comes

    def _take(self, events: list[tuple[int, int]]) -> None:
        """The hot path: most events are an answer whose head is known, and which came in one piece."""
        connections, buffer, recent = self._connections, self._buffer, self._recent
        for fd, event in events:
            connection = connections[fd]
            if connection is None or connection.need != HEAD or not event & _IN or connection.partial:
                self._take_rarer(connection, fd, event)
                continue
            try:
                got = connection.recv_into(buffer)
            except OSError as error:
                self._could_not(connection, error)
                continue
            exchange = connection.exchange
            if got != exchange.whole or not buffer.startswith(exchange.head):
                self._begin_answer(connection, got)
                self._read_on(connection, event)
                continue
            now_ns = monotonic_ns()
            time_ns = now_ns - connection.due_ns
            doublings = time_ns.bit_length() - BITS - 1
            at = (doublings << BITS) + (time_ns >> doublings) if doublings > 0 else time_ns
            connection.doing.whole[at] += 1
            recent[at >> COARSE] += 1
            self._done(connection, now_ns, event)

    def _take_rarer(self, connection: UserConnection | None, fd: int, event: int) -> None:
        if connection is None:
            if fd in self._calls.open:
                self._calls.open[fd].take()
            elif fd == 0 and not os.read(0, 1):  # the parent has closed this one's input
                self._over = True
            return
        if connection.need == CONNECTING:
            self._connected(connection, event)
            return
        if connection.need == SHAKING:
            self._shake(connection)
            return
        if connection.need in (STREAMS, DRAINING):
            self._take_streams(connection, event)
            return
        if event & _OUT and (connection.unsent or connection.upload_left):
            self._send_on(connection)
        if event & _IN:
            self._read_on(connection, event)
        elif event & HUNG_UP and self._connections[fd] is connection:
            self.lose(connection, "reset")

    def _take_streams(self, connection: UserConnection, event: int) -> None:
        assert connection.streams
        if event & _OUT:
            connection.streams.send_on()
        if event & _IN:
            connection.streams.read_on(self._buffer)
        elif event & HUNG_UP and self._connections[connection.fd] is connection:
            self.lose(connection, "reset")

    def _could_not(self, connection: UserConnection, error: OSError) -> None:
        """A call was refused: nothing is there yet, or the connection is gone."""
        if not isinstance(error, BlockingIOError):
            self.lose(connection, _REASONS.get(error.errno or 0, "reset"))

    def _done(self, connection: UserConnection, now_ns: int, event: int = 0) -> None:
        """A transaction is over: counts it, and goes on with the user."""
        doing, exchange, user = connection.doing, connection.exchange, connection.user
        doing.transactions += 1
        doing.request_bytes += exchange.request_bytes
        doing.response_bytes += exchange.whole
        connection.left -= 1
        straight = None if user.leaves or user.once else doing.straight
        if connection.left:
            if straight is not None:
                user.at = straight.at
                self._ask(connection, straight, now_ns)
                return
            connection.need = IDLE
            self.go_on(user, connection, now_ns)
            return
        user.opened -= 1
        connection.need = CLOSING
        connection.began_ns = now_ns
        if event & _END:  # the other end's goodbye came along
            self._close(connection)
        if straight is None:
            self.go_on(user, None, now_ns)
        else:
            user.at = straight.at
            self.open_connection(user, straight, now_ns)

    def _first_byte(self, connection: UserConnection, need: int) -> None:
        """An answer has begun, and `need` bytes of it are to come."""
        self.count_first(connection.doing, monotonic_ns() - connection.due_ns)
        connection.need = need

    def count_first(self, doing: Doing, time_ns: int) -> None:
        """The first byte of an answer that is not whole yet."""
        at = bin_of(time_ns)
        doing.first[at] += 1
        self._recent_first[at >> COARSE] += 1

    def _last_byte(self, connection: UserConnection, event: int = 0) -> None:
        """An answer that came in pieces is whole."""
        now_ns = monotonic_ns()
        self.count_last(connection.doing, now_ns - connection.due_ns)
        self._done(connection, now_ns, event)

    def count_once(self, doing: Doing, time_ns: int) -> None:
        """An answer that is all there when it begins: of a call, its first datagram."""
        at = bin_of(time_ns)
        doing.whole[at] += 1
        self._recent[at >> COARSE] += 1

    def count_last(self, doing: Doing, time_ns: int) -> None:
        """The last byte of an answer whose first was counted before."""
        at = bin_of(time_ns)
        doing.last[at] += 1
        self._recent[at >> COARSE] += 1
        self._recent_first[at >> COARSE] -= 1

    def _begin_answer(self, connection: UserConnection, got: int) -> None:
        """An answer begins that is not whole yet, or not known."""
        exchange = connection.exchange
        if not got:
            self.lose(connection, "closed")
        elif not self._buffer.startswith(exchange.head) or connection.partial:
            self._read_head(connection, got)
        elif got > exchange.whole:
            self.lose(connection, "malformed")
        else:
            self._first_byte(connection, exchange.whole - got)
            if got == exchange.whole:
                self._last_byte(connection)

    def _read_on(self, connection: UserConnection, event: int) -> None:
        """Reads until nothing is there, or the answer is whole."""
        exchange, transactions = connection.exchange, connection.left
        while (
            self._connections[connection.fd] is connection
            and (connection.exchange, connection.left) == (exchange, transactions)
            and self._read_once(connection, event)
        ):
            pass

    def _read_once(self, connection: UserConnection, event: int) -> bool:
        """Takes what one call brings; False where nothing is there."""
        need = connection.need
        try:
            if need > 0:
                got = connection.recv_into(self._taken, min(need, TAKEN_BYTES), _TRUNC)
            else:
                got = connection.recv_into(self._buffer)
        except OSError as error:
            self._could_not(connection, error)
            return False
        if need == HEAD:
            self._begin_answer(connection, got)
        elif not got:
            self._ended(connection)
        elif need > 0 or need == UNTIL_END:
            self._count_body(connection, got, event)
        elif need == CHUNKED:
            self._feed(connection, bytes(self._buffer[:got]))
        elif need == IDLE:
            self._lose_idle(connection)
        return True

    def _count_body(self, connection: UserConnection, got: int, event: int) -> None:
        if connection.need > 0:
            connection.need -= got
            if not connection.need:
                self._last_byte(connection, event)
        else:
            connection.came += got

    def _ended(self, connection: UserConnection) -> None:
        """The other end has said goodbye."""
        if connection.need == UNTIL_END:
            connection.left, connection.exchange.whole = 1, connection.came
            self._last_byte(connection, _END)
        elif connection.need == CLOSING:
            self._close(connection)
        elif connection.need == IDLE:
            connection.user.idle.remove(connection)
            self._close(connection)
        else:
            self.lose(connection, "closed")

    def _lose_idle(self, connection: UserConnection) -> None:
        """Something came that nobody asked for."""
        connection.user.idle.remove(connection)
        self.count_failure(connection.doing, "malformed")
        self._forget(connection)

    def _read_head(self, connection: UserConnection, got: int) -> None:
        """Takes the beginning of an answer whose head is not known yet, or is another than it was."""
        data = connection.partial + bytes(self._buffer[:got])
        end = data.find(END_OF_HEAD)
        if end < 0:
            connection.partial = data
            if len(data) > MAX_HEAD_BYTES or not b"HTTP/1.".startswith(data[:7]):
                self.lose(connection, "malformed")
            return
        connection.partial = b""
        end += len(END_OF_HEAD)
        try:
            self._learn(connection, data[:end], data[end:])
        except MalformedMessageError:
            self.lose(connection, "malformed")

    def _learn(self, connection: UserConnection, head: bytes, rest: bytes) -> None:
        answer = read_response(head)
        exchange = connection.exchange
        if answer.status != 200:
            self.lose(connection, f"status {answer.status}")
            return
        expected = connection.left == 1 or not answer.close
        if not expected:
            connection.left = 1
        if answer.body_bytes is None:
            connection.came = len(head) + (0 if answer.chunked else len(rest))
            self._first_byte(connection, CHUNKED if answer.chunked else UNTIL_END)
            if answer.chunked:
                connection.chunked = ChunkedBody()
                self._feed(connection, rest)
            return
        if answer.body_bytes != exchange.response_bytes:
            self.lose(connection, "altered")
            return
        if expected:  # one that ends a connection unasked is read each time
            exchange.head = head
        exchange.whole = len(head) + answer.body_bytes
        need = answer.body_bytes - len(rest)
        if need < 0:
            self.lose(connection, "malformed")
            return
        self._first_byte(connection, need)
        if not need:
            self._last_byte(connection)

    def _feed(self, connection: UserConnection, data: bytes) -> None:
        chunked = connection.chunked
        assert chunked
        try:
            taken = chunked.feed(data)
        except MalformedMessageError:
            self.lose(connection, "malformed")
            return
        connection.came += taken
        if not chunked.over:
            return
        connection.chunked = None
        if taken < len(data):
            self.lose(connection, "malformed")
        elif chunked.body_bytes != connection.exchange.response_bytes:
            self.lose(connection, "altered")
        else:
            connection.exchange.whole = connection.came
            self._last_byte(connection)

    # Time

    def _sweep(self, due_ns: int, _given: Any) -> None:
        """Looks at a part of the connections, for those that have had no answer for too long: at all of them within a
        quarter of that time, or a second."""
        late_ns, connections = monotonic_ns() - self._timeout_ns, self._connections
        part = self._highest_fd // self._parts + 1
        for connection in connections[self._swept : self._swept + part]:
            if connection is None or connection.need == IDLE:
                continue
            if connection.need in (STREAMS, DRAINING):
                assert connection.streams
                connection.streams.end_late_ones(late_ns)
            elif connection.began_ns < late_ns:
                self.lose(connection, "connect-timeout" if connection.need == CONNECTING else "timeout")
        self._swept = 0 if self._swept + part > self._highest_fd else self._swept + part
        self._looks += 1
        self._open_seen += self._open
        self._present_seen += self._present
        self._timers.at(due_ns + 1_000_000_000 // SWEEPS_A_SECOND, self._sweep)

    def _begin_level(self, _due_ns: int, _given: Any) -> None:
        """A level begins to be sustained: from here on is measured."""
        self._count_all_segments()
        self._told_before = self._totals()
        for using in self._script:
            using.clear()
        self._lag = [0] * BINS_UP_TO_AN_HOUR
        self._level_began_ns, self._unserved_before = monotonic_ns(), self._unserved
        self._looks = self._open_seen = self._present_seen = 0

    def _count_all_segments(self) -> None:
        for connection in self._connections[: self._highest_fd + 1]:
            if connection and connection.need != CONNECTING:
                self._count_segments(connection)

    def _end_level(self, _due_ns: int, number: int) -> None:
        """A level was sustained: says what became of it."""
        seconds = (monotonic_ns() - self._level_began_ns) / 1e9
        self._count_all_segments()
        counts = LevelCounts(
            number,
            seconds,
            [
                action.counts(at, place)
                for at, using in enumerate(self._script)
                for place, action in enumerate(using.actions)
            ],
            [using.counts(at) for at, using in enumerate(self._script)],
            self._open_seen / max(self._looks, 1),
            self._present_seen / max(self._looks, 1),
            sparse(self._lag),
            self._unserved - self._unserved_before,
        )
        say({"level": asdict(counts)})

    def _totals(self) -> tuple[int, int, int, int]:
        """Connections, transactions and bytes each way since the beginning."""
        actions = [action for using in self._script for action in using.actions]
        now = (
            sum(using.opened for using in self._script),
            sum(action.transactions for action in actions),
            sum(action.request_bytes for action in actions),
            sum(action.response_bytes for action in actions),
        )
        before = self._told_before
        return now[0] + before[0], now[1] + before[1], now[2] + before[2], now[3] + before[3]

    def _tell(self, due_ns: int, _given: Any) -> None:
        """An interval is over."""
        totals = (*self._totals(), self._failed, self._unserved)
        grown = [now - before for now, before in zip(totals, self._told, strict=True)]
        self._told = totals
        say(
            {
                "interval": self._interval,
                "end_s": (monotonic_ns() - self._began_ns) / 1e9,
                "began_ns": self._began_wall_ns,
                "users": self._present,
                "open_connections": self._open,
                "connections": grown[0],
                "transactions": grown[1],
                "request_bytes": grown[2],
                "response_bytes": grown[3],
                "failed": grown[4],
                "unserved": grown[5],
                "response": sparse(self._recent),
                "first_byte": {
                    at: count + self._recent_first[at]
                    for at, count in enumerate(self._recent)
                    if count + self._recent_first[at] > 0
                },
                "lag": sparse(self._recent_lag),
            }
        )
        for recent in (self._recent, self._recent_first, self._recent_lag):
            recent[:] = [0] * len(recent)
        self._interval += 1
        if (self._interval + 0.5) * self._trial.interval_s < self._trial.duration_s:
            self._timers.at(due_ns + int(self._trial.interval_s * 1e9), self._tell)

    def _end(self, _due_ns: int, _given: Any) -> None:
        """The trial is over: what is still open is reset, so that neither its ports nor the device's entries are kept
        for a minute (TIME-WAIT, RFC 9293 §3.6.1), which the next trial would have to do without."""
        for connection in self._connections[: self._highest_fd + 1]:
            if connection is not None:
                connection.sock.setsockopt(socket.SOL_SOCKET, socket.SO_LINGER, _RESET_AT_CLOSE)
        self._over = True

    def _header_bytes(self) -> int:
        """What a segment carries besides its payload: Ethernet with FCS, IP and TCP with time stamps."""
        return 18 + (40 if self._family == socket.AF_INET6 else 20) + 32


def _is_for_datagrams(option: tuple[int, int, Any]) -> bool:
    return option[0] != socket.IPPROTO_TCP


def work(text: str) -> None:
    orders = read_orders(text)
    stay_on_a_core(orders.number, service=False)
    users = Users(orders)
    wake_precisely()
    raise_priority()
    say_ready()
    wait_begin()
    users.work()


if __name__ == "__main__":
    import gc

    gc.disable()  # nothing here makes cycles, and a pause would be read as the device's
    run(work)
