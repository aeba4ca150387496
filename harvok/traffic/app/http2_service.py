"""The service's half of HTTP/2: the streams of one connection. Requests come side by side, and so do answers."""

import socket
from collections.abc import Callable

from harvok.core.wire.app import read_target
from harvok.core.wire.http1 import MalformedMessageError
from harvok.core.wire.http2 import (
    BlockReader,
    Http2Connection,
    StreamEvent,
    make_response_block,
    read_alone,
)

PREFACE_BEGINS = b"PRI"
_AT_ONCE_BYTES = 65_536
_KNOWN = 16_384
_METHODS = (b"GET", b"POST", b"PUT", b"HEAD")


class StrangerError(Exception):
    """A request without the proof that it belongs to the trial."""


class StreamAnswer:
    """What is sent in answer to one request."""

    __slots__ = ("after_ns", "block", "body_bytes")

    def __init__(self, block: bytes, body_bytes: int, after_us: int) -> None:
        self.block, self.body_bytes, self.after_ns = block, body_bytes, after_us * 1000


class StreamService:
    """Knows the answers to requests on streams, and counts them, for all connections of a service."""

    def __init__(self, proof: bytes, pattern: bytes) -> None:
        self.proof, self.pattern = proof, memoryview(pattern)
        self.transactions = self.request_bytes = self.response_bytes = 0
        self._known: dict[bytes, StreamAnswer] = {}

    def answer_to(self, block: bytes, reader: BlockReader) -> StreamAnswer:
        """Raises StrangerError, and MalformedMessageError."""
        answer = self._known.get(block)
        if answer is None:
            answer = self._read(reader.read(block))
            if len(self._known) < _KNOWN and read_alone(block) is not None:
                self._known[block] = answer
        return answer

    def _read(self, fields: dict[bytes, bytes]) -> StreamAnswer:
        asked = read_target(fields.get(b":path", b""), self.proof)
        if asked is None:
            raise StrangerError
        response_bytes, after_us = asked
        method = fields.get(b":method", b"")
        if method not in _METHODS:
            return StreamAnswer(make_response_block(405, 0), 0, 0)
        body_bytes = 0 if method == b"HEAD" else response_bytes
        return StreamAnswer(make_response_block(200, response_bytes), body_bytes, after_us)


class ServedStreams:
    """The streams of one connection. `send` is its socket's, or that of TLS on it; `wait` has `answer` called for a
    stream some nanoseconds later."""

    __slots__ = ("_answers", "_http2", "_reader", "_send", "_service", "_unsent", "_wait", "ends_after_these")

    def __init__(
        self, service: StreamService, send: Callable[[bytes, int], int], wait: Callable[[int, int], None]
    ) -> None:
        self._service, self._send, self._wait, self._unsent = service, send, wait, b""
        self._http2, self._reader = Http2Connection(is_service=True, pattern=service.pattern), BlockReader()
        self._answers: dict[int, StreamAnswer] = {}  # to requests that are not whole, or that wait
        self.ends_after_these = False
        """Whether the other end has said that nothing new comes."""

    @property
    def is_over(self) -> bool:
        """Whether nothing is left to do, now or later."""
        return self.ends_after_these and not self._answers and not self._unsent and not self._http2.has_bodies

    def hear(self, data: bytes) -> bool:
        """Takes what came; whether any request of it proved that it belongs to the trial. Raises StrangerError, and
        MalformedMessageError."""
        asked = False
        for event in self._http2.feed(data):
            if event.kind == "goodbye":
                self.ends_after_these = True
                continue
            if event.kind == "reset":
                self._answers.pop(event.stream, None)
                continue
            self._service.request_bytes += event.wire_bytes
            if event.kind == "head" and event.stream not in self._answers:
                self._answers[event.stream] = self._service.answer_to(event.block, self._reader)
                asked = True
            if event.ends:
                self._be_asked(event)
        return asked

    def _be_asked(self, event: StreamEvent) -> None:
        """A request is whole."""
        answer = self._answers.get(event.stream)
        if answer is None:
            raise MalformedMessageError("a stream that ends twice")
        self._service.transactions += 1
        if answer.after_ns:
            self._wait(answer.after_ns, event.stream)
        else:
            self.answer(event.stream)

    def answer(self, stream: int) -> None:
        """Has an answer sent, unless the stream was given up meanwhile."""
        answer = self._answers.pop(stream, None)
        if answer is not None:
            sent_bytes = self._http2.send_head(stream, answer.block, answer.body_bytes)
            self._service.response_bytes += sent_bytes

    def send_on(self) -> None:
        """Sends what there is. Raises OSError, and BlockingIOError where the socket takes no more for now."""
        while True:
            self._unsent = self._unsent or self._http2.take(_AT_ONCE_BYTES)
            if not self._unsent:
                return
            self._unsent = self._unsent[self._send(self._unsent, socket.MSG_DONTWAIT) :]
