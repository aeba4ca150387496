"""One figure over the months: the band of the first runs, what falls out of it, and a steady decline."""

import io
import unittest

from rich.console import Console

from harvok.cli.render.trend import show_trend, trend_words
from harvok.core.judgement.trend import Point, Trend, trend

STEADY = (940.0, 941.0, 939.0, 940.5, 939.5)


def points(values: tuple[float, ...], days: float = 7.0) -> list[Point]:
    return [Point(f"run-{n}", n * days, value * 1e6) for n, value in enumerate(values)]


class Trends(unittest.TestCase):
    def test_a_steady_link_is_steady(self) -> None:
        found = trend(points(STEADY * 3))
        self.assertEqual((found.outside, found.beyond_chance), ([], False))
        self.assertIn("no steady change", trend_words(found, "b/s"))

    def test_a_slow_decline_is_found_though_no_two_neighbours_differ(self) -> None:
        found = trend(points(tuple(940 - 1.5 * n for n in range(20))))
        self.assertTrue(found.beyond_chance)
        self.assertAlmostEqual(found.change_a_month or 0, -1.5 / 940 * 30 / 7, delta=2e-4)
        self.assertIn("falls by 0.69 % a month", trend_words(found, "b/s"))
        self.assertEqual(found.outside[-1].run, "run-19")

    def test_one_bad_run_is_outside_and_no_trend(self) -> None:
        found = trend(points((*STEADY, 900.0, *STEADY)))
        self.assertEqual([point.run for point in found.outside], ["run-5"])
        self.assertFalse(found.beyond_chance)

    def test_runs_of_one_day_have_no_change_a_month(self) -> None:
        self.assertIsNone(trend(points(STEADY, days=0.0)).change_a_month)

    def test_the_band_is_never_narrower_than_half_a_percent(self) -> None:
        found = trend(points((940.0,) * 5))
        self.assertAlmostEqual((found.high - found.low) / found.mean, 0.01)

    def test_it_is_shown_with_the_band_and_the_marks(self) -> None:
        shown = self.shown(trend(points((*STEADY * 8, 900.0))))
        self.assertRegex(shown, r"run-40 +900\.0 Mb/s +●.*outside")
        self.assertIn("·", shown)
        self.assertIn("11 earlier runs are not shown", shown)

    def shown(self, found: Trend) -> str:
        out = io.StringIO()
        show_trend(Console(file=out, width=120), "goodput-settled", "dome – hall", found)
        return out.getvalue()
