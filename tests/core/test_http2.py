"""HTTP/2 frames and header blocks against the package h2, which knows the whole standard."""

import unittest
from collections.abc import Callable, Iterable
from typing import Any

from h2.config import H2Configuration
from h2.connection import H2Connection
from h2.events import DataReceived, RequestReceived, ResponseReceived, StreamEnded, StreamReset
from hypothesis import given, settings
from hypothesis import strategies as some

from harvok.core.wire.http1 import MalformedMessageError
from harvok.core.wire.http2 import (
    MAX_STREAMS,
    PREFACE,
    BlockReader,
    Http2Connection,
    StreamEvent,
    make_request_block,
    make_response_block,
    read_alone,
    read_status,
)

PATTERN = memoryview(bytes(range(256)) * 256)
_PAYLOADS = some.binary(max_size=40)
SIZES = (0, 1, 16_384, 16_385, 200_000)


def oracle(client: bool) -> H2Connection:
    other = H2Connection(H2Configuration(client_side=client, header_encoding="utf-8"))
    other.initiate_connection()
    return other


def frame(kind: int, flags: int, stream: int, payload: bytes = b"") -> bytes:
    return len(payload).to_bytes(3) + bytes([kind, flags]) + stream.to_bytes(4) + payload


def talk(ours: Http2Connection, theirs: H2Connection, on_event: Callable[[object], None]) -> list[StreamEvent]:
    """Carries bytes both ways until nobody has anything to say; what came to us."""
    came: list[StreamEvent] = []
    while True:
        out, back = ours.take(40_000), theirs.data_to_send()
        for event in theirs.receive_data(out) if out else ():
            on_event(event)
        came += ours.feed(back)
        if not out and not back:
            return came


class AgainstAnother(unittest.TestCase):
    def test_our_requests_and_their_answers(self) -> None:
        """Their windows are 64 kB, which larger bodies have to wait for, side by side."""
        ours, theirs = Http2Connection(False, PATTERN), oracle(client=False)
        asked: dict[int, dict[Any, Any]] = {}
        bodies, blocks = dict[int, int](), dict[int, int]()
        for size in SIZES:
            stream = ours.open_stream()
            blocks[stream] = size
            ours.send_head(stream, make_request_block("POST", "http", "hall:1", f"/{size}", size), size)

        def on_event(event: object) -> None:
            if isinstance(event, RequestReceived):
                asked[event.stream_id] = dict(event.headers)
            elif isinstance(event, DataReceived):
                bodies[event.stream_id] = bodies.get(event.stream_id, 0) + len(event.data)
                theirs.acknowledge_received_data(event.flow_controlled_length, event.stream_id)
            elif isinstance(event, StreamEnded):
                theirs.send_headers(event.stream_id, [(":status", "200"), ("server", f"other {event.stream_id % 4}")])
                theirs.send_data(event.stream_id, b"x" * 10_000, end_stream=True, pad_length=9)

        came, reader = talk(ours, theirs, on_event), BlockReader()
        self.assertEqual({stream: bodies.get(stream, 0) for stream in blocks}, blocks)
        for stream, size in blocks.items():
            self.assertEqual((asked[stream][":path"], asked[stream][":authority"]), (f"/{size}", "hall:1"))
        statuses = [read_status(reader.read(event.block)) for event in came if event.kind == "head"]
        self.assertEqual(statuses, [200] * len(SIZES))
        got = [event for event in came if event.kind == "body"]
        self.assertEqual({event.stream for event in got if event.ends}, blocks.keys())
        self.assertEqual(sum(event.body_bytes for event in got), 10_000 * len(SIZES))

    def test_their_requests_and_our_answers(self) -> None:
        ours, theirs, answered, whole = (
            Http2Connection(True, PATTERN),
            oracle(client=True),
            list[dict[Any, Any]](),
            dict[int, int](),
        )
        for number, size in enumerate(SIZES):
            fields = [(":method", "POST"), (":scheme", "http"), (":authority", "hall"), (":path", f"/{size}")]
            theirs.send_headers(2 * number + 1, [*fields, ("user-agent", "other")])
            theirs.send_data(2 * number + 1, b"u" * 5000, end_stream=True)

        def on_event(event: object) -> None:
            if isinstance(event, ResponseReceived):
                answered.append(dict(event.headers))
            elif isinstance(event, DataReceived):
                whole[event.stream_id] = whole.get(event.stream_id, 0) + len(event.data)
                theirs.acknowledge_received_data(event.flow_controlled_length, event.stream_id)

        reader, paths = BlockReader(), {}
        for event in talk(ours, theirs, on_event):
            if event.kind == "head":
                paths[event.stream] = int(reader.read(event.block)[b":path"][1:])
            if event.ends:
                size = paths[event.stream]
                ours.send_head(event.stream, make_response_block(200, size), size)
        talk(ours, theirs, on_event)
        self.assertEqual([whole.get(stream, 0) for stream in sorted(paths)], list(SIZES))
        self.assertEqual([int(fields["content-length"]) for fields in answered], list(SIZES))
        self.assertFalse(ours.has_bodies)

    def test_a_stream_that_is_given_up_is_reset(self) -> None:
        ours, theirs, seen = Http2Connection(False, PATTERN), oracle(client=False), list[object]()
        stream = ours.open_stream()
        ours.send_head(stream, make_request_block("POST", "http", "hall", "/1", 100_000), 100_000)
        talk(ours, theirs, seen.append)
        ours.reset(stream)
        talk(ours, theirs, seen.append)
        self.assertTrue(any(isinstance(event, StreamReset) for event in seen))
        self.assertFalse(ours.has_bodies)


