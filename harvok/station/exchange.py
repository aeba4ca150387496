"""One request and one answer on the control connection, with a bound on everything that the other end decides.

A station may be hostile, or not a station at all. So an answer has a deadline as a whole, whatever trickles in; it is
as large as a real one at most; and it is never unpacked.
"""

import ssl
import threading
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from typing import Any

import httpcore2

from harvok.clock import Clock
from harvok.errors import ProtocolError
from harvok.station.keys import TLS_NAME
from harvok.traffic.sockets import Source, format_address, source_options

CONNECT_S = 5.0
MAX_ANSWER_BYTES = 4 * 1024 * 1024
"""An answer with what was seen of 64 flows has a tenth of it."""
MAX_LINE_BYTES = 1024 * 1024
ERRAND_LINE_BYTES = 64 * 1024 * 1024
"""Of an errand, whose lines hold what a whole trial of hours came to."""

_HOSTILE = "Check the port and the address: what answers there is not a station of Harvok's, or is hostile."


@dataclass(frozen=True, slots=True)
class ControlAnswer:
    """What came back."""

    status: int
    content: bytes

    @property
    def is_success(self) -> bool:
        return 200 <= self.status < 300


class Exchange:
    """Asks one station. May be used from several threads. `tls` None talks in clear.

    Failures of the connection come out as httpcore2's errors, an answer out of bounds as ProtocolError.
    """

    def __init__(
        self, host: str, port: int, token: str, source: Source, tls: ssl.SSLContext | None, clock: Clock
    ) -> None:
        self._scheme = b"https" if tls else b"http"
        self._target = (host.encode(), port)
        self._headers = [
            (b"Host", format_address((host, port)).encode()),
            (b"Authorization", f"Bearer {token}".encode()),
            (b"User-Agent", b"harvok"),
            (b"Accept-Encoding", b"identity"),
        ]
        self._clock = clock
        self._deadlines = _Deadlines(clock)
        self._pool = httpcore2.ConnectionPool(
            ssl_context=tls,
            local_address=source.address,
            socket_options=source_options(source),
            network_backend=_Backend(self._deadlines),
            keepalive_expiry=5.0,
        )

    def ask(self, method: str, path: str, body: str | None, total_s: float) -> ControlAnswer:
        """A request and its whole answer, within `total_s`."""
        with self._stream(method, path, body, total_s, total_s) as response:
            content = bytearray()
            for part in response.iter_stream():
                content += part
                if len(content) > MAX_ANSWER_BYTES:
                    raise ProtocolError(f"an answer has more than {MAX_ANSWER_BYTES // 1024**2} MiB", _HOSTILE)
            return ControlAnswer(response.status, bytes(content))

    @contextmanager
    def lines(
        self, path: str, silence_s: float, line_bytes: int | None = None
    ) -> Iterator[tuple[ControlAnswer, Iterator[bytes]]]:
        """An answer that goes on for as long as a test, in lines of at most `line_bytes` (None for the usual), never
        silent for longer than `silence_s`. The content of an answer that is no success is read at once."""
        with self._stream("GET", path, None, None, silence_s) as response:
            if response.status != 200:
                self._deadlines.begin(silence_s)
                yield ControlAnswer(response.status, b"".join(response.iter_stream())[:MAX_LINE_BYTES]), iter(())
            else:
                yield ControlAnswer(200, b""), self._lines_of(response, line_bytes or MAX_LINE_BYTES)

    def close(self) -> None:
        """Hangs up."""
        self._pool.close()

    def _lines_of(self, response: httpcore2.Response, line_bytes: int) -> Iterator[bytes]:
        began_ns, came, line = self._clock.now_ns(), 0, b""
        for part in response.iter_stream():
            came += len(part)
            passed_s = (self._clock.now_ns() - began_ns) / 1e9
            *whole, line = (line + part).split(b"\n")
            if len(line) > line_bytes or came > 4 * line_bytes + MAX_LINE_BYTES * passed_s:
                raise ProtocolError("the station tells more than any test has to tell", _HOSTILE)
            yield from whole

    @contextmanager
    def _stream(
        self, method: str, path: str, body: str | None, total_s: float | None, read_s: float
    ) -> Iterator[httpcore2.Response]:
        headers = list(self._headers)
        if body is not None:
            headers += [(b"Content-Type", b"application/json"), (b"Content-Length", str(len(body.encode())).encode())]
        timeouts = {"connect": CONNECT_S, "read": read_s, "write": read_s, "pool": read_s}
        url = httpcore2.URL(
            scheme=self._scheme,
            host=self._target[0],
            port=self._target[1],
            target=f"/v1{path}".encode("ascii", "replace"),
        )
        extensions: dict[str, Any] = {"timeout": timeouts, "sni_hostname": TLS_NAME}
        self._deadlines.begin(total_s)
        try:
            with self._pool.stream(
                method, url, headers=headers, content=body.encode() if body else None, extensions=extensions
            ) as response:
                if any(name.lower() == b"content-encoding" for name, _ in response.headers):
                    raise ProtocolError("an answer is compressed, which nobody asked for", _HOSTILE)
                yield response
        finally:
            self._deadlines.begin(None)


class _Deadlines(threading.local):
    """Until when what a thread waits for must have come."""

    def __init__(self, clock: Clock) -> None:
        self._clock = clock
        self._until_ns: int | None = None

    def begin(self, total_s: float | None) -> None:
        """From now on; None for no end."""
        self._until_ns = None if total_s is None else self._clock.now_ns() + int(total_s * 1e9)

    def left_s(self, timeout: float | None) -> float | None:
        """How long one read may take. Raises httpcore2.ReadTimeout when the time is over."""
        if self._until_ns is None:
            return timeout
        left_s = (self._until_ns - self._clock.now_ns()) / 1e9
        if left_s <= 0:
            raise httpcore2.ReadTimeout("the answer did not come whole in time")
        return left_s if timeout is None else min(timeout, left_s)


class _Backend(httpcore2.NetworkBackend):
    """Connects as httpcore does, and holds every read to the deadline."""

    def __init__(self, deadlines: _Deadlines) -> None:
        self._deadlines = deadlines
        self._plain = httpcore2.SyncBackend()

    def connect_tcp(
        self,
        host: str,
        port: int,
        timeout: float | None = None,
        local_address: str | None = None,
        socket_options: Iterable[Any] | None = None,
    ) -> httpcore2.NetworkStream:
        made = self._plain.connect_tcp(host, port, timeout, local_address, socket_options)
        return _Stream(made, self._deadlines)


class _Stream(httpcore2.NetworkStream):
    def __init__(self, stream: httpcore2.NetworkStream, deadlines: _Deadlines) -> None:
        self._stream, self._deadlines = stream, deadlines

    def read(self, max_bytes: int, timeout: float | None = None) -> bytes:
        return self._stream.read(max_bytes, self._deadlines.left_s(timeout))

    def write(self, buffer: bytes, timeout: float | None = None) -> None:
        self._stream.write(buffer, self._deadlines.left_s(timeout))

    def close(self) -> None:
        self._stream.close()

    def start_tls(
        self, ssl_context: ssl.SSLContext, server_hostname: str | None = None, timeout: float | None = None
    ) -> httpcore2.NetworkStream:
        return _Stream(self._stream.start_tls(ssl_context, server_hostname, timeout), self._deadlines)

    def get_extra_info(self, info: str) -> Any:
        return self._stream.get_extra_info(info)
