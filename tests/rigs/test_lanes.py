"""Streams in several lanes: how many, the orders that they come to, and one result again."""

import unittest
from dataclasses import replace

from harvok.core.ends import RECEIVE, SEND
from harvok.core.models.rig import VirtualRig
from harvok.core.observer import Observer
from harvok.core.samples import Sample
from harvok.core.stream_frames import StreamFrames
from harvok.core.trials.frames import (
    RECEIVED_FRAMES,
    DelaySummary,
    FrameDirectionResult,
    FrameTrial,
    LoadStep,
    TesterHealth,
)
from harvok.core.wire.frame import FrameIp, build, header_offset
from harvok.core.wire.frame_orders import ReceiveOrder, ReceiveReport, SendOrder, SendReport
from harvok.rigs.lanes import LaneCounts, by_lane, in_lanes, lanes_for, merged, merged_delays, with_shared_receivers
from harvok.rigs.virtual import VirtualPorts
from harvok.traffic.frames import Pair, Reports
from harvok.traffic.stream_filter import intact_filter, lane_chooser
from tests.traffic.test_rings import ENDS, passed
from tests.whole.test_udp import NEEDS_ROOT

FULL = FrameTrial((64,), (LoadStep(14.88e6, 1.0),))


class HowMany(unittest.TestCase):
    def test_as_many_as_the_load_needs_and_cores_allow(self) -> None:
        self.assertEqual(lanes_for(FULL, None, 64), 8)
        self.assertEqual(lanes_for(FULL, None, 8), 4)
        self.assertEqual(lanes_for(FULL, None, 2), 1)
        self.assertEqual(lanes_for(replace(FULL, steps=(LoadStep(2.5e6, 1.0),)), None, 64), 3)
        self.assertEqual(lanes_for(replace(FULL, streams=(SEND, RECEIVE)), None, 8), 2)

    def test_what_the_rig_file_says_counts(self) -> None:
        self.assertEqual(lanes_for(FULL, 2, 2), 2)
        self.assertEqual(lanes_for(replace(FULL, steps=(LoadStep(10.0, 1.0),)), 3, 2), 3)

    def test_one_where_frames_follow_a_plan_over_all_of_them(self) -> None:
        for keys in (
            {"burst_frames": 16},
            {"steps": (LoadStep(1e6, 1.0),) * 2},
            {"tag_at_s": 0.5, "tags": 5},
            {"frames_of": {"send": StreamFrames(cast="multicast")}},
        ):
            self.assertEqual(lanes_for(replace(FULL, **keys), 4, 64), 1)


def pair(stream: int) -> Pair:
    send = SendOrder("port1", 4, stream, 1024, [64], [], [(1e6, 10, 1)], 0, 0, 0, sample_by="hardware")
    receive = ReceiveOrder("port2", "port1", 4, stream, [64], 1, 1024, 1, 64, [], 1, 1, 0, 1, sample_by="hardware")
    return Pair(send, receive)


def report(sent: int, received: int, stream: int) -> Reports:
    received_report = ReceiveReport(received, [], 0, 0, 0, None, None, [], 0, 0, 0, 0, 0, 0, 0, 0, 0, 1, [], stream)
    return Reports(SendReport(sent, [(sent, 1)], 1, 0, 0, 0), received_report, 0)


class Orders(unittest.TestCase):
    def test_loads_are_shared_equally(self) -> None:
        lanes = in_lanes(replace(FULL, streams=(SEND, RECEIVE), frames_of={"send": StreamFrames(0.5)}), 2)
        self.assertEqual(list(lanes.stream_of), [0, 0, 1, 1])
        loads = [lanes.trial.load_of(stream.name, FULL.steps[0]) for stream in lanes.trial.streams]
        self.assertEqual(loads, [3.72e6, 3.72e6, 7.44e6, 7.44e6])
        self.assertIs(in_lanes(FULL, 1).trial, FULL)

    def test_lanes_of_a_stream_are_added_up_while_frames_flow(self) -> None:
        counts = LaneCounts(in_lanes(replace(FULL, streams=(SEND, RECEIVE)), 2))
        self.assertEqual(counts.take(0, 10, 8), (0, 10, 8))
        self.assertEqual(counts.take(1, 5, 5), (0, 15, 13))
        self.assertEqual(counts.take(3, 7, 7), (1, 7, 7))
        self.assertEqual(counts.take(0, 20, 18), (0, 25, 23))

    def test_lanes_have_numbers_that_follow_one_upon_another_and_one_group(self) -> None:
        drawn = iter([0x1234_5679, 77, 0x9999_9999, 78])
        first, second, other, _ = with_shared_receivers([pair(n) for n in range(4)], 2, lambda: next(drawn))
        self.assertEqual((first.send.stream, second.send.stream), (0x1234_5678, 0x1234_5679))
        self.assertEqual((first.receive.group, second.receive.group, other.receive.group), (77, 77, 78))
        self.assertEqual((first.receive.lanes, first.send.sample_by, first.receive.sample_by), (2, "", ""))
        self.assertEqual(with_shared_receivers([pair(5)], 1, lambda: 0), [pair(5)])

    def test_each_report_finds_the_lane_that_it_is_of(self) -> None:
        pairs = [pair(8), pair(9), pair(10)]
        reports = [report(5, 4, 9), report(5, 0, 0), report(5, 3, 8)]
        sorted_out = by_lane(pairs, reports, 3)
        self.assertEqual([one.received.received for one in sorted_out], [3, 4, 0])
        self.assertEqual(by_lane(pairs, reports, 1), reports)

    def test_the_kernel_tells_lanes_apart_and_the_filter_takes_them_all(self) -> None:
        forms: tuple[tuple[FrameIp, tuple[int, ...]], ...] = ((4, ()), (6, ()), (None, (20,)))
        for ip, inner in forms:
            frames = [build(128, ip, ENDS[ip], 0x1238 + lane, 3, inner) for lane in (0, 1, 7)]
            tags = len(inner)
            chosen = [int.from_bytes(f[(at := header_offset(ip, tags)) : at + 4], "big") for f in frames]
            self.assertEqual([number % 8 for number in chosen], [0, 1, 7])
            self.assertEqual(lane_chooser(ip, tags)[0][3] + 14, header_offset(ip, tags))
            program = intact_filter(ip, 0x1239, [128], tags=tags, lanes=2)
            self.assertTrue(all(passed(program, frame) for frame in frames))
            self.assertFalse(passed(program, build(128, ip, ENDS[ip], 0x1240, 3, inner)))
            self.assertFalse(passed(intact_filter(ip, 0x1239, [128], tags=tags), frames[0]))


