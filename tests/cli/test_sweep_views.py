"""What a person sees of a sweep: each run, the matrix, the words and the pictures."""

import tempfile
import unittest
from dataclasses import replace
from pathlib import Path

from harvok.cli.render.sweep import SweepView, show_sweep
from harvok.core.figures import Figure
from harvok.core.judgement.sample import Series
from harvok.core.sweeps.axes import Point, Role, Setting
from harvok.core.sweeps.reading import SweepReading, SweptFigures
from harvok.core.sweeps.words import words_of
from harvok.reports.curves import Column, Curve, Panel, draw_columns
from harvok.reports.ramp import draw_ramp
from harvok.reports.sweep import draw_sweep
from tests.cli.test_udp_views import said
from tests.cli.test_views import screen
from tests.core.test_sweep import FIGURES, TheReading, point, reading, series
from tests.logbook.test_logbook import record

FRAMES = SweptFigures("forwarding-rate-l2", ("frame-loss", "latency-median", "latency-p999"))


def loads(*shares_and_losses: tuple[float, float], mark: str = "") -> SweepReading:
    """A sweep of a load, with the loss at each; what is not lost is forwarded, at 1 Mb/s for each percent."""
    points: list[tuple[Point, Series]] = []
    for share, loss in shares_and_losses:
        where = (Setting("load", f"{share:g}%", share / 100),)
        value = share * 1e6 * (1 - loss)
        taken = series(value, value, quantity="forwarding-rate-l2", mark=mark, frame_loss=loss, latency_median=1e-5)
        points.append((where, taken))
    before = series(50e6, 50e6, quantity="forwarding-rate-l2")
    return reading(points, before, before, {"load": "load"}, FRAMES)


class Words(unittest.TestCase):
    def test_where_loss_begins(self) -> None:
        lossy = loads((20, 0.0), (90, 0.4), (50, 0.1))
        self.assertIn("loss begins at load 50%: 10.0 %", words_of(lossy))
        self.assertIn("nothing was lost at any", words_of(loads((20, 0.0), (50, 0.0))))

    def test_nothing_of_loss_where_the_tester_was_the_limit(self) -> None:
        words = " ".join(words_of(loads((20, 0.0), (50, 0.1), mark="tester-limit")))
        self.assertNotIn("loss begins", words)
        self.assertIn("the path may well do more", words)

    def test_up_to_where_a_condition_does_no_harm(self) -> None:
        roles: dict[str, Role] = {"delay": "condition"}
        points = [(point(n, "delay"), series(v, v + 1)) for n, v in ((0, 900), (5, 899), (40, 200))]
        self.assertIn("up to delay 5k, nothing is lost", words_of(reading(points, None, None, roles)))

    def test_advice_for_each_condition(self) -> None:
        roles: dict[str, Role] = {"delay": "condition", "socket-buffer": "setting"}
        grid = {(1, 64): 900e6, (1, 1024): 901e6, (20, 64): 12e6, (20, 1024): 200e6}
        points = [((*point(d, "delay"), *point(b)), series(v, v)) for (d, b), v in grid.items()]
        lines = words_of(reading(points, None, None, roles))
        self.assertIn("recommended at delay 1k: socket-buffer 64k, 900.0 Mb/s", lines)
        self.assertIn("recommended at delay 20k: socket-buffer 1024k, 200.0 Mb/s", lines)


class Matrices(unittest.TestCase):
    def test_loss_and_delay_stand_beside(self) -> None:
        text = said(lambda console: show_sweep(console, "box", [loads((20, 0.0), (50, 0.1))]))
        row = next(line for line in text.splitlines() if line.strip().startswith("50%"))
        self.assertRegex(row, r"45\.00 Mb/s\s+-10\.0 ± 0\.0 %\s+10\.0 %\s+10\.00 µs")
        self.assertNotIn("limiter", text)

    def test_a_single_run_has_a_change_and_no_interval(self) -> None:
        one = reading([(point(64), series(450e6))], series(900e6))
        text = said(lambda console: show_sweep(console, "box", [one]))
        self.assertIn("-50.0 %", text)
        self.assertNotIn("±", text)

    def test_without_a_baseline(self) -> None:
        text = said(lambda console: show_sweep(console, "box", [reading(TheReading.CURVE)]))
        self.assertNotIn("baseline at the end", text)


