"""The frames that the engine sends, read by somebody else's arithmetic; ARP and neighbour discovery; worker orders."""

import ipaddress
import struct
import unittest

from hypothesis import given
from hypothesis import strategies as st

from harvok.core.wire import frame_orders, neighbours
from harvok.core.wire.frame import (
    Ends,
    FrameIp,
    build,
    header_offset,
    mark,
    mark_offset,
    min_frame_bytes,
    tagged,
    vlan_tags,
)
from harvok.core.wire.groups import group_mac, join, leave, link_local

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

    def test_tags_stand_behind_the_addresses_and_come_on_top(self) -> None:
        plain = build(128, 4, ENDS_4, 1, 0)
        for vlans, tags in (((10,), "8100000a"), ((100, 20), "88a8006481000014")):
            frame = build(128, 4, ENDS_4, 1, 0, vlans)
            self.assertEqual(frame, plain[:12] + bytes.fromhex(tags) + plain[12:])
            self.assertEqual(frame, tagged(plain, vlan_tags(vlans)))
            self.assertEqual(frame[header_offset(4, len(vlans)) :], plain[header_offset(4) :])

    def test_the_class_of_a_packet(self) -> None:
        frame = build(128, 4, ENDS_4, 1, 0, dscp=46)
        self.assertEqual((frame[15], folded(frame[14:34])), (46 << 2, 0xFFFF))
        self.assertEqual(build(128, 6, ENDS_6, 1, 0, dscp=46)[14:18], bytes.fromhex("6b800000"))

    @given(st.integers(0, 2**32 - 1), st.integers(0, 2**64 - 1), st.integers(0, 65535))
    def test_the_ipv6_checksum_holds_for_every_mark(self, lap: int, stamp_ns: int, slot: int) -> None:
        frame = bytearray(build(86, 6, ENDS_6, 7, slot))
        text = mark(6, lap, stamp_ns)
        frame[mark_offset(6) : mark_offset(6) + len(text)] = text
        udp = bytes(frame[54:])
        pseudo = bytes(frame[22:54]) + struct.pack(">IHBB", len(udp), 0, 0, 17)
        self.assertEqual(folded(pseudo + udp), 0xFFFF)


class Groups(unittest.TestCase):
    def test_igmp_joins_the_group_and_leaves_it_at_the_routers(self) -> None:
        for make, kind, to in ((join, 0x16, "239.192.1.2"), (leave, 0x17, "224.0.0.2")):
            frame = make("239.192.1.2", MAC, "198.18.0.2")
            self.assertEqual((frame[:6], frame[6:12], frame[22]), (group_mac(to), MAC, 1))
            self.assertEqual((folded(frame[14:38]), folded(frame[38:46])), (0xFFFF, 0xFFFF))
            self.assertEqual(frame[34:38], bytes.fromhex("94040000"), "router alert, RFC 2113")
            self.assertEqual((frame[38], str(ipaddress.IPv4Address(frame[42:46]))), (kind, "239.192.1.2"))
            self.assertEqual((str(ipaddress.IPv4Address(frame[30:34])), len(frame)), (to, 60))

    def test_mld_does_the_same(self) -> None:
        for make, kind, to in ((join, 131, "ff18::1:2"), (leave, 132, "ff02::2")):
            frame = make("ff18::1:2", MAC, "2001:2:0:1::2")
            self.assertEqual((frame[:6], frame[20], frame[21]), (group_mac(to), 0, 1), "hop by hop, one hop")
            source, target, text = frame[22:38], frame[38:54], frame[62:]
            self.assertEqual(ipaddress.IPv6Address(source), link_local(MAC))
            self.assertTrue(ipaddress.IPv6Address(source).is_link_local)
            self.assertEqual(str(ipaddress.IPv6Address(target)), to)
            self.assertEqual(folded(source + target + struct.pack(">IHBB", len(text), 0, 0, 58) + text), 0xFFFF)
            self.assertEqual((text[0], str(ipaddress.IPv6Address(text[8:24]))), (kind, "ff18::1:2"))
            self.assertEqual((struct.unpack(">H", frame[18:20])[0], frame[54]), (len(frame) - 54, 58))

    def test_hardware_addresses_of_groups(self) -> None:
        self.assertEqual(group_mac("239.192.1.2").hex(), "01005e400102")
        self.assertEqual(group_mac("239.64.1.2").hex(), "01005e400102", "the highest bits are not in it: RFC 1112")
        self.assertEqual(group_mac("ff18::2544:0:7").hex(), "333300000007")


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
