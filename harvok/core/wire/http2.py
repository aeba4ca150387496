"""HTTP/2 (RFC 9113) as far as two ends need it that count and time bodies: frames made and read, header blocks (RFC
7541, package hpack) and flow control, without a socket. Worker processes import this file.

What is sent here is made so that header blocks depend on nothing that came before: fields that the static table does
not have are literals that are never indexed. The same request has the same bytes on every stream of every connection,
so that an end that has read it once knows it again by its bytes.
"""

import struct
from collections.abc import Iterator
from functools import lru_cache
from typing import Literal, NamedTuple

from hpack import Decoder, Encoder, HPACKError

from harvok.core.wire.http1 import MAX_HEAD_BYTES, MalformedMessageError

PREFACE = b"PRI * HTTP/2.0\r\n\r\nSM\r\n\r\n"
"""RFC 9113 §3.4: what a client says first."""
FRAME_HEAD_BYTES = 9
MAX_PAYLOAD_BYTES = 16_384
"""RFC 9113 §4.2: of a frame, where nobody asks for more; nobody does here."""
MAX_STREAMS = 1000
"""How many streams a service takes at one time on one connection."""
CANCEL = 8

_DATA, _HEADERS, _PRIORITY, _RST_STREAM, _SETTINGS, _PUSH_PROMISE, _PING, _GOAWAY, _WINDOW_UPDATE, _CONTINUATION = (
    range(10)
)
_END_STREAM, _ACK, _END_HEADERS, _PADDED, _WITH_PRIORITY = 0x1, 0x1, 0x4, 0x8, 0x20
_ENABLE_PUSH, _MAX_CONCURRENT_STREAMS, _INITIAL_WINDOW_SIZE, _MAX_FRAME_SIZE = 2, 3, 4, 5
_FRAME_HEAD = struct.Struct("!HBBBI")
_SETTING = struct.Struct("!HI")
_STREAM_MASK = MAX_WINDOW_BYTES = 2**31 - 1
_FIRST_WINDOW_BYTES = 65_535
_RENEW_BYTES = 2**30
"""Windows are as wide as they can be, so that TCP alone holds a sender back; they are opened anew from time to time."""
_MAX_CONTROL_BYTES = 1 << 16
"""Of answers to frames that ask for one and that nobody takes away: a flood of such frames is an attack (§10.5)."""

EventKind = Literal["head", "body", "reset", "goodbye"]


class StreamEvent(NamedTuple):
    """What came on a stream: a header block (`block`), some of a body (`body_bytes`), or its reset. `wire_bytes` are
    those of its frames, heads included. A goodbye is of the whole connection: streams above `stream` were not looked
    at."""

    kind: EventKind
    stream: int
    wire_bytes: int = 0
    ends: bool = False
    block: bytes = b""
    body_bytes: int = 0


def make_request_block(method: str, scheme: str, authority: str, path: str, body_bytes: int = 0) -> bytes:
    """The header block of a request."""
    fields = [(":method", method), (":scheme", scheme), (":authority", authority), (":path", path)]
    if body_bytes:
        fields += [("content-type", "application/octet-stream"), ("content-length", str(body_bytes))]
    return _block(fields)


def make_response_block(status: int, body_bytes: int) -> bytes:
    """The header block of a response."""
    kind = ("content-type", "application/octet-stream")
    return _block([(":status", str(status)), kind, ("content-length", str(body_bytes))])


def _block(fields: list[tuple[str, str]]) -> bytes:
    encoded: bytes = Encoder().encode([(name, value, True) for name, value in fields])
    return encoded


class BlockReader:
    """Reads the header blocks of one connection, in their order."""

    def __init__(self) -> None:
        self._decoder = Decoder(max_header_list_size=MAX_HEAD_BYTES)

    def read(self, block: bytes) -> dict[bytes, bytes]:
        """The fields of a block by their names; of one name the last. Raises MalformedMessageError."""
        alone = read_alone(block) if len(block) <= _ALONE_BYTES else None
        if alone is not None:
            return alone
        try:
            return _fields(self._decoder, block)
        except (HPACKError, ValueError) as error:
            raise MalformedMessageError("no header block") from error