class WhileItRuns(unittest.TestCase):
    def test_a_line_for_each_run(self) -> None:
        for terminal in (False, True):
            console, out = screen(terminal)
            view = SweepView(console, FIGURES)
            view.point(1, 8, "baseline, before")
            view.notice("the impairment is at work")
            view.notice("the impairment is at work")
            view.record(record(1, "path.baseline-before", 900))
            view.close()
            text = out.getvalue()
            self.assertIn("baseline, before", text)
            self.assertIn("send → 900.0 Mb/s", text)
            self.assertEqual(text.count("the impairment is at work"), 1)

    def test_loss_is_said_and_a_run_without_figures_by_its_state(self) -> None:
        console, out = screen(False)
        view = SweepView(console, SweptFigures("forwarding-rate-l2", ("frame-loss",)))
        labels = {"direction": "send"}
        figures = [Figure("forwarding-rate-l2", 317e6, labels), Figure("frame-loss", 0.25, labels)]
        view.record(record(1, "x", 1).model_copy(update={"figures": figures, "readings": []}))
        view.record(record(2, "x", 1).model_copy(update={"figures": [], "readings": [], "state": "invalid"}))
        self.assertIn("send → 317.0 Mb/s, lost 25.0 %", out.getvalue())
        self.assertIn("invalid", out.getvalue())


class Pictures(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.place = Path(folder.name) / "drawn.svg"

    def drawn(self, *panels: Panel, mark: tuple[int, str] | None = None) -> str:
        points = ["a", "b", "c"]
        draw_columns("title", [Column("send", "load", points, panels, mark)], self.place)
        return self.place.read_text()

    def test_what_the_tester_limited_is_hollow_and_said(self) -> None:
        firm, hollow = (Curve("x", [1.0, 2.0, 3.0], doubtful=[False, flag, False]) for flag in (False, True))
        self.assertNotIn("hollow", self.drawn(Panel("Mb/s", [firm])))
        self.assertIn("hollow: the tester fell short there", self.drawn(Panel("Mb/s", [hollow])))

    def test_far_apart_values_get_a_scale_that_shows_both(self) -> None:
        self.assertIn("0.1", self.drawn(Panel("%", [Curve("loss", [0.01, 0.1, 10.0])])))
        self.drawn(Panel("%", [Curve("loss", [0.0, 0.0, 0.0])]), Panel("ms", [Curve("delay", [None, 1.0, None])]))

    def test_a_mark_with_its_words(self) -> None:
        self.assertIn("knee", self.drawn(Panel("Mb/s", [Curve("x", [1.0, 2.0, 2.0])]), mark=(1, "knee")))

    def test_a_sweep_with_what_arithmetic_expects(self) -> None:
        found = reading([*TheReading.CURVE, *TheReading.FLAT], series(941, 942), series(940, 941))
        bounded = [replace(one, bounds={"window / RTT": 2 * one.summary.mean}) for one in found.points]
        draw_sweep([replace(found, points=bounded)], "hill", self.place)
        text = self.place.read_text()
        for words in ("window / RTT", "baseline", "knee", "hill: settled goodput over socket-buffer"):
            self.assertIn(words, text)

    def test_a_map_with_a_hole_where_nothing_was_measured(self) -> None:
        roles: dict[str, Role] = {"delay": "condition", "socket-buffer": "setting"}
        points = [((*point(d, "delay"), *point(b)), series(9e8)) for d, b in ((1, 64), (1, 128), (2, 64))]
        draw_sweep([reading(points, None, None, roles)], "hill", self.place)
        self.assertIn("none", self.place.read_text())

    def test_a_run_without_loads_is_no_ramp(self) -> None:
        self.assertFalse(draw_ramp(record(1, "x", 900), self.place))
