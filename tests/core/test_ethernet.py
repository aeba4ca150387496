import unittest

from harvok.core.ceilings import ceilings
from harvok.core.ethernet import (
    RFC2544_FRAME_SIZES,
    bandwidth_delay_product_bytes,
    frame_ceiling,
    line_bytes,
    max_frame_rate_fps,
    tcp_goodput_ceiling_bps,
)
from harvok.errors import UsageError

# RFC 2544 §20 and IEEE 802.3: the published table for 1 Gb/s, truncated
PUBLISHED_FPS = {64: 1_488_095, 128: 844_594, 256: 452_898, 512: 234_962, 1024: 119_731, 1280: 96_153, 1518: 81_274}


class FrameRates(unittest.TestCase):
    def test_the_published_table_at_every_speed(self) -> None:
        self.assertEqual(tuple(PUBLISHED_FPS), RFC2544_FRAME_SIZES)
        for size, wanted in PUBLISHED_FPS.items():
            self.assertEqual(int(max_frame_rate_fps(1e9, size)), wanted)
            self.assertEqual(int(max_frame_rate_fps(10e9, size) / 10), wanted)

    def test_a_runt_is_refused(self) -> None:
        with self.assertRaisesRegex(UsageError, "at least 64 bytes, not 60"):
            max_frame_rate_fps(1e9, 60)

    def test_every_layer_counts_less_than_the_one_below(self) -> None:
        for size in RFC2544_FRAME_SIZES:
            row = frame_ceiling(1e9, size)
            self.assertEqual(row.l1_bps, 1e9)
            self.assertTrue(row.l1_bps > row.l2_bps > row.l3_bps > row.udp_goodput_bps)
            self.assertAlmostEqual(row.l2_bps, 1e9 * size / (size + 20), places=3)

    def test_a_frame_too_small_for_its_headers_names_the_min(self) -> None:
        with self.assertRaisesRegex(UsageError, "cannot hold 2 VLAN tags") as caught:
            frame_ceiling(1e9, 64, ip_version=6, vlan_tags=2)
        self.assertIn("74 B", caught.exception.hint)
        self.assertEqual(frame_ceiling(1e9, 74, ip_version=6, vlan_tags=2).udp_goodput_bps, 0)


class TcpCeilings(unittest.TestCase):
    def test_the_published_goodputs_of_a_gigabit(self) -> None:
        published = {(4, 0): 949.285, (4, 12): 941.482, (6, 0): 936.281, (6, 12): 928.479}
        for (version, options), wanted in published.items():
            self.assertAlmostEqual(tcp_goodput_ceiling_bps(1e9, 1500, version, options) / 1e6, wanted, places=3)  # type: ignore[arg-type]

    def test_jumbo_frames(self) -> None:
        self.assertAlmostEqual(tcp_goodput_ceiling_bps(1e9, 9000) / 1e6, 990.042, places=3)

    def test_a_vlan_tag_costs_four_bytes_a_packet(self) -> None:
        self.assertAlmostEqual(tcp_goodput_ceiling_bps(1e9, 1500, vlan_tags=1), 1e9 * 1448 / 1542, places=3)

    def test_short_packets_are_padded(self) -> None:
        self.assertEqual(line_bytes(40), 84)
        self.assertEqual(line_bytes(1500), 1538)

    def test_an_mtu_without_room_is_refused(self) -> None:
        with self.assertRaisesRegex(UsageError, "leaves no room"):
            tcp_goodput_ceiling_bps(1e9, 52)

    def test_bandwidth_delay_product(self) -> None:
        self.assertEqual(bandwidth_delay_product_bytes(1e9, 0.035), 4_375_000)


class AllCeilings(unittest.TestCase):
    def test_tags_widen_the_seven_frame_sizes(self) -> None:
        found = ceilings(1e9, vlan_tags=1)
        self.assertEqual([row.frame_size_bytes for row in found.frames], [size + 4 for size in RFC2544_FRAME_SIZES])

    def test_all_four_kinds_of_connection(self) -> None:
        kinds = {(one.ip_version, one.timestamps): round(one.goodput_bps / 1e6, 3) for one in ceilings(1e9).tcp}
        self.assertEqual(kinds, {(4, True): 941.482, (4, False): 949.285, (6, True): 928.479, (6, False): 936.281})
