"""A reflector that stands open: nobody sets two of them on each other, and nobody floods others through one."""

import socket
import struct
import unittest
from collections.abc import Sequence
from ipaddress import ip_network
from unittest import mock

from harvok.clock import SYSTEM
from harvok.core.wire.stamp import SenderPacket, encode_sender, reads_as_answer
from harvok.testing.clock import ManualClock
from harvok.traffic import reflector as reflecting
from harvok.traffic.reflector import Reflector, ReflectorSettings
from tests.traffic.test_udp import answers_on, free_udp_port
from tests.whole.program import until
from tests.whole.test_udp import NEEDS_ROOT

HOST, KEY = "127.0.0.1", b"dome to hall"


class Loops(unittest.TestCase):
    def reflector(self, host: str = HOST, **settings: object) -> tuple[Reflector, int]:
        port = free_udp_port()
        reflector = Reflector(ReflectorSettings(port, host, **settings), SYSTEM)  # type: ignore[arg-type]
        self.addCleanup(reflector.close)
        return reflector, port

    def said(self, port: int, packets: Sequence[bytes], own_port: int = 0, source: str = HOST) -> list[bytes]:
        with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as sock:
            sock.bind((source, own_port))
            sock.connect((HOST, port))
            for packet in packets:
                sock.send(packet)
            return answers_on(sock)

    def packet(self, number: int = 1, key: bytes | None = None) -> bytes:
        return encode_sender(SenderPacket(number, SYSTEM.wall_ns(), 1, 7), key)

    def test_what_reads_as_an_answer_is_not_answered(self) -> None:
        for key in (None, KEY):
            (_, first), (_, second) = self.reflector(key=key), self.reflector(key=key)
            (answer,) = self.said(first, [self.packet(key=key)])
            self.assertEqual(self.said(second, [answer, answer + bytes(100)]), [])
            self.assertEqual(len(self.said(second, [self.packet(2, key)])), 1)

    def test_padding_of_any_kind_does_not_read_as_an_answer(self) -> None:
        packet = self.packet()
        for padding in (bytes(30), b"\xff" * 30, bytes(range(30)), b"\x55" * 30):
            self.assertFalse(reads_as_answer(packet[:14] + padding))
        self.assertFalse(reads_as_answer(packet[:30]))

    def test_a_reflectors_port_is_not_answered(self) -> None:
        _, port = self.reflector()
        self.assertEqual(self.said(port, [self.packet()], own_port=port, source="127.0.0.9"), [])

    @NEEDS_ROOT
    def test_the_standard_port_is_not_answered(self) -> None:
        _, port = self.reflector()
        self.assertEqual(self.said(port, [self.packet()], own_port=862, source="127.0.0.9"), [])

    @NEEDS_ROOT
    def test_a_forged_packet_sets_no_two_on_each_other(self) -> None:
        (one, first), (other, second) = self.reflector("127.0.0.2"), self.reflector("127.0.0.3")
        for packet in (self.packet(), self.packet(2)):
            forge(packet, ("127.0.0.3", second), ("127.0.0.2", first))
        until(lambda: bool(one._sessions))
        self.said(second, [])
        heard = [*one._sessions.values(), *other._sessions.values()]
        self.assertEqual(heard, [2])

    def test_a_packet_that_was_seen_is_not_answered_again(self) -> None:
        _, port = self.reflector(key=KEY)
        packet = self.packet(key=KEY)
        self.assertEqual(len(self.said(port, [packet, packet])), 1)
        self.assertEqual(self.said(port, [packet], source="127.0.0.9"), [])

    def test_as_many_answers_as_a_test_needs(self) -> None:
        self.enterContext(mock.patch.object(reflecting, "MAX_OF_ONE_PPS", 5.0))
        self.enterContext(mock.patch.object(reflecting, "MAX_OF_ALL_PPS", 8.0))
        clock, port = ManualClock(), free_udp_port()
        clock.sleep(60)
        reflector = Reflector(ReflectorSettings(port, HOST), clock)
        self.addCleanup(reflector.close)
        reflector._of_all.rate_pps = 8.0
        packets = [self.packet(number) for number in range(20)]
        self.assertEqual(len(self.said(port, packets)), 5)
        self.assertEqual(len(self.said(port, packets, source="127.0.0.9")), 3)
        reflector.serve_guest("127.0.0.9")
        self.assertEqual(len(self.said(port, packets, source="127.0.0.9")), 20)
        clock.sleep(1)
        self.assertEqual(len(self.said(port, packets)), 5)

    def test_whoever_has_the_station_is_answered_wherever_reflecting_is_allowed_to(self) -> None:
        reflector, port = self.reflector(allowed=[ip_network("192.0.2.0/24")])
        self.assertEqual(self.said(port, [self.packet()]), [])
        reflector.serve_guest(HOST)
        self.assertEqual(len(self.said(port, [self.packet()])), 1)
        reflector.serve_guest(None)
        self.assertEqual(self.said(port, [self.packet()]), [])


def forge(payload: bytes, source: tuple[str, int], destination: tuple[str, int]) -> None:
    """Sends a datagram from an address and port that are somebody else's."""
    udp = struct.pack("!HHHH", source[1], destination[1], 8 + len(payload), 0) + payload
    head = struct.pack("!BBHHHBBH", 0x45, 0, 20 + len(udp), 0, 0, 64, socket.IPPROTO_UDP, 0)
    addresses = socket.inet_aton(source[0]) + socket.inet_aton(destination[0])
    with socket.socket(socket.AF_INET, socket.SOCK_RAW, socket.IPPROTO_RAW) as raw:
        raw.sendto(head + addresses + udp, (destination[0], 0))
