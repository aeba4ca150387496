import math
import unittest
from collections.abc import Generator
from dataclasses import replace
from typing import TypeVar

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from harvok.core.ends import RECEIVE, SEND
from harvok.core.figures import Figure, find
from harvok.core.measures.bins import RESOLUTION, edges_of
from harvok.core.measures.delay import DelayHistogram, bins_of
from harvok.core.observer import Observer
from harvok.core.procedures.back_to_back import back_to_back
from harvok.core.procedures.frames import (
    FrameSettings,
    FrameSize,
    corruption_words,
    measured,
    shortfall,
    step_faults,
    trial,
)
from harvok.core.procedures.latency import latency
from harvok.core.procedures.loss import loss_rate
from harvok.core.procedures.recovery import recovery, reset
from harvok.core.procedures.rfc2544 import FrameTest
from harvok.core.procedures.throughput import throughput
from harvok.core.trials.frames import (
    FrameDirectionResult,
    FrameTrial,
    FrameTrialResult,
    LoadStep,
    PortTrouble,
    TesterHealth,
)
from harvok.errors import PortError, TesterLimitError
from harvok.rigs.device import Device
from harvok.rigs.simulated import SimulatedPorts
from harvok.testing.measuring import findings_of, returned_by

GIGABIT = FrameSettings(line_bps=1e9)
SMALL, LARGE = FrameSize("64", (64,)), FrameSize("1518", (1518,))
ReturnedT = TypeVar("ReturnedT")


class Watched(SimulatedPorts):
    """A simulated rig that remembers what it was asked."""

    def __init__(self, device: Device, seed: int = 1) -> None:
        super().__init__(device, seed)
        self.trials: list[FrameTrial] = []

    def run(self, trial: FrameTrial, observer: Observer) -> FrameTrialResult:
        self.trials.append(trial)
        return super().run(trial, observer)

    def measure(self, procedure: Generator[FrameTrial, FrameTrialResult, ReturnedT]) -> ReturnedT:
        return returned_by(procedure, self)


class Histograms(unittest.TestCase):
    @given(st.integers(0, 10**12))
    def test_no_bin_is_wider_than_the_resolution(self, delay_ns: int) -> None:
        low, high = edges_of(int(bins_of(np.array([delay_ns]))[0]))
        self.assertTrue(low <= delay_ns <= high)
        self.assertLessEqual(high - low, delay_ns * RESOLUTION)

    @given(st.lists(st.integers(0, 10**9), min_size=1, max_size=300))
    def test_against_the_sorted_list(self, delays: list[int]) -> None:
        made = DelayHistogram()
        made.add(delays)
        found = made.summary()
        assert found
        self.assertEqual((found.min_s, found.max_s), (min(delays) / 1e9, max(delays) / 1e9))
        self.assertAlmostEqual(found.mean_s, sum(delays) / len(delays) / 1e9, places=12)
        for share in (0.5, 0.999):
            exact = sorted(delays)[math.ceil(share * len(delays)) - 1]
            self.assertAlmostEqual(made.quantile_ns(share), exact, delta=exact * RESOLUTION / 2 + 1)

    def test_jitter_is_the_mean_step(self) -> None:
        made = DelayHistogram()
        made.add([100, 300])
        made.add([200])
        self.assertAlmostEqual(made.summary().jitter_s if made.summary() else 0, 150e-9)  # type: ignore[union-attr]

    def test_memory_does_not_grow_with_the_count(self) -> None:
        made = DelayHistogram()
        made.add(1000 + n % 100 for n in range(20_000))
        found = made.summary()
        assert found
        self.assertEqual(sum(frames for _, frames in found.distribution), 20_000)
        self.assertLess(len(found.distribution), 4)
        self.assertIsNone(DelayHistogram().summary())

    def test_two_stretches_merged_are_the_whole(self) -> None:
        delays = [900, 300, 70_000, 5, 1200, 800]
        for cut in range(len(delays) + 1):
            whole, merged, later = DelayHistogram(), DelayHistogram(), DelayHistogram()
            whole.add(delays)
            merged.add(delays[:cut])
            later.add(delays[cut:])
            merged.merge(later)
            self.assertEqual(merged.summary(), whole.summary(), cut)


