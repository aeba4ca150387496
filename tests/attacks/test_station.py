"""A station among strangers: who has no token cannot keep out who has one, end a test, or make it answer nonsense."""

import asyncio
import signal
import socket
import time
import unittest
from contextlib import ExitStack, suppress
from functools import partial
from unittest import mock

from harvok.core.ends import SEND
from harvok.core.trials.tcp import TcpTrial
from harvok.core.wire.hello import HELLO_BYTES, KEY_BYTES, TRIAL_ID_BYTES
from harvok.errors import FarEndError
from harvok.station.doors import Doors
from harvok.traffic import tcp
from harvok.traffic.sockets import Source
from harvok.traffic.tcp import DataTarget, TcpListener, close_all, connect_flows
from harvok.traffic.unproven import Unproven, neighbourhood
from tests.attacks.fuzz import Fuzz
from tests.whole.program import ProgramTest, free_ports

HOST = "127.0.0.1"
_CASES, _SEED = 2500, 20261125  # python -m tests.attacks.fuzz makes more


class TooMany(unittest.TestCase):
    def test_a_flood_displaces_itself(self) -> None:
        waiting: Unproven[int] = Unproven(max_of_all=6, max_of_one=4)
        self.assertEqual([waiting.add(number, "198.51.100.7") for number in range(4)], [None] * 4)
        self.assertIsNone(waiting.add(10, "198.51.100.8"))
        self.assertEqual(waiting.add(4, "198.51.100.7"), 0)
        self.assertIsNone(waiting.add(11, "198.51.100.9"))
        self.assertEqual(waiting.add(12, "198.51.100.9"), 1)
        self.assertEqual(list(waiting), [2, 3, 10, 4, 11, 12])
        self.assertTrue(waiting.discard(10))
        self.assertFalse(waiting.discard(10))

    def test_who_is_one_neighbour(self) -> None:
        self.assertEqual(neighbourhood("2001:db8::1"), neighbourhood("2001:db8::ffff:1"))
        self.assertNotEqual(neighbourhood("2001:db8::1"), neighbourhood("2001:db8:0:1::1"))
        self.assertEqual(neighbourhood("::ffff:198.51.100.7"), "198.51.100.7")
        self.assertEqual(neighbourhood("fe80::1%eth0"), neighbourhood("fe80::1%eth1"))


class DataPort(unittest.TestCase):
    """The hello of a data connection has a deadline as a whole."""

    def setUp(self) -> None:
        self.port = free_ports()
        self.trial = TcpTrial((SEND,), flows=2, duration_s=1.0)
        self.trial_id, self.key = bytes(TRIAL_ID_BYTES), bytes(KEY_BYTES)

    def listen(self) -> TcpListener:
        listener = TcpListener(self.trial, self.trial_id, self.key, HOST, self.port)
        self.addCleanup(listener.close)
        return listener

    def strangers(self, count: int, said: bytes = b"H") -> list[socket.socket]:
        every = []
        for _ in range(count):
            sock = socket.create_connection((HOST, self.port))
            self.addCleanup(sock.close)
            sock.sendall(said)
            every.append(sock)
        return every

    def test_many_that_say_little_keep_nobody_out(self) -> None:
        listener = self.listen()
        self.strangers(200)
        near = connect_flows(self.trial, DataTarget((HOST, self.port), self.trial_id, self.key), Source())
        far = listener.sockets(20)
        self.assertEqual([len(ones) for ones in (*near.values(), *far.values())], [2, 2])
        close_all(near)
        close_all(far)

    def test_a_hello_that_trickles_in_is_cut_off(self) -> None:
        self.enterContext(mock.patch.object(tcp, "HELLO_TIMEOUT_S", 0.5))
        listener = self.listen()
        (stranger,) = self.strangers(1)
        stranger.settimeout(0.2)
        for _ in range(HELLO_BYTES - 2):
            with self.subTest("the rest, a byte at a time"):
                try:
                    stranger.sendall(b"x")
                    if stranger.recv(1) == b"":
                        break
                except TimeoutError:
                    continue
                except ConnectionError:
                    break
        else:
            self.fail("the station went on listening")
        with self.assertRaises(FarEndError):
            listener.sockets(0)

    def test_a_wrong_hello_is_closed_without_a_word(self) -> None:
        self.listen()
        (stranger,) = self.strangers(1, b"H" * HELLO_BYTES)
        stranger.settimeout(20)
        self.assertEqual(stranger.recv(10), b"")


