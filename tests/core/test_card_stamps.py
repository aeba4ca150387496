"""What the kernel says of stamps, as it was recorded: no card that stamps is at hand here."""

import struct
import unittest

from harvok.core.models.rig import Side
from harvok.core.time_axis import ClockOffset
from harvok.core.wire.card_stamps import (
    PortStamping,
    decode_key,
    decode_stamps,
    decode_ts_info,
    stamp_everything,
    ts_info_request,
)
from harvok.core.wire.frame_orders import ReceiveReport, SendReport, Stamps, StampsOrder
from harvok.rigs.addresses import TesterPort
from harvok.rigs.port_stamps import PortStamps, kind_of_stamps, sample_every, sampled_delays_ns, summary_of

# What drivers answer to ETHTOOL_GET_TS_INFO: command, what they can, clock, kinds sent, kinds heard.
_VETH = bytes.fromhex("410000001a000000ffffffff") + bytes(32)
_CARD = bytes.fromhex("410000005f00000000000000") + struct.pack("=I12xI12x", 0b11, 0b11)
_ONLY_PTP = bytes.fromhex("410000005f00000000000000") + struct.pack("=I12xI12x", 0b11, 1 << 12)


class Answers(unittest.TestCase):
    def test_what_drivers_say_that_they_can(self) -> None:
        self.assertEqual(decode_ts_info(_VETH), PortStamping(software=True))
        self.assertEqual(decode_ts_info(_CARD), PortStamping(True, True, 0))
        self.assertEqual(decode_ts_info(_ONLY_PTP), PortStamping(True, False, 0))
        self.assertEqual((len(ts_info_request()), ts_info_request()[0]), (44, 0x41))

    def test_a_card_is_set_to_stamp_everything_and_keeps_its_flags(self) -> None:
        self.assertEqual(stamp_everything(struct.pack("=iii", 4, 0, 0)), struct.pack("=iii", 4, 1, 1))

    def test_stamps_beside_a_message(self) -> None:
        control = struct.pack("=6q", 1_764_000_000, 5, 0, 0, 1_763_999_963, 999_999_999)
        self.assertEqual(decode_stamps(control), (1_764_000_000_000_000_005, 1_763_999_963_999_999_999))

    def test_which_frame_a_stamp_is_of(self) -> None:
        self.assertEqual(decode_key(struct.pack("=IBBBBII", 42, 4, 0, 0, 0, 0, 77)), 77)
        self.assertIsNone(decode_key(struct.pack("=IBBBBII", 111, 2, 3, 1, 0, 0, 77)), "an ICMP error")


def port(interface: str, place: str = "") -> TesterPort:
    return TesterPort(interface, b"\2\0\0\0\0\1", Side(), place=place)


class Hosts:
    """What the hosts of ports answer, by place and interface."""

    def __init__(self, **cards: Stamps) -> None:
        self.cards, self.asked = cards, list[StampsOrder]()

    def ask(self, place: str, order: StampsOrder) -> Stamps:
        self.asked.append(order)
        card = self.cards[order.interface]
        return Stamps(card.software, card.hardware, card.clock, 2e-6, 1e-7) if order.clock >= 0 else card


class WhoStamps(unittest.TestCase):
    def setUp(self) -> None:
        self.hosts = Hosts(
            a=Stamps(True, True, 0), b=Stamps(True, True, 0), c=Stamps(True, True, 1), veth=Stamps(True, False, -1)
        )

    def test_two_ports_of_one_card_have_one_clock(self) -> None:
        stamps = PortStamps(self.hosts.ask, None)
        self.assertEqual(stamps.source_of(port("a"), port("b")), "hardware")
        self.assertEqual(stamps.apart("hardware", port("a"), port("b")), ClockOffset(0.0, 0.0))
        self.assertEqual([order.clock for order in self.hosts.asked], [-1, -1], "each card was asked once")

    def test_two_cards_of_one_host_are_compared(self) -> None:
        stamps = PortStamps(self.hosts.ask, None)
        self.assertEqual(stamps.source_of(port("a"), port("c")), "hardware")
        self.assertEqual(stamps.apart("hardware", port("a"), port("c")), ClockOffset(2e-6, 1e-7))

    def test_cards_of_two_hosts_only_where_their_clocks_are_kept_together(self) -> None:
        near, far = port("a"), port("b", "hall")
        self.assertEqual(PortStamps(self.hosts.ask, None).source_of(near, far), "")
        together = PortStamps(self.hosts.ask, 2e-7)
        self.assertEqual(together.source_of(near, far), "hardware")
        self.assertEqual(together.apart("hardware", near, far), ClockOffset(0.0, 2e-7))

    def test_the_driver_only_where_the_kernel_cannot(self) -> None:
        stamps = PortStamps(self.hosts.ask, None)
        self.assertEqual(stamps.source_of(port("veth"), port("a")), "")
        stamps.missing = "this user may not load programs into the kernel"
        self.assertEqual(stamps.source_of(port("veth"), port("a")), "software")
        self.assertEqual(stamps.apart("software", port("veth"), port("a")), ClockOffset(0.0, 0.0))


def reports(
    left: list[tuple[int, int]], came: list[tuple[int, int]], missing: str = ""
) -> tuple[SendReport, ReceiveReport]:
    sent = SendReport(10, [(10, 1)], 1, 0, 0, 0, missing, left)
    received = ReceiveReport(10, [], 0, 0, 9, None, None, [], 0, 0, 0, 0, 0, 0, 0, 0, 0, 1, came)
    return sent, received


class Samples(unittest.TestCase):
    def test_frames_with_a_stamp_at_both_ends_count(self) -> None:
        sent, received = reports([(0, 100), (64, 300), (128, 500)], [(0, 150), (128, 540), (192, 999)])
        delays = list(sampled_delays_ns(sent, received))
        self.assertEqual(delays, [(0, 50), (128, 40)])
        summary = summary_of([delay for _, delay in delays])
        assert summary
        self.assertEqual((summary.counted, summary.min_s, summary.max_s), (2, 40e-9, 50e-9))
        self.assertIsNone(summary_of([]))

    def test_whose_stamps_delays_are_by(self) -> None:
        stamped, not_stamped = reports([], [])[0], reports([], [], "no rights")[0]
        self.assertEqual(kind_of_stamps("hardware", stamped, sampled=True), "card")
        self.assertEqual(kind_of_stamps("hardware", stamped, sampled=False), "frame")
        self.assertEqual(kind_of_stamps("software", not_stamped, sampled=True), "driver")
        self.assertEqual(kind_of_stamps("", not_stamped, sampled=False), "batch")

    def test_no_more_than_a_worker_reports(self) -> None:
        for frames, batch, slots in ((100, 1, 1024), (1_000_000, 64, 8192), (10**9, 256, 8192), (5000, 24, 1536)):
            every = sample_every(frames, batch, slots)
            self.assertEqual(every & every - 1, 0)
            self.assertLessEqual(every, max(slots, 2 * batch))
            self.assertTrue(frames / every <= 4000 or 2 * every > slots)