class Throughput(unittest.TestCase):
    def test_at_line_rate(self) -> None:
        answer = Watched(Device(1e9)).measure(throughput(GIGABIT, SMALL))
        found = answer.fps
        figures = answer.figures
        self.assertEqual(int(found), 1_488_095)
        self.assertEqual(find(figures, "throughput-share"), 1.0)
        self.assertAlmostEqual(find(figures, "throughput-l1") or 0, 1e9)
        self.assertAlmostEqual(find(figures, "throughput-l2") or 0, 1e9 * 64 / 84)

    def test_a_device_limited_in_frames_and_in_bits(self) -> None:
        device = Device(1e9, forwarding_fps=500_000, forwarding_bps=800e6, buffer_frames=100)
        for size, wanted in ((SMALL, 500_000.0), (LARGE, 800e6 / 8 / 1518)):
            for guided in (True, False):
                rig = Watched(device)
                answer = rig.measure(throughput(replace(GIGABIT, guided=guided), size))
                found = answer.fps
                figures = answer.figures
                self.assertAlmostEqual(found, wanted, delta=0.001 * size.line_fps(1e9) + 2)
                self.assertEqual(find(figures, "search-trials"), len(rig.trials))
                spent = sum(t.duration_s + t.pause_s for t in rig.trials)
                self.assertAlmostEqual(find(figures, "search-time") or 0, spent)

    def test_both_directions_at_once(self) -> None:
        settings = replace(GIGABIT, streams=(SEND, RECEIVE))
        answer = Watched(Device(1e9, forwarding_fps=7e5, buffer_frames=10)).measure(throughput(settings, SMALL))
        figures = answer.figures
        self.assertEqual(
            find(figures, "throughput", direction="send"), find(figures, "throughput", direction="receive")
        )

    def test_random_loss_leaves_no_throughput_unless_it_is_tolerated(self) -> None:
        device = Device(1e9, loss=1e-4)
        answer = Watched(device).measure(throughput(GIGABIT, LARGE))
        strict = answer.fps
        self.assertLess(strict, 0.01 * LARGE.line_fps(1e9))
        answer = Watched(device).measure(throughput(replace(GIGABIT, loss_tolerance=0.001), LARGE))
        tolerant = answer.fps
        self.assertEqual(tolerant, LARGE.line_fps(1e9))

    def test_a_mix_counts_its_mean_size(self) -> None:
        mix = FrameSize("aag", (64, 64, 1518))
        answer = Watched(Device(1e9)).measure(throughput(GIGABIT, mix))
        found = answer.fps
        self.assertAlmostEqual(found, 1e9 / 8 / ((64 + 64 + 1518) / 3 + 20))