class ControlPort(ProgramTest):
    def connect(self, address: str, source: str) -> socket.socket:
        host, _, port = address.partition(":")
        sock = socket.create_connection((host, int(port)), source_address=(source, 0))
        self.addCleanup(sock.close)
        sock.settimeout(30)
        return sock

    def test_silent_strangers_do_not_end_a_test(self) -> None:
        _, address = self.station()
        for number in range(140):
            self.connect(address, f"127.0.0.{1 + number // 14}")
        self.assertTrue(self.measured(address, "--duration", "1s", "--direction", "send")["figures"])

    def test_a_stranger_has_five_seconds(self) -> None:
        _, address = self.station("--plain")
        silent, slow, wrong = (self.connect(address, HOST) for _ in range(3))
        slow.sendall(b"GET /v1/station HTTP/1.1\r\nx: ")
        wrong.sendall(b"GET /v1/station HTTP/1.1\r\nhost: x\r\nauthorization: Bearer x\r\n\r\n")
        said = b"".join(iter(lambda: wrong.recv(4096), b""))
        self.assertTrue(said.startswith(b"HTTP/1.1 401"), said)
        self.assertIn(b"connection: close", said.lower())
        for _ in range(6):
            time.sleep(1)
            try:
                slow.sendall(b"x")
            except ConnectionError:
                break
        for sock in (silent, slow):
            try:
                self.assertEqual(sock.recv(1), b"")
            except ConnectionError:
                self.assertIs(sock, slow)

    def test_a_handshake_that_goes_no_further_has_five_seconds_too(self) -> None:
        _, address = self.station()
        for begun in (b"", b"\x16\x03\x01\x02\x00\x01\x00\x01\xfc", b"GET / HTTP/1.1\r\n\r\n"):
            stranger = self.connect(address, HOST)
            stranger.sendall(begun)
            with suppress(ConnectionError):
                self.assertNotIn(b"HTTP", b"".join(iter(partial(stranger.recv, 4096), b"")))

    def test_a_large_or_slow_body_is_refused(self) -> None:
        _, address = self.station("--plain")
        head = f"POST /v1/sessions HTTP/1.1\r\nhost: x\r\nauthorization: Bearer {self.env['HARVOK_TOKEN']}\r\n"
        large = self.connect(address, HOST)
        large.sendall(f"{head}content-length: 3000000000\r\n\r\n".encode() + b" " * 600_000)
        self.assertTrue(large.recv(4096).startswith(b"HTTP/1.1 413"))
        slow = self.connect(address, HOST)
        slow.sendall(f"{head}content-length: 100\r\n\r\n{{".encode())
        self.assertTrue(slow.recv(4096).startswith(b"HTTP/1.1 408"))

    def test_a_terminal_that_closes_ends_it_in_good_order(self) -> None:
        self.addCleanup(signal.signal, signal.SIGHUP, signal.signal(signal.SIGHUP, signal.SIG_DFL))  # tests under nohup
        station, _ = self.station()
        station.send_signal(signal.SIGHUP)
        out, err = station.communicate(timeout=30)
        self.assertEqual((station.returncode, err), (0, ""), out)

    def test_started_to_outlive_its_terminal_it_goes_on(self) -> None:
        self.addCleanup(signal.signal, signal.SIGHUP, signal.signal(signal.SIGHUP, signal.SIG_IGN))
        station, address = self.station(cold=True)  # which inherits it
        station.send_signal(signal.SIGHUP)
        self.assertTrue(self.measured(address, "--amount", "1M", "--direction", "send")["figures"])


class Proving(unittest.TestCase):
    def test_who_has_proven_himself_is_never_displaced(self) -> None:
        """Nor cut off when the time for a first request is over."""

        async def scene() -> list[bool]:
            loop, doors, stack = asyncio.get_running_loop(), Doors(), ExitStack()
            listener = stack.enter_context(socket.create_server((HOST, 0)))
            accepting = loop.create_task(doors.accept(listener, asyncio.Protocol))
            guest = stack.enter_context(socket.create_connection(listener.getsockname()))
            guest.setblocking(False)
            while not doors.prove(guest.getsockname()) or guest.getsockname() not in doors._guests:
                await asyncio.sleep(0.01)
            doors.prove(guest.getsockname())
            for _ in range(40):
                stack.enter_context(socket.create_connection(listener.getsockname()))
                await asyncio.sleep(0)
            await asyncio.sleep(0.8)
            open_ends = [guest.getsockname() in doors._guests, len(doors._strangers) == 0]
            accepting.cancel()
            stack.close()
            return open_ends

        with mock.patch("harvok.station.doors.FIRST_REQUEST_S", 0.4):
            self.assertEqual(asyncio.run(scene()), [True, True])


class Nonsense(unittest.TestCase):
    def test_every_request_is_answered_with_success_or_a_clear_refusal(self) -> None:
        outcome = Fuzz(_SEED, free_ports()).run(_CASES)
        self.assertEqual(outcome.wrong, [])
        self.assertGreater(len(outcome.statuses), 4)
