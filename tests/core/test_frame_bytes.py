"""The frames that the engine sends, read by somebody else's arithmetic; ARP and neighbour discovery; worker orders."""

import ipaddress
import struct
import unittest

from hypothesis import given
from hypothesis import strategies as st

from harvok.core.wire import frame_orders, neighbours
from harvok.core.wire.frame import Ends, FrameIp, build, header_offset, mark, mark_offset, min_frame_bytes

ENDS_4 = Ends(b"\2\0\0\0\0\1", b"\2\0\0\0\0\2", "198.18.0.2", "198.19.0.2")
ENDS_6 = Ends(b"\2\0\0\0\0\1", b"\2\0\0\0\0\2", "2001:2:0:1::2", "2001:2:0:2::2")
MAC = b"\2\x25\x44\0\0\1"


def folded(text: bytes) -> int:
    """The ones' complement sum, the slow way."""
    total = 0
    for at in range(0, len(text), 2):
        total += (text[at] << 8) + (text[at + 1] if at + 1 < len(text) else 0)
        total = (total & 0xFFFF) + (total >> 16)
    return total


class TestFrames(unittest.TestCase):
    def test_sizes_and_headers(self) -> None:
        for ip, ends in ((4, ENDS_4), (6, ENDS_6), (None, ENDS_4)):
            version: FrameIp = ip  # type: ignore[assignment]
            for size in (min_frame_bytes(version), 1518, 9018):
                frame = build(size, version, ends, stream=0xDEADBEEF, slot=513)
                self.assertEqual(len(frame), size - 4)
                self.assertEqual(frame[:12], ends.destination_mac + ends.source_mac)
                self.assertEqual(frame[header_offset(version) :][:6], bytes.fromhex("deadbeef0201"))
        self.assertEqual([min_frame_bytes(4), min_frame_bytes(6), min_frame_bytes(None)], [64, 86, 64])

    def test_ipv4(self) -> None:
        frame = build(128, 4, ENDS_4, 1, 0)
        self.assertEqual(folded(frame[14:34]), 0xFFFF)
        self.assertEqual(struct.unpack(">H", frame[16:18])[0], 110)
        self.assertEqual(str(ipaddress.IPv4Address(frame[30:34])), "198.19.0.2")
        self.assertEqual(struct.unpack(">HHHH", frame[34:42]), (49152, 9, 90, 0))

    @given(st.integers(0, 2**32 - 1), st.integers(0, 2**64 - 1), st.integers(0, 65535))
    def test_the_ipv6_checksum_holds_for_every_mark(self, lap: int, stamp_ns: int, slot: int) -> None:
        frame = bytearray(build(86, 6, ENDS_6, 7, slot))
        text = mark(6, lap, stamp_ns)
        frame[mark_offset(6) : mark_offset(6) + len(text)] = text
        udp = bytes(frame[54:])
        pseudo = bytes(frame[22:54]) + struct.pack(">IHBB", len(udp), 0, 0, 17)
        self.assertEqual(folded(pseudo + udp), 0xFFFF)


class Neighbours(unittest.TestCase):
    def test_a_question_is_answered_and_understood(self) -> None:
        for target, own in (("198.18.0.1", "198.18.0.2"), ("2001:2:0:1::1", "2001:2:0:1::2")):
            wanted, asker = ipaddress.ip_address(target), ipaddress.ip_address(own)
            question = neighbours.read(neighbours.ask(wanted, asker, MAC))
            assert isinstance(question, neighbours.Question)
            self.assertEqual((question.target, question.asker, question.asker_mac), (wanted, asker, MAC))
            said = neighbours.read(neighbours.answer(question, b"\2\x25\x44\0\0\2"))
            self.assertEqual(said, neighbours.Answer(wanted, b"\2\x25\x44\0\0\2"))

    def test_the_discovery_checksum(self) -> None:
        frame = neighbours.ask(ipaddress.ip_address("2001:2::1"), ipaddress.ip_address("2001:2::2"), MAC)
        body = frame[54:]
        self.assertEqual(folded(frame[22:54] + struct.pack(">IHBB", len(body), 0, 0, 58) + body), 0xFFFF)
        self.assertEqual(frame[:6].hex(), "3333ff000001")

    @given(st.binary(max_size=120))
    def test_rubbish_says_nothing_and_harms_nothing(self, rubbish: bytes) -> None:
        for head in (b"", bytes(12) + b"\x08\x06", bytes(12) + b"\x86\xdd"):
            said = neighbours.read(head + rubbish)
            self.assertTrue(said is None or isinstance(said, neighbours.Question | neighbours.Answer))


class Orders(unittest.TestCase):
    def test_each_line_comes_back_as_it_was(self) -> None:
        lines: list[frame_orders.Line] = [
            frame_orders.ReceiveOrder("port2", "port1", 4, 7, [64, 512], 1, 64, 8, 64, [1, 2], 1, 1, 4, None),
            frame_orders.Failed("no", "yes"),
            frame_orders.Ready(),
            frame_orders.Gateways([None, "0225440000"]),
        ]
        for line in lines:
            text = frame_orders.encode(line)
            self.assertEqual((text.count(b"\n"), frame_orders.decode(text)), (1, line))

    def test_anything_else_is_refused(self) -> None:
        for text in (b"{}", b'{"kind": "dance"}', b"go"):
            with self.assertRaises(ValueError):
                frame_orders.decode(text)
