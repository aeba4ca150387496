"""The page's own HTTP: the page itself for everybody, the rest for those with the code. In clear, since no browser
would believe a station's certificate; so the code opens nothing but this.

One thread for each connection: the bytes of a transfer go from the kernel and to it in large pieces. Strangers are
bounded in number, and each has FIRST_REQUEST_S for its first request.
"""

import json
import secrets
import socket
import threading
from collections.abc import Callable
from http import HTTPStatus
from http.server import BaseHTTPRequestHandler
from importlib.resources import files
from socketserver import BaseServer, ThreadingMixIn
from typing import Any, ClassVar

from pydantic import TypeAdapter, ValidationError

from harvok.clock import Clock
from harvok.core.ends import RECEIVE, SEND
from harvok.core.trials.browser import PageReport
from harvok.errors import HarvokError, ProtocolError
from harvok.station.browser.flows import shut
from harvok.station.browser.visit import Visit, VisitRequest
from harvok.station.doors import FIRST_REQUEST_S, MAX_STRANGERS, MAX_STRANGERS_OF_ONE
from harvok.traffic.unproven import Unproven
from harvok.traffic.zero_copy import block_of
from harvok.zones import with_zone

_BLOCK_BYTES = 256 * 1024
_LARGEST_BODY_BYTES = 4 * 1024 * 1024
_LARGEST_UPLOAD_BYTES = 256 * 1024 * 1024
_MAX_PROVEN = 64
_IDLE_S = 30.0
_HEAD = (
    b"HTTP/1.1 200 OK\r\nContent-Type: application/octet-stream\r\n"
    b"Cache-Control: no-store, no-transform\r\nConnection: close\r\n\r\n"
)
"""Of what a browser receives, which ends with its connection."""
_POLICY = "default-src 'none'; script-src 'nonce-{nonce}'; style-src 'nonce-{nonce}'; connect-src 'self'; img-src data:"
_REPORT = TypeAdapter(PageReport)
_REQUEST = TypeAdapter(VisitRequest)

Begin = Callable[[VisitRequest, str, str], Visit]
"""Begins a visit of a browser, by its own and the station's address. Raises HarvokError where it cannot be now."""


def page(station: str, nonce: str) -> bytes:
    """The page, whole."""
    text = files("harvok.station.browser").joinpath("page.html").read_text(encoding="utf-8")
    return text.replace("{{nonce}}", nonce).replace("{{station}}", _escaped(station)).encode()


def _escaped(text: str) -> str:
    return text.replace("&", "&amp;").replace("<", "&lt;").replace(">", "&gt;").replace('"', "&quot;")


class Handler(BaseHTTPRequestHandler):
    """One connection."""

    protocol_version = "HTTP/1.1"
    server_version, sys_version = "Harvok", ""
    timeout = FIRST_REQUEST_S
    wbufsize = 16 * 1024
    disable_nagle_algorithm = True
    server: "Door"
    _nowhere: ClassVar[dict[str, str]] = {"error": "there is no such thing here"}

    def do_GET(self) -> None:
        if self.path.partition("?")[0] == "/":
            return self._page()
        return self._let_in({"next": self._next, "live": self._live, "receive": self._receive})

    def do_POST(self) -> None:
        self._let_in({"visits": self._begin, "report": self._report, "send": self._send})

    def log_message(self, format: str, *args: Any) -> None:
        """Says nothing."""

    def _page(self) -> None:
        nonce = secrets.token_urlsafe(16)
        body = page(self.server.name, nonce)
        self.send_response(HTTPStatus.OK)
        for name, value in (
            ("Content-Type", "text/html; charset=utf-8"),
            ("Content-Security-Policy", _POLICY.format(nonce=nonce)),
            ("Referrer-Policy", "no-referrer"),
            ("X-Content-Type-Options", "nosniff"),
            ("Cache-Control", "no-store"),
            ("Content-Length", str(len(body))),
            ("Connection", "close"),
        ):
            self.send_header(name, value)
        self.end_headers()
        self.wfile.write(body)

    def _let_in(self, calls: dict[str, Callable[[list[str]], None]]) -> None:
        """Hands a request with the code on to its call."""
        if not secrets.compare_digest(self.headers.get("Authorization", "").encode(), self.server.wanted):
            self.close_connection = True
            return self._answer({"error": "this code does not admit: open the address that the station printed"}, 401)
        if not self.server.prove(self.connection):
            self.close_connection = True
            return self._answer({"error": "the station has too many connections"}, 503)
        self.connection.settimeout(_IDLE_S)
        name, *rest = self.path.partition("?")[0].strip("/").split("/")
        if name not in calls:
            return self._answer(self._nowhere, 404)
        try:
            calls[name](rest)
        except HarvokError as error:
            self._answer({"error": error.message, "hint": error.hint}, 409)
        return None

    def _answer(self, body: dict[str, Any], status: int = 200) -> None:
        text = json.dumps(body).encode()
        self.send_response(status)
        self.send_header("Content-Type", "application/json")
        self.send_header("Cache-Control", "no-store")
        self.send_header("Content-Length", str(len(text)))
        if self.close_connection:
            self.send_header("Connection", "close")
        self.end_headers()
        self.wfile.write(text)

    def _body(self) -> bytes:
        """The whole body of a small request. Raises ProtocolError."""
        length = self._length(_LARGEST_BODY_BYTES)
        return self.rfile.read(length)

    def _length(self, largest: int) -> int:
        text = self.headers.get("Content-Length", "")
        if not text.isdigit() or int(text) > largest:
            self.close_connection = True
            raise ProtocolError("the request says no length that is possible", "Reload the page.")
        return int(text)

    def _begin(self, rest: list[str]) -> None:
        asked = self._read(_REQUEST)
        here, there = self.connection.getsockname(), self.client_address
        visit = self.server.begin(asked, with_zone(there), with_zone(here))
        self._answer({"visit": visit.name})

    def _read(self, adapter: TypeAdapter[Any]) -> Any:
        try:
            return adapter.validate_json(self._body())
        except ValidationError as error:
            first = error.errors()[0]
            place = ".".join(map(str, first["loc"])) or "the request"
            raise ProtocolError(f"{place}: {first['msg']}", "Correct it, or reload the page.") from None

    def _visit(self, rest: list[str]) -> tuple[Visit, int]:
        """The visit and the number of the trial that a path names. Raises ProtocolError."""
        visit = self.server.visit(rest[0] if rest else "")
        number = rest[1] if len(rest) > 1 else "0"
        if visit is None or not number.isdecimal() or len(number) > 6:
            raise ProtocolError("this visit has ended", "Reload the page.")
        visit.heard()
        return visit, int(number)

    def _next(self, rest: list[str]) -> None:
        visit, number = self._visit(rest)
        self._answer(visit.next_order(number))

    def _live(self, rest: list[str]) -> None:
        visit, number = self._visit(rest)
        self._answer(visit.live(number))

    def _report(self, rest: list[str]) -> None:
        report = self._read(_REPORT)
        visit, number = self._visit(rest)
        self._answer({"taken": visit.take_report(number, report)})

    def _receive(self, rest: list[str]) -> None:
        """Sends until the trial is over."""
        visit, number = self._visit(rest)
        flows = visit.flows_of(number, RECEIVE.name)
        if flows is None:
            return self._answer(self._nowhere, 404)
        self.close_connection = True
        flow = flows.begin_transfer(self.connection, len(_HEAD))
        try:
            self.wfile.write(_HEAD)
            self.wfile.flush()
            block, send = self.server.block, self.connection.send
            while True:
                flow.moved_bytes += send(block)
        except OSError:  # the trial is over, or the browser went
            return None
        finally:
            flows.end_transfer()

    def _send(self, rest: list[str]) -> None:
        """Reads one upload."""
        visit, number = self._visit(rest)
        left = self._length(_LARGEST_UPLOAD_BYTES)
        flows = visit.flows_of(number, SEND.name)
        if flows is None:
            self.close_connection = True
            return self._answer(self._nowhere, 404)
        flow = flows.begin_transfer(self.connection)
        try:
            read, room = self.rfile.readinto1, memoryview(bytearray(_BLOCK_BYTES))
            while left:
                got = read(room[: min(left, _BLOCK_BYTES)])
                if not got:
                    raise ConnectionResetError
                flow.moved_bytes += got
                left -= got
        except OSError:
            self.close_connection = True
            return None
        finally:
            flows.end_transfer()
        return self._answer({})


