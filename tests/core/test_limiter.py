import unittest
from dataclasses import replace

from harvok.core.ends import CpuUse
from harvok.core.figures import Figure, find
from harvok.core.limiter import Limiter
from harvok.core.link import Link, PortSpeed
from harvok.core.tcp.reading import Reading, read_direction
from harvok.core.trials.tcp import DirectionResult, SocketOptions, TcpInfo
from harvok.testing.transfers import IDLE, transfer

GIGABIT = Link(rated_bps=1e9, near=PortSpeed("near0", 1e9), far=PortSpeed("far0", 1e9))
CEILING_BPS = 941_482_444.7


def read(result: DirectionResult, link: Link = GIGABIT, **options: float | int) -> tuple[Reading, list[Figure]]:
    return read_direction(result, link, SocketOptions(**options))  # type: ignore[arg-type]


def limiter(result: DirectionResult, link: Link = GIGABIT, **options: float | int) -> Limiter:
    return read(result, link, **options)[0].limiter


def busy(worker: float, core: float) -> CpuUse:
    return CpuUse(cores=[0.3, core], workers=[worker])


class Limiters(unittest.TestCase):
    def test_a_full_link_is_the_link_whatever_else_was_busy(self) -> None:
        found = limiter(transfer(940e6, near_cpu=busy(0.99, 1.0)))
        self.assertEqual((found.kind, found.blame), ("link", "equipment"))
        self.assertIn("99.8 % of the ceiling", found.evidence)

    def test_negotiated_below_rated(self) -> None:
        slow = Link(rated_bps=1e9, near=PortSpeed("near0", 100e6), far=PortSpeed("far0", 1e9))
        found = limiter(transfer(94e6), slow)
        self.assertEqual(found.kind, "negotiated-speed")
        self.assertIn("near0 negotiated 100 Mb/s where 1 Gb/s is rated", found.evidence)
        self.assertNotIn("far0", found.evidence)

    def test_the_receive_window_with_what_the_path_needs(self) -> None:
        """35 ms × 1 Gb/s needs 4.375 MB."""

        def state(_: int, info: TcpInfo) -> TcpInfo:
            shut = int(info.busy_us * 0.93) if info.busy_us else 0
            return replace(info, rtt_us=35_000, min_rtt_us=35_000, peer_window_bytes=200_000, window_limited_us=shut)

        found = limiter(transfer(200_000 * 8 / 0.035, state=state))
        self.assertEqual((found.kind, found.blame), ("receive-window", "settings"))
        self.assertIn("93.0 % of the time", found.evidence)
        self.assertIn("needs 4.375 MB", found.evidence)
        self.assertIn("200.0 kB", found.evidence)
        self.assertIn("--socket-buffer 16Mi", found.advice)

    def test_the_send_buffer(self) -> None:
        def state(second: int, info: TcpInfo) -> TcpInfo:
            return replace(info, rtt_us=10_000, min_rtt_us=10_000, buffer_limited_us=second * 800_000)

        found = limiter(transfer(80e6, state=state, buffer_bytes=100_000))
        self.assertEqual(found.kind, "send-buffer")
        self.assertIn("the socket had 100.0 kB", found.evidence)

    def test_a_window_shut_by_a_slow_reader_is_its_cpu(self) -> None:
        def state(second: int, info: TcpInfo) -> TcpInfo:
            return replace(info, window_limited_us=second * 700_000, peer_window_bytes=6_000_000)

        found = limiter(transfer(400e6, state=state, far_cpu=busy(0.97, 0.98)))
        self.assertEqual((found.kind, found.blame), ("cpu-far", "tester"))
        self.assertIn("97.0 % of a core", found.evidence)

    def test_a_core_that_only_the_kernel_keeps_busy(self) -> None:
        found = limiter(transfer(400e6, near_cpu=busy(0.4, 0.99)))
        self.assertEqual(found.kind, "cpu-near")
        self.assertIn("a core at the near end was busy 99.0 %", found.evidence)

    def test_stolen_time_is_named(self) -> None:
        found = limiter(transfer(400e6, near_cpu=CpuUse([0.9], [0.7], stolen=0.25)))
        self.assertEqual(found.kind, "cpu-near")
        self.assertIn("a hypervisor took 25.0 %", found.evidence)

    def test_loss_without_a_queue(self) -> None:
        def state(_: int, info: TcpInfo) -> TcpInfo:
            assert info.sent_bytes is not None
            return replace(info, retransmitted_bytes=info.sent_bytes // 100, rtt_us=210, min_rtt_us=200)

        found = limiter(transfer(60e6, state=state))
        self.assertEqual((found.kind, found.blame), ("loss", "equipment"))
        self.assertIn("1.0 % of the bytes had to be sent again", found.evidence)
        self.assertIn("cubic", found.evidence)

    def test_a_core_that_others_keep_busy_hides_neither_loss_nor_window(self) -> None:
        """0.21 ms, 1448 B and 4 % lost allow a Reno-like flow 336 Mb/s; 256 kB at 10 ms allow 204.8 Mb/s."""

        def lossy(_: int, info: TcpInfo) -> TcpInfo:
            return replace(info, rtt_us=210, retransmitted_bytes=(info.sent_bytes or 0) // 25)

        def shut(_: int, info: TcpInfo) -> TcpInfo:
            return replace(info, rtt_us=10_000, min_rtt_us=10_000, peer_window_bytes=256_000)

        others = busy(0.1, 1.0)
        for goodput_bps, state, kind in (
            (350e6, lossy, "loss"),
            (100e6, lossy, "cpu-near"),
            (800e6, lossy, "cpu-near"),
            (203e6, shut, "receive-window"),
            (120e6, shut, "cpu-near"),
        ):
            found = limiter(transfer(goodput_bps, state=state, near_cpu=others))
            self.assertEqual(found.kind, kind, f"{goodput_bps} {found.evidence}")

    def test_loss_at_a_full_queue_is_the_link(self) -> None:
        def state(_: int, info: TcpInfo) -> TcpInfo:
            assert info.sent_bytes is not None
            return replace(info, retransmitted_bytes=info.sent_bytes // 100, rtt_us=20_000, min_rtt_us=200)

        found = limiter(transfer(500e6, state=state))
        self.assertEqual(found.kind, "link")
        self.assertIn("raised the RTT from 200.0 µs to 20.00 ms", found.evidence)

    def test_a_window_still_opening(self) -> None:
        result = transfer(lambda t: 60e6 * t, state=lambda second, info: replace(info, cwnd_segments=20 * second))
        found = limiter(result)
        self.assertEqual(found.kind, "window-opening")
        self.assertIn("--duration", found.advice)

    def test_pacing_that_was_asked_for(self) -> None:
        found = limiter(transfer(485e6, flows=5), pacing_bps=100e6)
        self.assertEqual((found.kind, found.blame), ("pacing", "settings"))

    def test_over_loopback_there_is_no_link_to_blame(self) -> None:
        here = Link(near=PortSpeed("lo", None, loopback=True), far=PortSpeed("lo", None, loopback=True))
        found = limiter(transfer(20e9, near_cpu=busy(0.7, 0.8)), here)
        self.assertEqual((found.kind, found.blame), ("cpu-near", "tester"))
        self.assertIn("never left this host", found.evidence)

    def test_no_rated_speed_is_said_and_never_invented(self) -> None:
        reading, figures = read(transfer(5e9), Link())
        self.assertIsNone(reading.ceiling)
        self.assertIsNone(find(figures, "ceiling-share"))
        self.assertIn("--rated", reading.limiter.advice)


class Figures(unittest.TestCase):
    def test_values_of_a_healthy_gigabit(self) -> None:
        reading, figures = read(transfer(930e6, flows=4))
        self.assertAlmostEqual(find(figures, "goodput-settled", direction="send") or 0, 930e6, delta=1e3)
        self.assertAlmostEqual(find(figures, "ceiling") or 0, CEILING_BPS, delta=1)
        self.assertAlmostEqual(find(figures, "ceiling-share") or 0, 930e6 / CEILING_BPS, places=5)
        self.assertAlmostEqual(find(figures, "transfer-time-ratio") or 0, CEILING_BPS / 930e6, places=5)
        self.assertEqual(find(figures, "fairness"), 1.0)
        self.assertEqual(find(figures, "retransmitted"), 0.0)
        self.assertAlmostEqual(find(figures, "rtt-mean") or 0, 0.0002)
        self.assertEqual(find(figures, "buffer-delay"), 0.0)
        self.assertEqual((reading.ceiling.source if reading.ceiling else ""), "rated 1 Gb/s")

    def test_the_ceiling_follows_what_the_connection_really_uses(self) -> None:
        bare = transfer(930e6, state=lambda _, info: replace(info, options=0, mss_bytes=1460))
        reading, _ = read(bare)
        assert reading.ceiling
        self.assertAlmostEqual(reading.ceiling.goodput_bps / 1e6, 949.285, places=3)

    def test_a_set_settling_time_is_taken_as_it_is(self) -> None:
        result = transfer(lambda t: 100e6 if t < 4 else 900e6)
        reading, figures = read_direction(result, GIGABIT, SocketOptions(), settling_s=5.0)
        self.assertFalse(reading.settling.automatic)
        self.assertAlmostEqual(find(figures, "goodput-settled") or 0, 900e6, delta=1e3)

    def test_a_system_that_tells_nothing_leaves_figures_out(self) -> None:
        result = transfer(930e6)
        silent = replace(
            result,
            sender_intervals=[replace(i, tcp=[], cpu=None) for i in result.sender_intervals],
            receiver_intervals=[replace(i, tcp=[], cpu=None) for i in result.receiver_intervals],
        )
        reading, figures = read(silent)
        self.assertIsNone(find(figures, "retransmitted"))
        self.assertIsNone(find(figures, "busiest-core-near"))
        assert reading.ceiling
        self.assertEqual(reading.ceiling.assumed, "MTU 1500 and TCP timestamps")

    def test_counters_are_counted_from_settling_on(self) -> None:
        """All loss falls into the start that is left out."""

        def state(_: int, info: TcpInfo) -> TcpInfo:
            return replace(info, retransmitted_bytes=10_000_000)

        result = transfer(lambda t: 100e6 if t < 2 else 900e6, state=state)
        _, figures = read(result)
        self.assertEqual(find(figures, "retransmitted"), 0.0)
        self.assertEqual(IDLE.retransmitted_bytes, 0)