class OtherTests(unittest.TestCase):
    def test_loss_goes_down_until_two_clean_trials(self) -> None:
        rig = Watched(Device(1e9, forwarding_bps=750e6, buffer_frames=10))
        figures = [f for f in rig.measure(loss_rate(GIGABIT, LARGE)) if f.quantity == "frame-loss"]
        loads = [f.labels["load"] for f in figures]
        self.assertEqual(loads, ["100 %", "90 %", "80 %", "70 %", "60 %"])
        full = LARGE.line_fps(1e9)
        wanted = (full - 750e6 / 8 / 1518) / full
        self.assertAlmostEqual(figures[0].value, wanted, places=4)
        self.assertEqual([f.value for f in figures[-2:]], [0.0, 0.0])

    def test_latency_through_a_device_of_known_delay_is_exact(self) -> None:
        for store_and_forward in (True, False):
            device = Device(1e9, latency_s=8e-6, store_and_forward=store_and_forward)
            figures = Watched(device).measure(latency(GIGABIT, LARGE, 50_000, []))
            wanted = 8e-6 + (1518 * 8 / 1e9 if store_and_forward else 0.0)
            for quantity in ("latency-median", "latency-p999", "latency-tagged-mean", "latency-min", "latency-max"):
                self.assertAlmostEqual(find(figures, quantity) or 0, wanted, delta=1e-9, msg=quantity)
            self.assertEqual(find(figures, "latency-jitter"), 0.0)

    def test_classic_latency_is_twenty_streams_with_one_tag(self) -> None:
        rig = Watched(Device(1e9, latency_s=5e-6, jitter_s=1e-6))
        figures = rig.measure(latency(GIGABIT, SMALL, 1e6, [], "classic"))
        self.assertEqual([(t.duration_s, t.tag_at_s, t.tags) for t in rig.trials], [(120.0, 60.0, 1)] * 20)
        self.assertAlmostEqual(find(figures, "latency-tagged-mean") or 0, 5e-6 + 512e-9 + 0.5e-6, delta=0.3e-6)
        self.assertGreater(find(figures, "latency-jitter") or 0, 0)

    def test_bursts_and_buffer_time(self) -> None:
        """A buffer of b frames, drained at c while it fills at line rate r, takes b / (1 − c/r) frames."""
        device = Device(1e9, forwarding_fps=1e6, buffer_frames=1000)
        figures = Watched(device).measure(back_to_back(GIGABIT, SMALL, 1e6, [], repeats=5))
        line = SMALL.line_fps(1e9)
        wanted = 1000 / (1 - 1e6 / line)
        self.assertAlmostEqual(find(figures, "burst-mean") or 0, wanted, delta=3)
        self.assertAlmostEqual(find(figures, "buffer-time") or 0, 1000 / line, delta=3 / line)
        self.assertEqual(find(figures, "burst-min"), find(figures, "burst-max"))

    def test_no_bursts_where_the_device_keeps_up(self) -> None:
        rig = Watched(Device(1e9))
        self.assertEqual(rig.measure(back_to_back(GIGABIT, SMALL, SMALL.line_fps(1e9), [])), [])
        self.assertEqual(rig.trials, [])

    def test_recovery_is_over_when_the_queue_takes_frames_again(self) -> None:
        figures = Watched(Device(1e9, forwarding_fps=1e6, buffer_frames=10_000)).measure(recovery(GIGABIT, SMALL, 1e6))
        self.assertEqual(find(figures, "recovery-time"), 0.0)
        slow = Device(1e9, forwarding_fps=1e6, buffer_frames=100, burst_every_s=61.0, burst_s=0.5)
        late = Watched(slow).measure(recovery(GIGABIT, SMALL, 1e6))
        self.assertAlmostEqual(find(late, "recovery-time") or 0, 1.5, places=6)

    def test_reset(self) -> None:
        rig = Watched(Device(1e9, forwarding_fps=1e6, buffer_frames=100, reset_s=4.2))
        figures = rig.measure(reset(GIGABIT, SMALL, 1e6, []))
        self.assertAlmostEqual(find(figures, "reset-time") or 0, 4.2, delta=1e-5)
        self.assertEqual(rig.trials[0].reset_at_s, 60.0)


