import unittest
from dataclasses import replace
from pathlib import Path
from tempfile import TemporaryDirectory

from harvok.cli.render.load import show_held_loads
from harvok.core.figures import find
from harvok.core.impairment import Impairment
from harvok.core.models.impairment import ImpairmentFile
from harvok.core.procedure import Findings
from harvok.core.procedures.load import LoadTest
from harvok.errors import TesterLimitError, UsageError
from harvok.reports.ramp import draw_ramp
from harvok.rigs.device import Device
from harvok.rigs.simulated import SimulatedPorts, impaired
from harvok.testing.measuring import findings_of
from tests.cli.test_frame_views import SETTINGS, SIZES, record
from tests.cli.test_views import screen
from tests.core.test_tester_limit import WeakTester

SMALL = SIZES[0]
TEST = LoadTest((0.2, 0.6, 1.0, 0.6), SIZES, replace(SETTINGS, full_s=2.0))


def found(device: Device, test: LoadTest = TEST) -> Findings:
    return findings_of(test, SimulatedPorts(device))


class Loads(unittest.TestCase):
    def test_what_comes_through_and_what_is_lost_at_each(self) -> None:
        figures = found(Device(1e9, forwarding_fps=700_000, buffer_frames=70)).figures
        line = SMALL.line_fps(1e9)
        for load, wanted in (("20 %", 0.2 * line), ("60 %", 700_000), ("100 %", 700_000)):
            labels = {"frame-size": "64", "load": load, "direction": "send"}
            self.assertAlmostEqual(find(figures, "forwarding-rate", **labels) or 0, wanted, delta=100)
            loss = 1 - wanted / (float(load.split()[0]) / 100 * line)
            self.assertAlmostEqual(find(figures, "frame-loss", **labels) or 0, max(loss, 0), places=3)
        full = find(figures, "latency-median", **{"frame-size": "64", "load": "100 %"}) or 0
        self.assertAlmostEqual(full, 512e-9 + 70 / 700_000, delta=2e-6)
        small = [f for f in figures if f.quantity == "latency-median" and f.labels["frame-size"] == "64"]
        marks = {figure.labels["load"]: figure.mark for figure in small}
        self.assertEqual((marks["20 %"], marks["100 %"]), ("", "lossy"))  # that of a full queue

    def test_a_load_that_comes_again_keeps_its_own_figures(self) -> None:
        figures = found(Device(1e9)).figures
        loads = [f.labels["load"] for f in figures if f.quantity == "frame-loss" and f.labels["frame-size"] == "64"]
        self.assertEqual(loads, ["20 %", "60 %", "100 %", "60 % (2)"])
        self.assertEqual(len({figure.key for figure in figures}), len(figures))

    def test_what_the_tester_cannot_offer_is_left_out_and_named(self) -> None:
        small = replace(TEST, sizes=(SMALL,))
        findings = findings_of(small, WeakTester(Device(1e9), 950_000))
        self.assertEqual({f.labels["load"] for f in findings.figures}, {"20 %", "60 %", "60 % (2)"})
        self.assertIn("64 B at 100 % is left out", findings.notices[0])
        with self.assertRaises(TesterLimitError):
            findings_of(replace(small, shares=(1.0,)), WeakTester(Device(1e9), 9e5))

    def test_without_a_pause_a_full_queue_is_carried_over_to_the_next_load(self) -> None:
        device = Device(1e9, forwarding_fps=700_000, buffer_frames=70_000)
        worst = {}
        for continuous in (False, True):
            test = replace(TEST, shares=(1.0, 0.4), sizes=(SMALL,), continuous=continuous)
            figures = found(device, test).figures
            self.assertEqual([f.labels["load"] for f in figures if f.quantity == "frame-loss"], ["100 %", "40 %"])
            worst[continuous] = find(figures, "latency-p999", load="40 %") or 0
            self.assertAlmostEqual(find(figures, "offered-load", load="40 %") or 0, 0.4 * SMALL.line_fps(1e9), delta=1)
        self.assertLess(worst[False], 1e-6)
        self.assertAlmostEqual(worst[True], 0.1, delta=0.001)

    def test_without_a_pause_the_steps_that_the_tester_held_count(self) -> None:
        test = replace(TEST, sizes=(SMALL,), continuous=True)
        findings = findings_of(test, WeakTester(Device(1e9), 950_000))
        self.assertEqual({f.labels["load"] for f in findings.figures}, {"20 %", "60 %", "60 % (2)"})
        self.assertEqual(len(findings.notices), 1)
        self.assertIn("64 B at 100 % is left out: the tester fell short 3 times", findings.notices[0])
        with self.assertRaisesRegex(TesterLimitError, "held no load at all"):
            findings_of(test, WeakTester(Device(1e9), 1e5))
        self.assertLess(test.expected_s, replace(test, continuous=False).expected_s)

    def test_as_a_table_and_as_a_picture(self) -> None:
        made = record(TEST, found(Device(1e9, forwarding_fps=7e5, buffer_frames=70)).figures)
        console, out = screen(False)
        show_held_loads(console, made)
        self.assertIn("700 035", out.getvalue())
        self.assertIn("21.6 %", out.getvalue())
        with TemporaryDirectory() as folder:
            self.assertTrue(draw_ramp(made, Path(folder) / "ramp.svg"))
            drawn = (Path(folder) / "ramp.svg").read_text()
            self.assertGreater(drawn.count("<path"), 20)
            self.assertFalse(draw_ramp(made.model_copy(update={"figures": []}), Path(folder) / "none.svg"))


class AModelBehindAnImpairment(unittest.TestCase):
    DEVICE = Device(1e9, latency_s=5e-6, loss=0.1, forwarding_bps=8e8, buffer_bytes=1e6)

    def file(self, **effects: object) -> ImpairmentFile:
        return ImpairmentFile.model_validate({"version": 1, "name": "x", "both": effects})

    def test_both_become_one(self) -> None:
        made = impaired(self.DEVICE, self.file(delay="5ms", variation="1ms", loss="50%", rate="100M", queue="30k"))
        self.assertAlmostEqual(made.latency_s, 0.004005)
        self.assertAlmostEqual(made.jitter_s, 0.002)
        self.assertAlmostEqual(made.loss, 0.55)
        self.assertEqual((made.forwarding_bps, made.buffer_bytes), (1e8, 30_000))
        self.assertEqual(impaired(self.DEVICE, self.file()), self.DEVICE)

    def test_the_delay_is_what_frames_take(self) -> None:
        test = replace(TEST, shares=(0.1,), sizes=(SMALL,))
        figures = found(impaired(Device(1e9), self.file(delay="5ms")), test).figures
        self.assertAlmostEqual(find(figures, "latency-median") or 0, 0.005 + 512e-9, places=7)

    def test_what_the_model_has_no_word_for(self) -> None:
        one_way = ImpairmentFile.model_validate({"version": 1, "name": "x", "send": {"delay": "5ms"}})
        for file in (one_way, self.file(burst_loss="1%"), self.file(spread="recorded", recorded=["1ms"])):
            self.assertNotEqual(file.plan().stages[0].send, Impairment())
            with self.assertRaises(UsageError):
                impaired(self.DEVICE, file)
