"""What the plots of frame tests show: lines, limits, and what is missing."""

import unittest
from dataclasses import replace

import numpy as np
from matplotlib.figure import Figure as Canvas
from matplotlib.lines import Line2D

from harvok.core.figures import Figure
from harvok.core.judgement.assessment import Criterion
from harvok.core.link import Link
from harvok.core.models.rig import RIG_FILE, SimulatedRig
from harvok.core.models.run import RunRecord, SimulatedRigRecord
from harvok.core.procedures.frames import FrameSettings, FrameSize
from harvok.core.procedures.rfc2544 import FrameTest
from harvok.reports.frames import _colours, _latency, _loss, _throughput
from tests.logbook.test_logbook import START, host

SIZES = (FrameSize("64", (64,)), FrameSize("512", (512,)), FrameSize("1518", (1518,)))
RATES = {"64": 500_000.0, "1518": 81_274.0}


def record(*more: Figure, tester_fps: float = 0.0, mark: str = "") -> RunRecord:
    """A run that left 512 B out."""
    file = RIG_FILE.validate_python({"version": 1, "kind": "simulated", "name": "dome-sw-b", "rated": "1G"})
    assert isinstance(file, SimulatedRig)
    limits = {size.name: tester_fps for size in SIZES} if tester_fps else {}
    labels = {size: {"direction": "send", "frame-size": size} for size in RATES}
    return RunRecord(
        id="run-1", state="complete", started=START, harvok="0", command=[], rig=SimulatedRigRecord(file=file),
        test=FrameTest(("throughput",), SIZES, replace(FrameSettings(1e9), tester_fps=limits)),
        link=Link(1e9), near=host("dome"),
        figures=[*(Figure("throughput", fps, labels[size], mark) for size, fps in RATES.items()), *more],  # type: ignore[arg-type]
    )  # fmt: skip


class FramePlots(unittest.TestCase):
    def setUp(self) -> None:
        self.axes = Canvas().add_subplot()

    def lines(self) -> dict[str, list[float]]:
        """The values of every line, by what the legend calls it."""
        lines = [line for line in self.axes.get_lines() if isinstance(line, Line2D)]
        return {str(line.get_label()): np.asarray(line.get_ydata(), dtype=float).tolist() for line in lines}

    def test_what_was_left_out_is_a_gap_that_is_named(self) -> None:
        _throughput(self.axes, [record()], ())
        first, gap, last = self.lines()["dome-sw-b (simulated)"]
        self.assertEqual((first, last), (500_000.0, 81_274.0))
        self.assertNotEqual(gap, gap)  # not a number
        self.assertIn("not measured: dome-sw-b (simulated) at 512 B", self.axes.get_title())
        self.assertEqual(self.axes.get_ylabel(), "throughput, frames/s")

    def test_the_testers_limit_and_what_it_marks(self) -> None:
        _throughput(self.axes, [record(tester_fps=9e5, mark="tester-limit")], ())
        lines = self.lines()
        self.assertEqual(lines["the tester's own limit, calibrated"], [9e5] * 3)
        self.assertEqual(lines["dome-sw-b (simulated): the tester's limit"], [500_000.0, 81_274.0])

    def test_limits_are_drawn_where_they_hold(self) -> None:
        criteria = (
            Criterion("throughput", "unit", minimum=4e5, labels={"frame-size": "64"}),
            Criterion("throughput-share", "unit", minimum=0.5, labels={"frame-size": "1518"}),
            Criterion("latency-median", "unit", maximum=20e-6),
        )
        _throughput(self.axes, [record()], criteria)
        limits = self.lines()["limit"]
        self.assertEqual(limits[0], 4e5)
        self.assertAlmostEqual(limits[1], 0.5 * SIZES[2].line_fps(1e9))
        self.axes.clear()
        _latency(self.axes, [record()], criteria)
        self.assertEqual([round(limit, 6) for limit in self.lines()["limit"]], [20.0] * 3)
        self.assertEqual(self.axes.get_title(), "Latency at throughput, from first bit in to first bit out")

    def test_a_limit_of_loss_at_one_load(self) -> None:
        losses = [
            Figure("frame-loss", loss, {"direction": "send", "frame-size": "64", "load": load})
            for load, loss in (("100 %", 0.3), ("90 %", 0.1), ("80 %", 0.0))
        ]
        _loss(self.axes, [record(*losses)], [Criterion("frame-loss", "unit", maximum=0.02, labels={"load": "90 %"})])
        self.assertEqual(self.lines()["limit"], [2.0])
        self.assertEqual(self.axes.get_ylabel(), "frame loss, %")

    def test_no_two_curves_have_one_colour(self) -> None:
        for count in (1, 10, 11, 40):
            self.assertEqual(len({str(colour) for colour in _colours(count)}), count)