class WhatIsNotTaken(unittest.TestCase):
    """Results that once looked like the device's, and said nothing about it."""

    def test_a_slow_device_is_found_to_within_a_hundredth_of_itself(self) -> None:
        for capacity in (300.0, 1000.0, 20_000.0):
            for guided in (True, False):
                rig = Watched(Device(1e9, forwarding_fps=capacity, buffer_frames=10))
                answer = rig.measure(throughput(replace(GIGABIT, guided=guided), SMALL))
                self.assertAlmostEqual(answer.fps, capacity, delta=0.02 * capacity + 12, msg=f"{capacity} {guided}")
                (figure, *_) = answer.figures
                self.assertLessEqual(figure.resolution, max(0.011 * capacity, 12))

    def test_random_loss_is_named_and_lack_of_capacity_is_not_taken_for_it(self) -> None:
        answer = Watched(Device(1e9, loss=1e-4)).measure(throughput(GIGABIT, LARGE))
        self.assertIn("frames are lost at any load", answer.remarks[0])
        self.assertIn("--loss-tolerance 0.0", answer.remarks[0])
        slow, dead = (Watched(Device(1e9, forwarding_fps=fps, buffer_frames=64)) for fps in (3e4, 0.0))
        self.assertEqual(slow.measure(throughput(GIGABIT, LARGE)).remarks, [])
        self.assertIn("not one frame came at any load", dead.measure(throughput(GIGABIT, LARGE)).remarks[0])

    def test_a_queue_that_fills_in_a_short_trial_is_not_taken_for_capacity(self) -> None:
        line_fps, short = LARGE.line_fps(1e9), replace(GIGABIT, full_s=2.0)
        deep = Device(1e9, forwarding_fps=0.98 * line_fps, buffer_frames=10_000, jitter_s=2e-6)
        answer = Watched(deep).measure(throughput(short, LARGE))
        self.assertAlmostEqual(answer.fps / line_fps, 0.98, delta=0.006)
        self.assertRegex(answer.remarks[0], r"nothing was lost in 2 s, and a queue grew till the end: 2\.0\d? % more")
        whole = Device(
            1e9, forwarding_fps=0.98 * line_fps, buffer_frames=200_000
        )  # what a trial of 60 s carries, counts
        self.assertEqual(Watched(whole).measure(throughput(GIGABIT, LARGE)).fps, line_fps)
        jittery = Device(1e9, jitter_s=30e-3)  # delays that vary by chance are no queue that grows
        self.assertEqual(Watched(jittery).measure(throughput(short, LARGE)).fps, line_fps)

    def test_frames_that_come_changed_are_lost_and_named(self) -> None:
        answer = Watched(Device(1e9, corruption=1e-3)).measure(throughput(replace(GIGABIT, loss_tolerance=0.01), LARGE))
        self.assertRegex(answer.remarks[0], r"1518 B, send: of \d+ frames there came \d+ with an altered content")
        self.assertEqual(answer.fps, LARGE.line_fps(1e9))
        self.assertAlmostEqual(find(answer.figures, "frame-corrupted", direction="send") or 0.0, 1e-3, delta=1e-4)
        loss = Watched(Device(1e9, corruption=1e-3)).measure(loss_rate(GIGABIT, LARGE))
        spoiled = [f.value for f in loss if f.quantity == "frame-corrupted"]
        self.assertAlmostEqual(spoiled[0], 1e-3, delta=2e-4)
        self.assertEqual(spoiled, [f.value for f in loss if f.quantity == "frame-loss"])
        mixed = FrameDirectionResult(100, 1.0, 90, "send", fragments=4, wrong_length_frames=3, altered_frames=2)
        self.assertEqual(mixed.corrupted_frames, 9)
        for words in ("4 in fragments, though", "3 with a wrong length", "2 with an altered content"):
            self.assertIn(words, corruption_words(mixed))

    def test_duplicates_and_reordering_are_figures(self) -> None:
        answer = Watched(Device(1e9, duplication=0.05, reordering=0.02)).measure(throughput(GIGABIT, LARGE))
        self.assertEqual(answer.fps, LARGE.line_fps(1e9))
        self.assertAlmostEqual(find(answer.figures, "frame-duplicates", direction="send") or 0, 0.05, delta=0.001)
        self.assertAlmostEqual(find(answer.figures, "frame-reordered", direction="send") or 0, 0.02, delta=0.001)

    def test_latency_of_a_lossy_stream_is_lowered_or_marked(self) -> None:
        """The buffer takes the trial of 60 s, and not the stream of 120 s."""
        device, notices = Device(1e9, forwarding_fps=1e6, buffer_frames=60_000, latency_s=5e-6), list[str]()
        figures = Watched(device).measure(latency(GIGABIT, SMALL, 1_000_900, notices))
        self.assertIn("was measured at 99.0 % of the throughput", notices[0])
        self.assertAlmostEqual(find(figures, "latency-median") or 0, 5e-6 + 512e-9, delta=1e-7)
        self.assertEqual({figure.mark for figure in figures}, {""})
        lossy = Watched(Device(1e9, loss=0.01)).measure(latency(GIGABIT, SMALL, 1e6, notices))
        self.assertEqual({figure.mark for figure in lossy}, {"lossy"})
        self.assertIn("is of streams that lost frames", notices[1])

    def test_a_burst_that_reached_the_limit_has_no_buffer_time(self) -> None:
        notices = list[str]()
        device = Device(1e9, forwarding_fps=1.4e6, buffer_frames=1e7)
        figures = Watched(device).measure(back_to_back(GIGABIT, SMALL, 1.4e6, notices, repeats=3))
        self.assertIn("≥ 2976192 frames", notices[0])
        self.assertIsNone(find(figures, "buffer-time"))

    def test_a_device_that_was_not_reset_has_no_reset_time(self) -> None:
        notices = list[str]()
        rig = Watched(Device(1e9, forwarding_fps=1e6, buffer_frames=100))
        self.assertEqual(rig.measure(reset(GIGABIT, SMALL, 1e6, notices)), [])
        self.assertIn("was not reset", notices[0])

    def test_frames_that_come_later_than_two_seconds_are_lost(self) -> None:
        """RFC 2544 §23: a queue of minutes is no throughput."""
        unlimited = Device(1e9, forwarding_fps=1e6)
        self.assertAlmostEqual(
            Watched(unlimited).measure(throughput(GIGABIT, SMALL)).fps, 1e6 * (1 + 2 / 60), delta=3e3
        )


