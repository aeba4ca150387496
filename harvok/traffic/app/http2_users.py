"""Users' transactions that are streams of HTTP/2 connections: many side by side on each."""

from typing import TYPE_CHECKING

from harvok.clock import monotonic_ns
from harvok.core.wire.http1 import MalformedMessageError
from harvok.core.wire.http2 import BlockReader, Http2Connection, StreamEvent, read_status
from harvok.traffic.app.script import Doing, Request

if TYPE_CHECKING:
    from harvok.traffic.app.users_worker import UserConnection, Users

STREAMS, DRAINING = -7, -8
"""What a connection of streams needs: whatever comes; DRAINING where it takes no new ones."""
_OPEN = (STREAMS, DRAINING)
_AT_ONCE_BYTES = 65_536


class _Transaction:
    """One stream: what is asked for, and what has come of the answer."""

    __slots__ = ("body_bytes", "came", "doing", "due_ns", "exchange", "has_begun", "request_bytes")

    def __init__(self, doing: Doing, exchange: Request, due_ns: int) -> None:
        self.doing, self.exchange, self.due_ns = doing, exchange, due_ns
        self.request_bytes = self.came = self.body_bytes = 0
        self.has_begun = False


class UserStreams:
    """The streams of one connection."""

    __slots__ = ("_connection", "_http2", "_open", "_reader", "_reading", "_unsent", "_users")

    def __init__(self, users: "Users", connection: "UserConnection", pattern: memoryview) -> None:
        self._users, self._connection = users, connection
        self._http2, self._reader = Http2Connection(is_service=False, pattern=pattern), BlockReader()
        self._open: dict[int, _Transaction] = {}
        self._unsent, self._reading = b"", False
        connection.need = STREAMS

    @property
    def has_room(self) -> bool:
        """Whether another transaction may begin here."""
        return self._connection.need == STREAMS and len(self._open) < self._http2.max_streams

    def ask(self, doing: Doing, due_ns: int) -> None:
        """Begins a transaction."""
        connection, exchange = self._connection, doing.take_exchange()
        connection.doing, connection.exchange = doing, exchange
        stream = self._http2.open_stream()
        transaction = self._open[stream] = _Transaction(doing, exchange, due_ns)
        transaction.request_bytes = self._http2.send_head(stream, exchange.request, exchange.upload_bytes)
        connection.left -= 1
        if not connection.left:
            self._http2.say_goodbye()
            self._drain()
        if not self._reading:
            self.send_on()

    def _drain(self) -> None:
        """Nothing new begins here; another connection may take the place of this one."""
        if self._connection.need == STREAMS:
            self._connection.need = DRAINING
            self._users.withdraw(self._connection)

    def send_on(self) -> None:
        """Sends what there is, as far as the socket takes it."""
        try:
            while self._connection.need in _OPEN:
                self._unsent = self._unsent or self._http2.take(_AT_ONCE_BYTES)
                if not self._unsent:
                    return
                self._unsent = self._unsent[self._connection.send(self._unsent) :]
        except BlockingIOError:
            return
        except OSError as error:
            self._users.lose_for(self._connection, error)

    def read_on(self, buffer: bytearray) -> None:
        """Reads until nothing is there."""
        connection, self._reading = self._connection, True
        try:
            while connection.need in _OPEN and (got := connection.recv_into(buffer)):
                now_ns = monotonic_ns()
                for event in self._http2.feed(bytes(memoryview(buffer)[:got])):
                    self._take(event, now_ns)
                self.send_on()
            if connection.need in _OPEN:
                self._users.lose(connection, "closed")
        except BlockingIOError:
            return
        except OSError as error:
            self._users.lose_for(connection, error)
        except MalformedMessageError:
            self._users.lose(connection, "malformed")
        finally:
            self._reading = False

    def _take(self, event: StreamEvent, now_ns: int) -> None:
        if event.kind == "goodbye":
            self._end_those_above(event.stream)
            return
        transaction = self._open.get(event.stream)
        if transaction is None:  # one that was given up
            return
        transaction.came += event.wire_bytes
        if event.kind == "reset":
            self._fail(event.stream, "reset")
            return
        if event.kind == "body":
            transaction.body_bytes += event.body_bytes
        elif not self._begins_well(event, transaction, now_ns):
            return
        if event.ends:
            self._end(event.stream, transaction, now_ns)

    def _begins_well(self, event: StreamEvent, transaction: _Transaction, now_ns: int) -> bool:
        """Takes a head: that of an answer, one that only informs, or the fields after a body."""
        fields = self._reader.read(event.block)
        if transaction.has_begun:
            return True
        status = read_status(fields)
        if status < 200:
            return False
        transaction.has_begun = True
        if status != 200:
            self._fail(event.stream, f"status {status}", gives_up=not event.ends)
            return False
        self._users.count_first(transaction.doing, now_ns - transaction.due_ns)
        return True

    def _end(self, stream: int, transaction: _Transaction, now_ns: int) -> None:
        """An answer is whole."""
        doing = transaction.doing
        if not transaction.has_begun or transaction.body_bytes != transaction.exchange.response_bytes:
            self._fail(stream, "altered")
            return
        del self._open[stream]
        self._http2.forget(stream)
        self._users.count_last(doing, now_ns - transaction.due_ns)
        doing.transactions += 1
        doing.request_bytes += transaction.request_bytes
        doing.response_bytes += transaction.came
        self._close_if_over(now_ns)
        connection = self._connection
        self._users.go_on(connection.user, connection if self.has_room else None, now_ns)

    def _close_if_over(self, now_ns: int) -> None:
        """After its last answer the service ends the connection."""
        if self._connection.need == DRAINING and not self._open:
            self.send_on()
            if self._connection.need == DRAINING:
                self._users.await_end(self._connection, now_ns)

    def _fail(self, stream: int, reason: str, gives_up: bool = False) -> None:
        """One transaction failed; the connection goes on."""
        transaction = self._open.pop(stream)
        if gives_up:
            self._http2.reset(stream)
        else:
            self._http2.forget(stream)
        self._users.count_failure(transaction.doing, reason)
        self._close_if_over(monotonic_ns())
        if self.has_room:
            self._users.offer(self._connection)
        self._users.after_failure(self._connection.user)

    def _end_those_above(self, stream: int) -> None:
        """The other end takes no more, and has not looked at what came after some stream: that begins elsewhere."""
        self._drain()
        for one in [one for one in self._open if one > stream]:
            transaction = self._open.pop(one)
            self._users.open_connection(self._connection.user, transaction.doing, transaction.due_ns)
        self._close_if_over(monotonic_ns())

    def end_late_ones(self, late_ns: int) -> None:
        """Gives up what was meant to begin before `late_ns` and has no whole answer."""
        late = [stream for stream, one in self._open.items() if one.due_ns < late_ns]
        for stream in late:
            self._fail(stream, "timeout", gives_up=True)
        if late:
            self.send_on()

    def give_up(self) -> list[Doing]:
        """The connection is lost: what was under way on it."""
        doings = [transaction.doing for transaction in self._open.values()]
        self._open.clear()
        return doings
