"""A near end towards a station that means harm, or is none: nothing that comes back holds it up or crashes it."""

import gzip
import json
import socket
import threading
import time
import unittest
from collections.abc import Callable, Iterator
from contextlib import suppress
from unittest import mock

import httpcore2

from harvok.clock import SYSTEM
from harvok.errors import HarvokError, ProtocolError, SilentError
from harvok.station import exchange
from harvok.station.address import StationAddress
from harvok.station.client import StationClient
from harvok.station.contact import Access
from harvok.station.exchange import Exchange
from harvok.traffic.sockets import Source
from tests.whole.program import TOKEN, ProgramTest

HOST = "127.0.0.1"
OK = b"HTTP/1.1 200 OK\r\ncontent-type: application/json\r\n"
FACTS = {"name": "hall", "harvok": "9", "data_port": 1, "max_test_s": 60, "max_flows": 4}


def answer(body: bytes, more: bytes = b"") -> bytes:
    return OK + more + f"content-length: {len(body)}\r\n\r\n".encode() + body


class Hostile(unittest.TestCase):
    """A server that sends what it likes, as slowly as it likes."""

    def serve(self, parts: Callable[[], Iterator[bytes]], pause_s: float = 0.0) -> int:
        listener = self.enterContext(socket.create_server((HOST, 0)))
        self.over = threading.Event()
        self.addCleanup(self.over.set)

        def each() -> None:
            with suppress(OSError):
                while True:
                    guest, _ = listener.accept()
                    with guest, suppress(OSError):
                        guest.recv(65536)
                        for part in parts():
                            guest.sendall(part)
                            if self.over.wait(pause_s):
                                return

        threading.Thread(target=each, daemon=True).start()
        return int(listener.getsockname()[1])

    def asking(self, parts: Callable[[], Iterator[bytes]], pause_s: float = 0.0) -> Exchange:
        made = Exchange(HOST, self.serve(parts, pause_s), TOKEN, Source(), None, SYSTEM)
        self.addCleanup(made.close)
        return made

    def client(self, parts: Callable[[], Iterator[bytes]], pause_s: float = 0.0) -> StationClient:
        address = StationAddress("hall", HOST, self.serve(parts, pause_s))
        return self.enterContext(StationClient(address, Access(TOKEN, plain=True), Source(), SYSTEM))


class Bounds(Hostile):
    def test_an_answer_that_trickles_in_has_a_deadline_as_a_whole(self) -> None:
        def header() -> Iterator[bytes]:
            yield b"HTTP/1.1 200 OK\r\nx: "
            while True:
                yield b"x"

        def body() -> Iterator[bytes]:
            yield OK + b"content-length: 1000000\r\n\r\n"
            while True:
                yield b" "

        for parts in (header, body):
            began_s = time.monotonic()
            with self.assertRaises(httpcore2.ReadTimeout):
                self.asking(parts, pause_s=0.05).ask("GET", "/station", None, total_s=1.0)
            self.assertLess(time.monotonic() - began_s, 30)

    def test_an_answer_is_as_large_as_a_real_one_at_most(self) -> None:
        def endless() -> Iterator[bytes]:
            yield OK + b"content-length: 3000000000\r\n\r\n"
            while True:
                yield b" " * 65536

        with self.assertRaisesRegex(ProtocolError, "more than 4 MiB"):
            self.asking(endless).ask("GET", "/station", None, total_s=60.0)

    def test_an_answer_that_nobody_asked_to_be_packed_is_refused(self) -> None:
        bomb = gzip.compress(bytes(10**7))
        with self.assertRaisesRegex(ProtocolError, "compressed"):
            self.asking(lambda: iter([answer(bomb, b"content-encoding: gzip\r\n")])).ask("GET", "/station", None, 10.0)

    def test_a_line_of_progress_without_an_end_is_cut_off(self) -> None:
        def endless() -> Iterator[bytes]:
            yield OK + b"transfer-encoding: chunked\r\n\r\n"
            while True:
                yield b"10000\r\n" + b"x" * 0x10000 + b"\r\n"

        def a_flood() -> Iterator[bytes]:
            yield OK + b"transfer-encoding: chunked\r\n\r\n"
            while True:
                yield b"10000\r\n" + b"\n" * 0x10000 + b"\r\n"

        self.enterContext(mock.patch.object(exchange, "MAX_LINE_BYTES", 20_000))
        for parts in (endless, a_flood):
            with (
                self.assertRaisesRegex(ProtocolError, "more than any test has to tell"),
                self.asking(parts).lines("/progress", 10.0) as (_, lines),
            ):
                for line in lines:
                    self.assertEqual(line, b"")

    def test_what_it_tells_is_checked(self) -> None:
        for wrong in (
            {"max_flows": -1},
            {"data_port": 70000},
            {"name": "x" * 5000},
            {"max_test_s": float("nan")},
            {"free_in_s": float("inf")},
            {"harvok": ["9"]},
        ):
            body = json.dumps(FACTS | wrong).encode()
            with self.assertRaisesRegex(ProtocolError, "StationFacts is not readable"):
                self.client(lambda body=body: iter([answer(body)])).facts()  # type: ignore[misc]
        self.assertEqual(self.client(lambda: iter([answer(json.dumps(FACTS).encode())])).facts().name, "hall")

    def test_what_is_no_station_is_told_apart_from_one_that_is_silent(self) -> None:
        for parts, kind, said in (
            (lambda: iter([b"220 mail.example ESMTP\r\n\r\n"]), ProtocolError, "is no station"),
            (lambda: iter([b"HTTP/1.1 404 Not Found\r\ncontent-length: 2\r\n\r\nno"]), ProtocolError, "no station"),
            (lambda: iter([answer(b"[" * 200_000)]), ProtocolError, "not readable"),
            (lambda: iter([answer(b"\xff\xfe")]), ProtocolError, "not readable"),
        ):
            with self.assertRaisesRegex(HarvokError, said) as caught:
                self.client(parts).facts()
            self.assertIsInstance(caught.exception, kind)
        with self.assertRaisesRegex(SilentError, "takes connections and does not answer"):
            self.client(lambda: iter([b""]), pause_s=60)._call("GET", "/station", None, 0.5)


class TheProgram(Hostile, ProgramTest):
    """The whole of it, as a user sees it."""

    def test_one_clear_sentence_and_no_escape_sequence(self) -> None:
        fault = {"reference": "station-busy", "message": "\x1b[2Jbusy\x07 [red]\u202e[/] [/x]", "hint": "\x9b2Jwait"}
        body = json.dumps(fault).encode()
        busy = b"HTTP/1.1 409 Conflict\r\ncontent-length: " + str(len(body)).encode() + b"\r\n\r\n" + body
        port = self.serve(lambda: iter([busy]))
        done = self.inside("tcp", f"{HOST}:{port}", "--plain", code=4)
        self.assertIn("error [2Jbusy [red][/] [/x]", done.stderr)
        for letter in "\x1b\x07\x9b\u202e":
            self.assertNotIn(letter, done.stderr)