class WholeSuite(unittest.TestCase):
    TEST = FrameTest(("throughput", "latency", "loss", "back-to-back", "recovery", "reset"), (SMALL, LARGE), GIGABIT)

    def test_every_test_for_every_size_in_virtual_time(self) -> None:
        device = Device(1e9, forwarding_fps=6e5, buffer_frames=256, latency_s=3e-6, reset_s=2.0)
        findings = findings_of(self.TEST, Watched(device))
        small = {f.quantity for f in findings.figures if f.labels["frame-size"] == "64"}
        self.assertTrue(
            {"throughput", "latency-median", "frame-loss", "burst-mean", "recovery-time", "reset-time"} <= small
        )
        large = {f.quantity for f in findings.figures if f.labels["frame-size"] == "1518"}
        self.assertNotIn("burst-mean", large)
        self.assertGreater(self.TEST.expected_s, 2 * 120)

    def test_a_device_that_carries_nothing_ends_early(self) -> None:
        rig = Watched(Device(1e9, forwarding_fps=0.0, buffer_frames=0.0))
        findings = findings_of(self.TEST, rig)
        self.assertEqual({f.value for f in findings.figures if f.quantity == "throughput"}, {0.0})
        self.assertFalse([f for f in findings.figures if f.quantity.startswith("latency")])

    def test_the_same_seed_gives_the_same_run(self) -> None:
        device = Device(1e9, loss=1e-3, jitter_s=1e-6, reordering=1e-3, forwarding_fps=1e6, buffer_frames=64)
        wanted = trial(GIGABIT, SMALL, LoadStep(1e5, 1.0))
        one, two = (SimulatedPorts(device, seed=4).run(wanted, Observer()) for _ in range(2))
        self.assertEqual(one, two)
        other = SimulatedPorts(device, seed=5).run(wanted, Observer())
        self.assertNotEqual(one, other)
        self.assertAlmostEqual(one.directions[0].loss, 1e-3, delta=5e-4)