class Door(ThreadingMixIn, BaseServer):
    """Listens on some sockets, and serves each connection on a thread of its own."""

    daemon_threads = True
    block_on_close = False

    def __init__(self, listeners: list[socket.socket], name: str, code: str, begin: Begin, clock: Clock) -> None:
        super().__init__(listeners[0].getsockname(), Handler)
        self._listeners, self.name, self.begin_visit = listeners, name, begin
        self.wanted = f"Bearer {code}".encode()
        self.block = block_of(secrets.token_hex(8)) * (_BLOCK_BYTES // len(block_of("")))
        self._lock = threading.Lock()
        self._strangers: Unproven[socket.socket] = Unproven(MAX_STRANGERS, MAX_STRANGERS_OF_ONE)
        self._proven: set[socket.socket] = set()
        self._visit: Visit | None = None  # there is one at a time
        self._clock = clock

    def begin(self, asked: VisitRequest, address: str, local: str) -> Visit:
        """A browser wants to measure. Raises HarvokError where it cannot now."""
        visit = self.begin_visit(asked, address, local)
        with self._lock:
            self._visit = visit
        return visit

    def visit(self, name: str) -> Visit | None:
        with self._lock:
            return self._visit if self._visit and self._visit.name == name else None

    def prove(self, sock: socket.socket) -> bool:
        """A request with the code came on this connection; False where too many such connections are open."""
        with self._lock:
            if self._strangers.discard(sock):
                self._proven.add(sock)
            return len(self._proven) <= _MAX_PROVEN

    def serve(self) -> None:
        """Serves until closed; on a thread of its own for each listening socket."""
        for listener in self._listeners:
            threading.Thread(target=self._accept, args=(listener,), daemon=True).start()

    def close(self) -> None:
        """Ends everything."""
        for listener in self._listeners:
            shut(listener)  # wakes the thread that accepts
            listener.close()
        with self._lock:
            for sock in [*self._proven, *self._strangers]:
                shut(sock)

    def shutdown_request(self, request: Any) -> None:
        """A connection is over."""
        with self._lock:
            self._strangers.discard(request)
            self._proven.discard(request)
        shut(request)
        request.close()

    def handle_error(self, request: Any, client_address: Any) -> None:
        """A connection that broke is no news."""

    def _accept(self, listener: socket.socket) -> None:
        while True:
            try:
                sock, peer = listener.accept()
            except OSError:
                if listener.fileno() < 0:
                    return
                self._clock.sleep(0.1)  # no more files may be open
                continue
            with self._lock:
                displaced = self._strangers.add(sock, with_zone(peer))
            if displaced:
                shut(displaced)
            self.process_request(sock, peer)