_ALONE_BYTES, _ALONE = 1024, 4096
"""Blocks that are remembered: their size, and how many."""


@lru_cache(maxsize=_ALONE)
def read_alone(block: bytes) -> dict[bytes, bytes] | None:
    """The fields of a block that means the same on every connection; None for one that refers to earlier blocks, or
    that later ones may refer to."""
    decoder = Decoder(max_header_list_size=MAX_HEAD_BYTES)
    try:
        fields = _fields(decoder, block)
    except (HPACKError, ValueError):
        return None
    resizes = block[:1] and block[0] & 0xE0 == 0x20  # RFC 7541 §6.3: changes the size of the table for later blocks
    return None if resizes or decoder.header_table.dynamic_entries else fields


def _fields(decoder: Decoder, block: bytes) -> dict[bytes, bytes]:
    return {bytes(name): bytes(value) for name, value in decoder.decode(block, raw=True)}


def read_status(fields: dict[bytes, bytes]) -> int:
    """The status of a response. Raises MalformedMessageError."""
    status = fields.get(b":status", b"")
    if len(status) != 3 or not status.isdigit():
        raise MalformedMessageError("no status")
    return int(status)


class Http2Connection:
    """One end of a connection: takes what comes, and has ready what is to be sent. Bodies are cut from `pattern`."""

    def __init__(self, is_service: bool, pattern: memoryview) -> None:
        self._is_service, self._pattern, self._at = is_service, pattern, 0
        self._control = bytearray() if is_service else bytearray(PREFACE)
        self._control += _settings(is_service) + _frame(
            _WINDOW_UPDATE, 0, 0, (MAX_WINDOW_BYTES - _FIRST_WINDOW_BYTES).to_bytes(4)
        )
        self._preface = PREFACE if is_service else b""
        self._unread = b""
        self._headers: tuple[int, bool, bytearray] | None = None  # whose block is continued
        self._window, self._first_window = _FIRST_WINDOW_BYTES, _FIRST_WINDOW_BYTES
        self._windows: dict[int, int] = {}
        self._bodies: dict[int, int] = {}
        self._taken_bytes, self._taken_by_stream = 0, dict[int, int]()
        self._last_stream = 0
        self._next_stream = 1
        self.max_streams = MAX_STREAMS
        """How many streams the other end takes at one time."""

    # What is sent

    def open_stream(self) -> int:
        """The next stream of a client."""
        stream, self._next_stream = self._next_stream, self._next_stream + 2
        self._windows[stream] = self._first_window
        return stream

    def send_head(self, stream: int, block: bytes, body_bytes: int) -> int:
        """Has a header block sent, and a body of so many bytes after it; the bytes of both, frames included."""
        self._control += _frame(_HEADERS, _END_HEADERS | (0 if body_bytes else _END_STREAM), stream, block)
        if body_bytes:
            self._bodies[stream] = body_bytes
        else:
            self._has_said_all(stream)
        frames = -(-body_bytes // MAX_PAYLOAD_BYTES)
        return FRAME_HEAD_BYTES + len(block) + body_bytes + frames * FRAME_HEAD_BYTES

    def reset(self, stream: int, code: int = CANCEL) -> None:
        """Gives a stream up."""
        self._control += _frame(_RST_STREAM, 0, stream, code.to_bytes(4))
        self.forget(stream)

    def _has_said_all(self, stream: int) -> None:
        """A service answers what it has heard whole, so that a stream is over with its answer."""
        if self._is_service:
            self.forget(stream)

    def forget(self, stream: int) -> None:
        """A stream is over at both ends."""
        self._windows.pop(stream, None)
        self._bodies.pop(stream, None)
        self._taken_by_stream.pop(stream, None)

    def say_goodbye(self) -> None:
        """Nothing new comes from here."""
        self._control += _frame(_GOAWAY, 0, 0, self._last_stream.to_bytes(4) + bytes(4))

    def take(self, most_bytes: int) -> bytes:
        """What is to be sent now: some `most_bytes`, as far as the other end's windows allow; bodies side by side."""
        out: list[bytes | memoryview] = [bytes(self._control)]
        left, blocked = most_bytes - len(self._control), 0
        self._control.clear()
        while left > 0 and blocked < len(self._bodies):
            stream = next(iter(self._bodies))
            rest = self._bodies.pop(stream)
            part = min(rest, MAX_PAYLOAD_BYTES, self._window, self._windows.get(stream, 0))
            if part <= 0:
                self._bodies[stream] = rest
                blocked += 1
                continue
            blocked, left = 0, left - part
            self._window -= part
            self._windows[stream] -= part
            if rest > part:
                self._bodies[stream] = rest - part
            else:
                self._has_said_all(stream)
            out += (_head(_DATA, 0 if rest > part else _END_STREAM, stream, part), self._cut(part))
        return b"".join(out)

    @property
    def has_bodies(self) -> bool:
        """Whether some of a body waits to be sent."""
        return bool(self._bodies)

    def _cut(self, part_bytes: int) -> memoryview:
        if self._at + part_bytes > len(self._pattern):
            self._at = 0
        begin, self._at = self._at, self._at + part_bytes
        return self._pattern[begin : self._at]

    # What comes

    def feed(self, data: bytes) -> Iterator[StreamEvent]:
        """Takes bytes; what they tell of streams. Raises MalformedMessageError."""
        data = self._after_preface(self._unread + data)
        at, end = 0, len(data)
        while end - at >= FRAME_HEAD_BYTES and not self._preface:
            high, low, kind, flags, stream = _FRAME_HEAD.unpack_from(data, at)
            size = high << 8 | low
            if size > MAX_PAYLOAD_BYTES or (self._headers and kind != _CONTINUATION):
                raise MalformedMessageError("no frame that may come here")
            after = at + FRAME_HEAD_BYTES + size
            if after > end:
                break
            stream &= _STREAM_MASK
            if kind == _DATA:
                padding = -1 if not flags & _PADDED else data[at + FRAME_HEAD_BYTES] if size else 0
                yield self._take_data(flags, stream, size, padding)
            else:
                event = self._take_frame(kind, flags, stream, data[at + FRAME_HEAD_BYTES : after])
                if event:
                    yield event
            at = after
        self._unread = data[at:]

    def _after_preface(self, data: bytes) -> bytes:
        if not self._preface:
            return data
        begin = data[: len(self._preface)]
        if not self._preface.startswith(begin):
            raise MalformedMessageError("no preface")
        if len(begin) == len(self._preface):
            self._preface = b""
            return data[len(begin) :]
        return data

    def _take_data(self, flags: int, stream: int, size: int, padding: int) -> StreamEvent:
        """Padding counts for the windows, and is no body (§6.1)."""
        if stream == 0 or padding >= size:
            raise MalformedMessageError("no data frame")
        self._renew_windows(stream, size, ends=bool(flags & _END_STREAM))
        body_bytes = size - padding - 1
        return StreamEvent("body", stream, FRAME_HEAD_BYTES + size, bool(flags & _END_STREAM), body_bytes=body_bytes)

    def _renew_windows(self, stream: int, size: int, ends: bool) -> None:
        self._taken_bytes += size
        if self._taken_bytes > _RENEW_BYTES:
            self._control += _frame(_WINDOW_UPDATE, 0, 0, self._taken_bytes.to_bytes(4))
            self._taken_bytes = 0
        taken = self._taken_by_stream.get(stream, 0) + size
        if taken > _RENEW_BYTES and not ends:
            self._control += _frame(_WINDOW_UPDATE, 0, stream, taken.to_bytes(4))
            taken = 0
        self._taken_by_stream[stream] = taken

    def _take_frame(self, kind: int, flags: int, stream: int, payload: bytes) -> StreamEvent | None:
        """Any frame but one of data. Raises MalformedMessageError."""
        if kind == _HEADERS:
            return self._begin_block(flags, stream, _without_padding(flags, payload))
        if kind == _CONTINUATION:
            return self._continue_block(flags, stream, payload)
        if kind == _RST_STREAM:
            _need(len(payload) == 4 and stream > 0)
            self.forget(stream)
            return StreamEvent("reset", stream, FRAME_HEAD_BYTES + 4, ends=True)
        if kind == _GOAWAY:
            _need(len(payload) >= 8 and stream == 0)
            return StreamEvent("goodbye", int.from_bytes(payload[:4]) & _STREAM_MASK)
        if kind == _PUSH_PROMISE:  # nobody let the other end do so
            raise MalformedMessageError("a push that nobody allowed")
        self._take_control(kind, flags, stream, payload)
        return None

    def _take_control(self, kind: int, flags: int, stream: int, payload: bytes) -> None:
        """A frame of which only this object need know. Those of kinds that nobody knows are skipped (§4.1)."""
        if kind == _SETTINGS:
            _need(stream == 0 and len(payload) % 6 == 0)
            if not flags & _ACK:
                self._take_settings(payload)
                self._control += _frame(_SETTINGS, _ACK, 0, b"")
        elif kind == _PING:
            _need(stream == 0 and len(payload) == 8)
            if not flags & _ACK:
                self._control += _frame(_PING, _ACK, 0, payload)
        elif kind == _WINDOW_UPDATE:
            _need(len(payload) == 4)
            self._open_window(stream, int.from_bytes(payload) & _STREAM_MASK)
        if len(self._control) > _MAX_CONTROL_BYTES:
            raise MalformedMessageError("a flood of frames that want an answer")

    def _take_settings(self, payload: bytes) -> None:
        for name, value in _SETTING.iter_unpack(payload):
            if name == _INITIAL_WINDOW_SIZE:
                _need(value <= MAX_WINDOW_BYTES)
                for stream in self._windows:  # §6.9.2: those that are open grow or shrink by the difference
                    self._windows[stream] += value - self._first_window
                self._first_window = value
            elif name == _MAX_CONCURRENT_STREAMS:
                self.max_streams = min(value, MAX_STREAMS)

    def _open_window(self, stream: int, by_bytes: int) -> None:
        _need(by_bytes > 0)
        if stream == 0:
            self._window += by_bytes
            _need(self._window <= MAX_WINDOW_BYTES)
        elif stream in self._windows:
            self._windows[stream] += by_bytes
            _need(self._windows[stream] <= MAX_WINDOW_BYTES)

    def _begin_block(self, flags: int, stream: int, payload: bytes) -> StreamEvent | None:
        _need(stream > 0)
        if flags & _WITH_PRIORITY:
            _need(len(payload) >= 5)
            payload = payload[5:]
        if self._is_service and stream not in self._windows:
            _need(stream & 1 == 1 and stream > self._last_stream and len(self._windows) < MAX_STREAMS)
            self._last_stream = stream
            self._windows[stream] = self._first_window
        if flags & _END_HEADERS:
            return StreamEvent("head", stream, FRAME_HEAD_BYTES + len(payload), bool(flags & _END_STREAM), payload)
        self._headers = (stream, bool(flags & _END_STREAM), bytearray(payload))
        return None

    def _continue_block(self, flags: int, stream: int, payload: bytes) -> StreamEvent | None:
        _need(self._headers is not None)
        assert self._headers
        of, ends, block = self._headers
        block += payload
        _need(of == stream and len(block) <= MAX_HEAD_BYTES)
        if not flags & _END_HEADERS:
            return None
        self._headers = None
        return StreamEvent("head", stream, FRAME_HEAD_BYTES + len(block), ends, bytes(block))


def _need(holds: bool) -> None:
    if not holds:
        raise MalformedMessageError("no frame that makes sense")


def _without_padding(flags: int, payload: bytes) -> bytes:
    if not flags & _PADDED:
        return payload
    _need(len(payload) > 0 and payload[0] < len(payload))
    return payload[1 : len(payload) - payload[0]]


def _settings(is_service: bool) -> bytes:
    first = (_MAX_CONCURRENT_STREAMS, MAX_STREAMS) if is_service else (_ENABLE_PUSH, 0)
    return _frame(_SETTINGS, 0, 0, _SETTING.pack(*first) + _SETTING.pack(_INITIAL_WINDOW_SIZE, MAX_WINDOW_BYTES))


def _frame(kind: int, flags: int, stream: int, payload: bytes) -> bytes:
    return _head(kind, flags, stream, len(payload)) + payload


def _head(kind: int, flags: int, stream: int, size: int) -> bytes:
    return _FRAME_HEAD.pack(size >> 8, size & 0xFF, kind, flags, stream)
