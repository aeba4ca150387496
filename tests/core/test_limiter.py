"""The limiter: each cause by itself, and runs over paths whose cause was known."""

import gzip
import json
import unittest
from collections import Counter
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

from pydantic import TypeAdapter

from harvok.core.conditions import InterfaceCounters
from harvok.core.ends import CpuUse
from harvok.core.figures import Figure, find
from harvok.core.limiter import Limiter
from harvok.core.link import Link, PortSpeed
from harvok.core.tcp.case import Case, KnownGood
from harvok.core.tcp.foreign import with_foreign_share
from harvok.core.tcp.limiter import FULL_SHARE, find_limiter
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


def uneven(mean_bps: float) -> Callable[[float], float]:
    """A goodput that differs from second to second by a tenth, as it does under random loss."""
    return lambda at_s: mean_bps * (1.1 if int(at_s) % 2 else 0.9)


class Limiters(unittest.TestCase):
    def test_what_these_hosts_did_before_proves_what_they_can_do(self) -> None:
        good = KnownGood("run-7", 939e6, 0.997)
        slow = transfer(uneven(400e6))
        for result, known, kind in (
            (slow, None, "unknown"),
            (slow, good, "link"),
            (transfer(uneven(400e6), near_cpu=busy(0.2, 0.95)), good, "unknown"),  # a host that may be short of time
            (transfer(uneven(400e6), near_cpu=busy(0.4, 0.99)), good, "cpu-near"),
        ):
            reading, _ = read_direction(result, GIGABIT, SocketOptions(), known_good=known)
            self.assertEqual(reading.limiter.kind, kind)
        reading, _ = read_direction(slow, GIGABIT, SocketOptions(), known_good=good)
        self.assertIn("in run run-7 these hosts carried 939.0 Mb/s, 99.7 % of this ceiling", reading.limiter.evidence)

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
        self.assertIn("used 40.0 % of a core that was busy 99.0 % of the time", found.evidence)

    def test_stolen_time_is_named(self) -> None:
        found = limiter(transfer(400e6, near_cpu=CpuUse([0.9], [0.7], stolen=0.25)))
        self.assertEqual(found.kind, "cpu-near")
        self.assertIn("a hypervisor took 25.0 %", found.evidence)

    def test_loss_without_a_queue(self) -> None:
        def state(_: int, info: TcpInfo) -> TcpInfo:
            assert info.sent_bytes is not None
            return replace(info, retransmitted_bytes=info.sent_bytes // 100, rtt_us=210, min_rtt_us=200)

        found = limiter(transfer(uneven(60e6), state=state))
        self.assertEqual((found.kind, found.blame), ("loss", "equipment"))
        self.assertIn("1.0 % of the bytes had to be sent again", found.evidence)
        self.assertIn("cubic", found.evidence)

    def test_loss_at_a_steady_rate_without_a_queue_is_a_policer(self) -> None:
        def state(_: int, info: TcpInfo) -> TcpInfo:
            return replace(info, retransmitted_bytes=(info.sent_bytes or 0) // 10, rtt_us=410)

        found = limiter(transfer(50e6, state=state))
        self.assertEqual((found.kind, found.blame), ("policer", "equipment"))
        self.assertIn("50.00 Mb/s to within", found.evidence)

    def test_more_than_the_link_can_carry_is_no_limit_of_it(self) -> None:
        found = limiter(transfer(9.4e9))
        self.assertEqual((found.kind, found.blame), ("above-ceiling", "nothing"))
        self.assertIn("it went by near0 and far0", found.evidence)
        self.assertEqual(limiter(transfer(CEILING_BPS * 1.016)).kind, "link")

    def test_a_worker_that_waited_for_a_core(self) -> None:
        starved = CpuUse([0.92], [0.4], waiting=[0.3])
        found = limiter(transfer(400e6, near_cpu=starved))
        self.assertEqual((found.kind, found.blame), ("cpu-near", "tester"))
        self.assertIn("waited for a core 30.0 % of the time", found.evidence)
        interrupts = CpuUse([0.97], [0.2], waiting=[0.0], interrupts=[0.6])
        self.assertEqual(limiter(transfer(400e6, far_cpu=interrupts)).kind, "cpu-far")

    def test_a_queue_that_stood_is_the_link_whoever_keeps_the_cores_busy(self) -> None:
        def state(_: int, info: TcpInfo) -> TcpInfo:
            return replace(info, rtt_us=36_000, min_rtt_us=20)

        found = limiter(transfer(47e6, state=state, near_cpu=CpuUse([1.0, 1.0], [0.08], waiting=[0.2])))
        self.assertEqual((found.kind, found.blame), ("link", "equipment"))

    def test_the_same_each_second_at_idle_hosts_is_the_link(self) -> None:
        found = limiter(transfer(47e6))
        self.assertEqual((found.kind, found.blame), ("link", "equipment"))
        self.assertIn("every second brought the same", found.evidence)
        self.assertEqual(limiter(transfer(47e6, near_cpu=busy(0.34, 0.5))).kind, "unknown")

    def test_much_loss_beside_a_queue_of_the_other_direction(self) -> None:
        def state(_: int, info: TcpInfo) -> TcpInfo:
            return replace(info, retransmitted_bytes=(info.sent_bytes or 0) // 33, rtt_us=20_000)

        self.assertEqual(limiter(transfer(uneven(20e6), state=state)).kind, "loss")
        self.assertEqual(limiter(transfer(uneven(90e6), state=state, flows=32)).kind, "link")

    def test_a_sender_that_goes_by_delivery_overfills_a_queue(self) -> None:
        def state(_: int, info: TcpInfo) -> TcpInfo:
            return replace(info, retransmitted_bytes=(info.sent_bytes or 0) // 33, rtt_us=20_000)

        for control, kind in (("cubic", "loss"), ("bbr", "link")):
            result = transfer(uneven(44e6), state=state, flows=4)
            assert result.sender
            made = [replace(one, congestion_control=control) for one in result.sender.connections]
            result = replace(result, sender=replace(result.sender, connections=made))
            self.assertEqual(limiter(result).kind, kind, control)

    def test_half_a_millisecond_of_scheduling_is_no_queue(self) -> None:
        def state(_: int, info: TcpInfo) -> TcpInfo:
            return replace(info, rtt_us=540, min_rtt_us=10, retransmitted_bytes=(info.sent_bytes or 0) // 20)

        self.assertEqual(limiter(transfer(uneven(84e6), state=state)).kind, "loss")

    def test_a_send_buffer_that_the_system_keeps_small(self) -> None:
        """Nothing is counted as the limit: 65 kB in flight, of windows of 840 kB."""

        def state(_: int, info: TcpInfo) -> TcpInfo:
            return replace(info, rtt_us=13_000, min_rtt_us=10_000, cwnd_segments=580, peer_window_bytes=970_000)

        found = limiter(transfer(40e6, state=state, buffer_bytes=33_000, idle_us=10_000))
        self.assertEqual((found.kind, found.blame), ("send-buffer", "settings"))
        self.assertIn("65.00 kB were in flight, where the windows allowed 839.8 kB", found.evidence)
        self.assertEqual(limiter(transfer(uneven(40e6), state=state, idle_us=10_000)).kind, "unknown")

    def test_a_test_too_short_for_its_path(self) -> None:
        def state(_: int, info: TcpInfo) -> TcpInfo:
            return replace(info, rtt_us=201_000, min_rtt_us=200_000)

        found = limiter(transfer(90e6, 4, state=state, idle_us=200_000))
        self.assertEqual((found.kind, found.blame), ("too-short", "settings"))
        self.assertIn("20 round trips of 200.0 ms", found.evidence)
        self.assertIn("--duration 20s", found.advice)

    def test_a_reader_that_did_not_read(self) -> None:
        def state(second: int, info: TcpInfo) -> TcpInfo:
            return replace(info, window_limited_us=second * 700_000, peer_window_bytes=6_000_000)

        found = limiter(transfer(400e6, state=state))
        self.assertEqual((found.kind, found.blame), ("receiving-host", "tester"))

    def test_one_flow_behind_the_others(self) -> None:
        result = transfer(400e6, flows=4)
        assert result.receiver
        result = replace(result, receiver=replace(result.receiver, flow_bytes=[100, 100, 10, 100]))
        found = limiter(result)
        self.assertEqual((found.kind, found.blame), ("slow-flow", "nothing"))
        self.assertIn("flow 2 of 4 got 12.9 % of an even share", found.evidence)

    def test_other_traffic_on_the_interfaces(self) -> None:
        """40 Mb/s of this test's own for ten seconds, and half as much of somebody else's, seen by one end."""
        result = transfer(40e6)
        sent_bytes = 50_000_000
        before = InterfaceCounters(name="eth0", at_s=0, received_bytes=10**9, sent_bytes=10**9, faults=0)
        busy_after = before.model_copy(update={"at_s": 10.5, "sent_bytes": 10**9 + int(1.6 * sent_bytes)})
        (counted,) = with_foreign_share([result], {"near": (before, busy_after), "far": (before, before)})
        self.assertTrue(0.3 < (counted.foreign_share or 0) < 0.5)
        found = limiter(counted)
        self.assertEqual((found.kind, found.blame), ("other-traffic", "nothing"))
        own_after = before.model_copy(update={"at_s": 12.0, "sent_bytes": 10**9 + int(1.2 * sent_bytes)})
        (alone,) = with_foreign_share([result], {"near": (before, own_after)})
        self.assertLess(alone.foreign_share or 0, 0.02)
        self.assertIsNone(with_foreign_share([result], {})[0].foreign_share)

    def test_without_proof_nobody_is_blamed(self) -> None:
        found = limiter(transfer(uneven(400e6)))
        self.assertEqual((found.kind, found.blame), ("unknown", "nothing"))
        self.assertIn("known-good path", found.advice)

    def test_a_core_that_others_keep_busy_hides_neither_loss_nor_window(self) -> None:
        """0.21 ms, 1448 B and 4 % lost allow a Reno-like flow 336 Mb/s; 256 kB at 10 ms allow 204.8 Mb/s."""

        def lossy(_: int, info: TcpInfo) -> TcpInfo:
            return replace(info, rtt_us=210, retransmitted_bytes=(info.sent_bytes or 0) // 25)

        def shut(_: int, info: TcpInfo) -> TcpInfo:
            return replace(info, rtt_us=10_000, min_rtt_us=10_000, peer_window_bytes=256_000)

        others = busy(0.1, 1.0)
        for goodput_bps, state, kind in (
            (350e6, lossy, "loss"),
            (100e6, lossy, "loss"),
            (203e6, shut, "receive-window"),
            (120e6, shut, "unknown"),
        ):
            idle_us = 200 if state is lossy else 10_000
            found = limiter(transfer(uneven(goodput_bps), state=state, near_cpu=others, idle_us=idle_us))
            self.assertEqual(found.kind, kind, f"{goodput_bps} {found.evidence}")

    def test_loss_at_a_full_queue_is_the_link(self) -> None:
        def state(_: int, info: TcpInfo) -> TcpInfo:
            assert info.sent_bytes is not None
            return replace(info, retransmitted_bytes=info.sent_bytes // 300, rtt_us=20_000, min_rtt_us=200)

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

        def stalled(_: int, info: TcpInfo) -> TcpInfo:
            return replace(info, retransmitted_bytes=(info.sent_bytes or 0) // 50, rtt_us=40)

        self.assertEqual(limiter(transfer(uneven(40e6), state=stalled), here).blame, "tester")

    def test_no_rated_speed_is_said_and_never_invented(self) -> None:
        reading, figures = read(transfer(5e9), Link())
        self.assertIsNone(reading.ceiling)
        self.assertIsNone(find(figures, "ceiling-share"))
        self.assertIn("--rated", reading.limiter.advice)


_LABELLED = Path(__file__).with_name("labelled-cases.jsonl.gz")
"""What was known of 201 TCP transfers over paths whose cause was built on purpose, with and without busy neighbours."""
_RIGHT: dict[str, set[str]] = {
    "link": {"link"},
    "cpu": {"cpu-near", "cpu-far"},
    "link-or-cpu": {"link", "cpu-near", "cpu-far"},
    "loss": {"loss", "policer"},
    "link-or-loss": {"link", "loss"},
    "loss-shown": {"link", "loss"},
    "not-loss": {"link"},
    "fairness-told": {"link", "slow-flow"},
    "pacing": {"pacing"},
    "settings": {"receive-window", "send-buffer"},
    "receive-window": {"receive-window"},
    "send-buffer": {"send-buffer", "receive-window"},
    "window-opening": {"too-short", "window-opening"},
    "told": {"loss", "unknown"},
}


class KnownCauses(unittest.TestCase):
    def test_each_is_found_and_nobody_is_blamed_for_another(self) -> None:
        cases, wrong = TypeAdapter(Case), Counter[tuple[str, str]]()
        lines = gzip.decompress(_LABELLED.read_bytes()).decode().splitlines()
        for line in lines:
            labelled = json.loads(line)
            case = cases.validate_python(labelled["case"])
            answer = find_limiter(case).kind
            full = case.ceiling_share is not None and case.ceiling_share >= FULL_SHARE
            lossless = answer == "link" and full  # loss that leaves a link full does not limit it; it is judged itself
            impossible = answer == "above-ceiling" and full
            if answer not in _RIGHT[labelled["cause"]] and not lossless and not impossible:
                wrong[labelled["cause"], answer] += 1
        self.assertGreater(len(lines), 195)
        self.assertEqual(dict(wrong), {})


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
