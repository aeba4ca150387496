"""A tester that cannot do what is asked: its own limit is found, told, and never blamed on the device."""

import unittest
from dataclasses import replace

from harvok.core.figures import Figure, find
from harvok.core.judgement.compare import Criteria, compare
from harvok.core.judgement.sample import RunSample, Series
from harvok.core.observer import Observer
from harvok.core.procedures.calibrate import CalibrationTest
from harvok.core.procedures.frames import FrameSettings, FrameSize
from harvok.core.procedures.rfc2544 import FrameTest
from harvok.core.procedures.throughput import throughput
from harvok.core.trials.frames import FrameTrial, FrameTrialResult, LoadStep
from harvok.errors import TesterLimitError
from harvok.rigs.device import Device
from harvok.rigs.simulated import SimulatedPorts
from harvok.testing.measuring import findings_of, returned_by

SETTINGS = FrameSettings(line_bps=1e9)
SMALL = FrameSize("64", (64,))


class WeakTester(SimulatedPorts):
    """Sends no faster than `max_fps`."""

    def __init__(self, device: Device, max_fps: float) -> None:
        super().__init__(device)
        self._max_fps = max_fps

    def run(self, trial: FrameTrial, observer: Observer) -> FrameTrialResult:
        steps = tuple(LoadStep(min(step.load_fps, self._max_fps), step.duration_s) for step in trial.steps)
        return super().run(replace(trial, steps=steps), observer)


def marks(figures: list[Figure]) -> set[str]:
    return {f.mark for f in figures if f.quantity.startswith("throughput")}


class Throughput(unittest.TestCase):
    def test_a_device_as_fast_as_the_tester_is_marked(self) -> None:
        answer = returned_by(throughput(SETTINGS, SMALL), WeakTester(Device(1e9), 900_000))
        found = answer.fps
        figures = answer.figures
        self.assertAlmostEqual(found, 900_000, delta=30_000)
        self.assertEqual(marks(figures), {"tester-limit"})

    def test_a_device_well_below_the_tester_is_not(self) -> None:
        device = Device(1e9, forwarding_fps=400_000, buffer_frames=64)
        answer = returned_by(throughput(SETTINGS, SMALL), WeakTester(device, 900_000))
        found = answer.fps
        figures = answer.figures
        self.assertAlmostEqual(found, 400_000, delta=2000)
        self.assertEqual(marks(figures), {""})

    def test_a_device_that_lost_just_above_is_to_blame_all_the_same(self) -> None:
        device = Device(1e9, forwarding_fps=400_000, buffer_frames=64)
        answer = returned_by(throughput(SETTINGS, SMALL), WeakTester(device, 415_000))
        found = answer.fps
        figures = answer.figures
        self.assertAlmostEqual(found, 400_000, delta=2000)
        self.assertEqual(marks(figures), {""})

    def test_a_calibration_spares_the_retreat(self) -> None:
        settings = replace(SETTINGS, tester_fps={"64": 880_000.0})
        answer = returned_by(throughput(settings, SMALL), WeakTester(Device(1e9), 900_000))
        found = answer.fps
        figures = answer.figures
        self.assertEqual((found, marks(figures)), (880_000, {"tester-limit"}))
        self.assertLessEqual(find(figures, "search-trials") or 9, 2)

    def test_a_tester_that_reaches_line_rate_leaves_no_mark(self) -> None:
        settings = replace(SETTINGS, tester_fps={"64": 2e6})
        answer = returned_by(throughput(settings, SMALL), WeakTester(Device(1e9), 2e6))
        figures = answer.figures
        self.assertEqual(marks(figures), {""})

    def test_a_tester_that_never_holds_a_load_measures_nothing(self) -> None:
        class Stuttering(SimulatedPorts):
            def run(self, trial: FrameTrial, observer: Observer) -> FrameTrialResult:
                halved = tuple(LoadStep(step.load_fps / 2, step.duration_s) for step in trial.steps)
                return super().run(replace(trial, steps=halved), observer)

        with self.assertRaises(TesterLimitError):
            returned_by(throughput(SETTINGS, SMALL), Stuttering(Device(1e9)))


class WholeSuite(unittest.TestCase):
    def test_what_the_tester_cannot_do_is_left_out_and_named(self) -> None:
        settings = replace(SETTINGS, full_s=5.0)
        test = FrameTest(("throughput", "loss", "back-to-back"), (SMALL,), settings, burst_repeats=2)
        device = Device(1e9, forwarding_fps=400_000, buffer_frames=64)
        findings = findings_of(test, WeakTester(device, 900_000))
        loads = [f.labels["load"] for f in findings.figures if f.quantity == "frame-loss"]
        self.assertEqual(loads[0], "60 %")  # of 1 488 095: the first that 900 000 reaches
        self.assertIsNone(find(findings.figures, "burst-mean"))
        self.assertIn("back-to-back at 64 B is left out", findings.notices[0])