class Blocks(unittest.TestCase):
    def test_ours_mean_the_same_everywhere_and_theirs_may_not(self) -> None:
        ours = make_request_block("GET", "https", "hall:4", "/abc/5")
        self.assertEqual(BlockReader().read(ours), read_alone(ours))
        theirs, first, second = oracle(client=True), b"", b""
        fields = [(":method", "GET"), (":scheme", "http"), (":authority", "hall"), (":path", "/some/path")]
        theirs.send_headers(1, fields, end_stream=True)
        theirs.send_headers(3, fields, end_stream=True)
        service, reader = Http2Connection(True, PATTERN), BlockReader()
        first, second = (event.block for event in service.feed(theirs.data_to_send()) if event.kind == "head")
        self.assertEqual((read_alone(first), read_alone(second)), (None, None))
        self.assertEqual(reader.read(first), reader.read(second))
        with self.assertRaises(MalformedMessageError):
            BlockReader().read(second)  # without the first

    def test_a_block_in_many_frames(self) -> None:
        block, connection = make_request_block("GET", "http", "hall", "/" + "a" * 3000), Http2Connection(True, PATTERN)
        frames = frame(1, 1, 1, block[:100]) + frame(9, 0, 1, block[100:900]) + frame(9, 4, 1, block[900:])
        (event,) = connection.feed(PREFACE + frames)
        self.assertEqual((event.block, event.ends), (block, True))


class Nonsense(unittest.TestCase):
    def refused(self, *frames: bytes, preface: bytes = PREFACE) -> None:
        with self.assertRaises(MalformedMessageError):
            list(Http2Connection(True, PATTERN).feed(preface + b"".join(frames)))

    def test_what_the_standard_forbids_is_refused(self) -> None:
        block = make_request_block("GET", "http", "hall", "/1")
        for frames in (
            [frame(0, 0, 0, b"x")], [frame(0, 8, 1, b"\x05xxx")], [frame(0, 8, 1)], [frame(1, 4, 2, block)],
            [frame(1, 0, 1, block), frame(6, 0, 0, bytes(8))], [frame(9, 4, 1, block)], [frame(5, 4, 1, block)],
            [frame(4, 0, 0, bytes(5))], [frame(4, 0, 0, b"\0\4" + b"\xff" * 4)], [frame(6, 0, 0, b"1")],
            [frame(8, 0, 0, bytes(4))], [frame(8, 0, 0, b"\x7f\xff\xff\xff")], [frame(3, 0, 0, bytes(4))],
            [frame(7, 0, 0, b"1")], [b"\xff\xff\xff" + bytes(6)], [frame(1, 5, 3, block), frame(1, 5, 1, block)],
            [frame(1, 0, 1, b"a" * 16_000), frame(9, 0, 1, b"a" * 16_000)], [frame(6, 0, 0, bytes(8))] * 9000,
            [frame(1, 5, 2 * number + 1, block) for number in range(MAX_STREAMS + 1)],
        ):  # fmt: skip
            with self.subTest(frames=[one[:12] for one in frames[:3]]):
                self.refused(*frames)
        self.refused(preface=b"PRI * HTTP/2.1" + bytes(20))

    @settings(max_examples=300, deadline=None)
    @given(
        some.lists(some.tuples(some.integers(0, 10), some.integers(0, 255), some.integers(0, 5), _PAYLOADS)),
        some.integers(1, 50),
    )
    def test_anything_is_read_or_refused(self, frames: list[tuple[int, int, int, bytes]], step: int) -> None:
        """However it is cut into pieces."""
        data = PREFACE + b"".join(frame(*one) for one in frames)
        whole, pieces = self.came_of([data]), self.came_of(data[at : at + step] for at in range(0, len(data), step))
        self.assertEqual(whole, pieces)

    def came_of(self, pieces: Iterable[bytes]) -> list[object]:
        connection, came, reader = Http2Connection(True, PATTERN), list[object](), BlockReader()
        try:
            for piece in pieces:
                for event in connection.feed(piece):
                    came.append(event)
                    if event.kind == "head":
                        came.append(reader.read(event.block))
        except MalformedMessageError:
            came.append("refused")
        return came


if __name__ == "__main__":
    unittest.main()
