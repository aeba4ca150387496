"""HTTP/1.1 messages (RFC 9112) as far as two ends need them that count and time bodies: heads made and read, and where
a body ends. Worker processes import this file.
"""

from dataclasses import dataclass

MAX_HEAD_BYTES = 16_384
_MAX_LENGTH_DIGITS = 15
END_OF_HEAD = b"\r\n\r\n"
_REASONS = {200: b"OK", 400: b"Bad Request", 404: b"Not Found", 405: b"Method Not Allowed", 501: b"Not Implemented"}


class MalformedMessageError(ValueError):
    """What came is no message of its protocol. Told to nobody: the connection ends, and it is counted."""


@dataclass(frozen=True, slots=True)
class RequestHead:
    """What a request says of itself; `body_bytes` None is a chunked body."""

    method: bytes
    target: bytes
    body_bytes: int | None
    close: bool


@dataclass(frozen=True, slots=True)
class ResponseHead:
    """What a response says of itself: `body_bytes` None where the body is chunked, or else ends with the connection."""

    status: int
    body_bytes: int | None
    chunked: bool
    close: bool


def make_request(method: str, target: str, host: str, body_bytes: int = 0, close: bool = False) -> bytes:
    """The head of a request."""
    lines = [f"{method} {target} HTTP/1.1", f"Host: {host}"]
    if body_bytes or method == "POST":
        lines += ["Content-Type: application/octet-stream", f"Content-Length: {body_bytes}"]
    if close:
        lines.append("Connection: close")
    return "\r\n".join([*lines, "", ""]).encode("ascii")


def make_response(status: int, body_bytes: int, close: bool = False) -> bytes:
    """The head of a response."""
    lines = [
        b"HTTP/1.1 %d %s" % (status, _REASONS[status]),
        b"Content-Type: application/octet-stream",
        b"Content-Length: %d" % body_bytes,
    ]
    if close:
        lines.append(b"Connection: close")
    return b"\r\n".join([*lines, b"", b""])


def read_request(head: bytes) -> RequestHead:
    """Reads the head of a request, up to and with the empty line. Raises MalformedMessageError."""
    line, fields = _split(head)
    parts = line.split(b" ")
    if len(parts) != 3 or not parts[0].isalpha() or not parts[1]:
        raise MalformedMessageError("no request line")
    version = parts[2]
    if version not in (b"HTTP/1.1", b"HTTP/1.0"):
        raise MalformedMessageError("no version that is known")
    chunked = _is_chunked(fields)
    body = None if chunked else _length(fields) or 0
    return RequestHead(parts[0].upper(), parts[1], body, _closes(fields, version))


def read_response(head: bytes) -> ResponseHead:
    """Reads the head of a response, up to and with the empty line. Raises MalformedMessageError."""
    line, fields = _split(head)
    version, _, rest = line.partition(b" ")
    status = rest[:3]
    if version not in (b"HTTP/1.1", b"HTTP/1.0") or len(status) != 3 or not status.isdigit():
        raise MalformedMessageError("no status line")
    if rest[3:4] not in (b"", b" "):
        raise MalformedMessageError("no status line")
    number = int(status)
    chunked = _is_chunked(fields)
    length = None if chunked else _length(fields)
    if number in (204, 304) or number < 200:
        length, chunked = 0, False
    close = _closes(fields, version) or (length is None and not chunked)
    return ResponseHead(number, length, chunked, close)


def _split(head: bytes) -> tuple[bytes, dict[bytes, list[bytes]]]:
    """The first line, and the fields by their lower-case names."""
    if not head.endswith(END_OF_HEAD) or len(head) > MAX_HEAD_BYTES or b"\0" in head:
        raise MalformedMessageError("no head")
    line, *rest = head[: -len(END_OF_HEAD)].split(b"\r\n")
    fields: dict[bytes, list[bytes]] = {}
    for one in rest:
        name, colon, value = one.partition(b":")
        if not colon or not name or name != name.strip() or b"\n" in one:
            raise MalformedMessageError("no field line")
        fields.setdefault(name.lower(), []).append(value.strip(b" \t"))
    return line, fields


def _length(fields: dict[bytes, list[bytes]]) -> int | None:
    """The length that is stated; two that differ are an attack (RFC 9112 §6.3)."""
    values = {part.strip() for value in fields.get(b"content-length", []) for part in value.split(b",")}
    if not values:
        return None
    (text,) = values if len(values) == 1 else (b"",)
    if not text.isdigit() or len(text) > _MAX_LENGTH_DIGITS:
        raise MalformedMessageError("no length")
    return int(text)


def _is_chunked(fields: dict[bytes, list[bytes]]) -> bool:
    coding = b",".join(fields.get(b"transfer-encoding", [])).strip().lower()
    if not coding:
        return False
    if coding != b"chunked" or b"content-length" in fields:
        raise MalformedMessageError("no coding that is known")
    return True


def _closes(fields: dict[bytes, list[bytes]], version: bytes) -> bool:
    options = {part.strip().lower() for value in fields.get(b"connection", []) for part in value.split(b",")}
    return b"close" in options or (version == b"HTTP/1.0" and b"keep-alive" not in options)


class ChunkedBody:
    """Finds the end of a chunked body (RFC 9112 §7.1), fed piece by piece."""

    def __init__(self) -> None:
        self.over = False
        self.body_bytes = 0
        self._line = b""
        self._left = 0
        self._after_data = self._in_trailers = False

    def feed(self, data: bytes) -> int:
        """Takes bytes; returns how many of them were of this body. Raises MalformedMessageError."""
        at = 0
        while at < len(data) and not self.over:
            if self._left:
                taken = min(self._left, len(data) - at)
                self._left -= taken
                self.body_bytes += taken
                at += taken
                self._after_data = not self._left
                continue
            end = data.find(b"\n", at)
            piece = data[at : len(data) if end < 0 else end + 1]
            at += len(piece)
            self._line += piece
            if len(self._line) > MAX_HEAD_BYTES:
                raise MalformedMessageError("no chunk")
            if end >= 0:
                line, self._line = self._line, b""
                self._take(line)
        return at

    def _take(self, line: bytes) -> None:
        if not line.endswith(b"\r\n"):
            raise MalformedMessageError("no chunk")
        text = line[:-2]
        if self._after_data:
            if text:
                raise MalformedMessageError("no end of a chunk")
            self._after_data = False
        elif self._in_trailers:
            self.over = not text
        else:
            size = text.partition(b";")[0].strip()
            if not size or len(size) > 12 or any(digit not in b"0123456789abcdefABCDEF" for digit in size):
                raise MalformedMessageError("no size of a chunk")
            self._left = int(size, 16)
            self._in_trailers = not self._left