def result(sent: int, received: int, rate_fps: float, **keys: object) -> FrameDirectionResult:
    return FrameDirectionResult(sent, sent / rate_fps, received, "send, lane 1", **keys)  # type: ignore[arg-type]


def delays(counted: int, median_s: float) -> DelaySummary:
    bins = [(median_s, counted // 2), (4 * median_s, counted - counted // 2)]
    return DelaySummary(counted, median_s / 2, median_s, median_s, 4 * median_s, 5 * median_s, 1e-6, 0.01, bins)


class Results(unittest.TestCase):
    def test_frames_and_rates_add_up_and_the_worst_tester_counts(self) -> None:
        lanes = in_lanes(FULL, 2)
        worst = TesterHealth(ring_drops=2, longest_stall_s=0.01, late_p99_s=1e-6)
        ones = [
            result(1000, 990, 1e6, foreign_frames=3, longest_gap_s=0.2, tester=worst, last_loss_s=0.1),
            result(1000, 1000, 1.1e6, foreign_frames=3, longest_gap_s=0.1, tester=TesterHealth(ring_drops=1)),
        ]
        (whole,) = merged(FULL, lanes, ones)
        self.assertEqual((whole.direction, whole.sent_frames, whole.received_frames), ("send", 2000, 1990))
        self.assertAlmostEqual(whole.offered_load_fps, 2.1e6)
        self.assertEqual((whole.foreign_frames, whole.longest_gap_s, whole.last_loss_s), (3, 0.1, 0.1))
        self.assertEqual(whole.tester, TesterHealth(ring_drops=3, longest_stall_s=0.01, late_p99_s=1e-6))
        self.assertEqual(merged(FULL, in_lanes(FULL, 1), ones[:1]), ones[:1])

    def test_delays_of_lanes_as_one(self) -> None:
        one, other = delays(100, 10e-6), delays(300, 20e-6)
        whole = merged_delays([one, other])
        assert whole
        self.assertEqual((whole.counted, whole.min_s, whole.max_s), (400, 5e-6, 100e-6))
        self.assertAlmostEqual(whole.mean_s, 17.5e-6)
        self.assertAlmostEqual(whole.median_s / 20e-6, 1, delta=0.1)
        self.assertAlmostEqual(whole.p999_s / 80e-6, 1, delta=0.1)
        self.assertIs(merged_delays([one]), one)
        self.assertIsNone(merged_delays([]))


class Heard(Observer):
    def __init__(self) -> None:
        self.received: list[float] = []
        self.directions: set[str] = set()

    def samples(self, samples: "list[Sample]") -> None:  # type: ignore[override]
        self.received += [one.value for one in samples if one.quantity == RECEIVED_FRAMES]
        self.directions |= {one.labels["direction"] for one in samples}


@NEEDS_ROOT
class OnAVirtualRig(unittest.TestCase):
    def test_every_frame_of_every_lane_is_accounted_for(self) -> None:
        rig = {"version": 1, "kind": "virtual", "name": "wire", "rated": "1G", "device": "wire", "workers": 3}
        with VirtualPorts(VirtualRig.model_validate(rig)) as ports:
            for ip in (4, 6):
                heard = Heard()
                trial = FrameTrial(
                    (128,), (LoadStep(3000.0, 0.6),), ip_version=ip, pause_s=0.0, streams=(SEND, RECEIVE)
                )
                for one in ports.run(trial, heard).directions:
                    self.assertEqual(one.received_frames, one.sent_frames)
                    self.assertGreater(one.sent_frames, 900)
                    self.assertEqual((one.duplicates, one.reordered, one.foreign_frames), (0, 0, 0))
                    assert one.delay
                    self.assertEqual((one.delay.counted, one.stamped_by), (one.received_frames, "frame"))
                self.assertEqual(heard.directions, {"send", "receive"})