class Calibration(unittest.TestCase):
    def test_the_limit_of_a_weak_tester_is_found(self) -> None:
        test = CalibrationTest((SMALL, FrameSize("1518", (1518,))), SETTINGS)
        figures = findings_of(test, WeakTester(Device(1e9, latency_s=5e-6), 900_000)).figures
        found = find(figures, "tester-limit", **{"frame-size": "64"}) or 0
        self.assertTrue(0.97 * 900_000 <= found <= 904_500, found)
        self.assertEqual(find(figures, "tester-limit-share", **{"frame-size": "1518"}), 1.0)
        self.assertLess(max(f.value for f in figures if f.quantity == "offered-error"), 1e-4)
        self.assertEqual({f.value for f in figures if f.quantity == "tester-limit-spread"}, {0.0})
        serial_s = 64 * 8 / 1e9
        self.assertAlmostEqual(find(figures, "delay-floor-min", **{"frame-size": "64"}) or 0, 5e-6 + serial_s, places=8)

    def test_of_limits_that_differ_the_lowest_counts_and_it_is_said(self) -> None:
        class Fickle(WeakTester):
            searches = 0

            def run(self, trial: FrameTrial, observer: Observer) -> FrameTrialResult:
                self.searches += "flat out" in trial.about
                self._max_fps = 600_000 if self.searches == 2 else 900_000
                return super().run(trial, observer)

        findings = findings_of(CalibrationTest((SMALL,), SETTINGS), Fickle(Device(1e9), 900_000))
        self.assertEqual(find(findings.figures, "tester-limit"), 602_700)
        self.assertAlmostEqual(find(findings.figures, "tester-limit-spread") or 0.0, 1 / 3, places=3)
        self.assertIn("at 64 B it held 904 050, 602 700, 904 050 frames/s in 3 searches", findings.notices[0])

    def test_loads_that_are_not_held_say_nothing(self) -> None:
        class Slack(WeakTester):
            """Half of the load of trials that are to show how well loads are held."""

            spoiled = 3

            def run(self, trial: FrameTrial, observer: Observer) -> FrameTrialResult:
                result = super().run(trial, observer)
                if "offered load at 50 %" not in trial.about or not self.spoiled:
                    return result
                type(self).spoiled -= 1
                (one,) = result.directions
                return FrameTrialResult([replace(one, sent_frames=round(one.sent_frames * 0.99))])

        with self.assertRaisesRegex(TesterLimitError, "at 64 B and 50 % of its limit the tester's load was 1.00% off"):
            findings_of(CalibrationTest((SMALL,), SETTINGS), Slack(Device(1e9), 900_000))
        Slack.spoiled = 1  # of three, which the others outvote
        findings_of(CalibrationTest((SMALL,), SETTINGS), Slack(Device(1e9), 900_000))

    def test_what_is_far_from_the_calibration_before_is_pointed_out(self) -> None:
        for earlier_fps, said in ((850_000.0, 0), (1_100_000.0, 1), (700_000.0, 1)):
            settings = replace(SETTINGS, tester_fps={"64": earlier_fps})
            findings = findings_of(CalibrationTest((SMALL,), settings), WeakTester(Device(1e9), 900_000))
            self.assertEqual(len(findings.notices), said, findings.notices)

    def test_it_never_takes_longer_than_a_campaign(self) -> None:
        test = CalibrationTest((SMALL,), SETTINGS)
        self.assertGreater(test.expected_s, 0)
        self.assertEqual(test.title, "calibration")


class Verdicts(unittest.TestCase):
    def test_no_verdict_rests_on_the_testers_limit(self) -> None:
        def series(name: str, mark: str) -> Series:
            labels = {"direction": "send", "frame-size": "64"}
            figure = Figure("throughput", 880_000.0, labels, mark)  # type: ignore[arg-type]
            return Series(name, [RunSample(f"{name}-{n}", [figure], {}) for n in range(5)])

        for before, after, wanted in (
            ("", "", "ACCEPT"),
            ("", "tester-limit", "RETEST"),
            ("tester-limit", "", "RETEST"),
        ):
            made = compare(series("a", before), series("b", after), Criteria())
            self.assertEqual(made.verdict, wanted)
        self.assertIn("tester itself", made.findings[0].reason)