class TheTestersPart(unittest.TestCase):
    def test_steps_that_cannot_be_told_apart_all_count_for_nothing(self) -> None:
        wanted = trial(GIGABIT, SMALL, LoadStep(1e4, 1.0), LoadStep(2e4, 1.0))
        good = SimulatedPorts(Device(1e9)).run(wanted, Observer())
        self.assertEqual(step_faults(wanted, good), ["", ""])
        lost = replace(good.directions[0], tester=TesterHealth(lost_count="the sender fell behind"))
        faults = step_faults(wanted, FrameTrialResult([lost]))
        self.assertEqual(faults, ["the sender fell behind (send)"] * 2)

    def answers(self, *spoiled: dict[str, object]) -> list[int]:
        """How many trials it takes when the first ones are spoiled like this."""
        wanted = trial(GIGABIT, SMALL, LoadStep(1e5, 1.0))
        good = SimulatedPorts(Device(1e9)).run(wanted, Observer())
        procedure, tries = measured(wanted), 0
        next(procedure)
        try:
            for change in (*spoiled, {}, {}, {}):
                tries += 1
                procedure.send(FrameTrialResult([replace(good.directions[0], **change)]))  # type: ignore[arg-type]
        except StopIteration:
            return [tries]
        return []

    def test_a_spoiled_trial_is_repeated(self) -> None:
        spoiling: tuple[dict[str, object], ...] = (
            {"sent_frames": 98_000},
            {"tester": TesterHealth(ring_drops=1)},
            {"tester": TesterHealth(longest_stall_s=0.05)},
        )
        for spoiled in spoiling:
            self.assertEqual(self.answers(), [1])
            self.assertEqual(self.answers(spoiled), [2])
            self.assertEqual(self.answers(spoiled, spoiled), [3])
            with self.assertRaisesRegex(TesterLimitError, "fell short 3 times"):
                self.answers(spoiled, spoiled, spoiled)

    def tries(self, wanted: FrameTrial, sent: int) -> list[FrameTrial]:
        """The trials of a tester that sends no more than this, however often it tries."""
        good = SimulatedPorts(Device(1e9)).run(wanted, Observer())
        short = FrameTrialResult([replace(good.directions[0], sent_frames=sent)])
        procedure = measured(wanted)
        asked = [next(procedure)]
        with self.assertRaisesRegex(TesterLimitError, "it held 9[0-9.]*% of the load|it held 8"):
            while True:
                asked.append(procedure.send(short))
        return asked

    def test_one_that_nearly_did_it_is_repeated_for_a_while_with_growing_pauses(self) -> None:
        wanted = trial(GIGABIT, SMALL, LoadStep(1e5, 1.0), pause_s=1.0)
        asked = self.tries(wanted, 97_000)
        self.assertEqual([one.pause_s for one in asked], [1.0, 1.25, 1.5, 2.0, 2.0])
        quick = trial(GIGABIT, SMALL, LoadStep(1e5, 1.0), pause_s=0.0)
        self.assertEqual(len(self.tries(quick, 97_000)), 8)
        self.assertEqual([replace(one, pause_s=1.0) for one in asked], [wanted] * len(asked))
        self.assertEqual(len(self.tries(wanted, 89_000)), 3)
        self.assertEqual(len(self.tries(trial(GIGABIT, SMALL, LoadStep(1e5, 60.0)), 5_900_000)), 3)

    def test_the_allowance_is_in_time_as_well_as_in_frames(self) -> None:
        self.assertEqual(self.answers({"sent_frames": 99_000}), [1])
        slow, result = trial(GIGABIT, SMALL, LoadStep(199.0, 1.0)), SimulatedPorts(Device(1e9))
        (got,) = result.run(slow, Observer()).directions
        self.assertEqual(shortfall(slow, replace(got, sent_frames=198)), "")
        self.assertIn("it sent 196 frames of 199", shortfall(slow, replace(got, sent_frames=196)))
        long = trial(GIGABIT, SMALL, LoadStep(1e5, 60.0))
        (got,) = result.run(long, Observer()).directions
        self.assertEqual(shortfall(long, replace(got, sent_frames=5_970_000)), "")
        self.assertIn("intended", shortfall(long, replace(got, sent_frames=5_969_999)))

    def test_a_trial_in_which_a_link_was_lost_is_taken_again_and_in_the_end_named(self) -> None:
        wanted = trial(GIGABIT, SMALL, LoadStep(1e5, 1.0))
        good = SimulatedPorts(Device(1e9)).run(wanted, Observer())
        flapped = replace(good, ports=[PortTrouble("port1 (dome0)", link_losses=2, counts={"rx_errors": 7})])
        procedure = measured(wanted)
        next(procedure)
        self.assertEqual(procedure.send(flapped), wanted)
        with self.assertRaises(StopIteration) as end:
            procedure.send(good)
        self.assertEqual(end.exception.value, good)
        procedure = measured(wanted)
        next(procedure)
        with self.assertRaisesRegex(PortError, r"port1 \(dome0\) lost its link 2 times and counted rx_errors 7 in a"):
            for _ in range(3):
                procedure.send(flapped)

    def test_what_the_testers_own_ports_counted_stands_beside_the_result(self) -> None:
        class Counting(Watched):
            def run(self, trial: FrameTrial, observer: Observer) -> FrameTrialResult:
                result = super().run(trial, observer)
                return replace(result, ports=[PortTrouble("port2 (dome1)", counts={"rx_crc_errors": 12})])

        answer = Counting(Device(1e9, loss=1e-3)).measure(throughput(GIGABIT, LARGE))
        self.assertIn("1518 B: port2 (dome1) counted rx_crc_errors 12 in a trial: look at that lead", answer.remarks[0])

    def test_a_hair_less_than_intended_is_good_enough(self) -> None:
        self.assertEqual(self.answers({"sent_frames": 99_600}), [1])

    def test_figures_have_their_labels(self) -> None:
        self.assertEqual(Figure("throughput", 1.0, {"frame-size": "64"}).meaning.unit, "frames/s")
