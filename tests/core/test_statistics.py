import math
import random
import statistics
import unittest

from scipy import stats

from harvok.core.measures.statistics import fairness, relative_change, share_interval, student_t, summarise


def noisy(rng: random.Random, count: int, centre: float, spread: float) -> list[float]:
    return [rng.gauss(centre, spread) for _ in range(count)]


class TrimmedMeans(unittest.TestCase):
    def test_five_values_lose_the_highest_and_the_lowest(self) -> None:
        found = summarise([941.0, 940.0, 700.0, 942.0, 999.0])
        self.assertEqual((found.mean, found.dropped, found.median), (941.0, 1, 941.0))

    def test_four_values_are_too_few_to_trim(self) -> None:
        found = summarise([1.0, 2.0, 3.0, 6.0])
        self.assertEqual((found.mean, found.dropped), (3.0, 0))

    def test_against_scipy(self) -> None:
        rng = random.Random(7)
        for count in range(5, 30):
            values = noisy(rng, count, 940, 5)
            self.assertAlmostEqual(summarise(values).mean, stats.trim_mean(values, 1 / count + 1e-9))

    def test_spread_is_the_range_over_the_median(self) -> None:
        self.assertAlmostEqual(summarise([90.0, 100.0, 110.0]).spread, 0.2)

    def test_no_values_are_an_error(self) -> None:
        with self.assertRaises(ValueError):
            summarise([])


class Intervals(unittest.TestCase):
    def test_untrimmed_interval_is_student_t(self) -> None:
        values = [939.0, 941.5, 940.2, 943.1]
        found = summarise(values).interval()
        wanted = stats.t.interval(0.95, 3, statistics.fmean(values), stats.sem(values))
        self.assertAlmostEqual(found.low, wanted[0])
        self.assertAlmostEqual(found.high, wanted[1])

    def test_standard_error_is_yuens(self) -> None:
        """SciPy's Yuen t test of two samples gives our standard errors back: t = difference / joint error."""
        rng = random.Random(3)
        for count in (5, 6, 8, 12):
            a, b = noisy(rng, count, 940, 5), noisy(rng, count, 930, 9)
            ours, theirs = summarise(a), summarise(b)
            wanted = stats.ttest_ind(a, b, equal_var=False, trim=1 / count + 1e-9)
            joint = math.hypot(ours.standard_error, theirs.standard_error)
            self.assertAlmostEqual((ours.mean - theirs.mean) / joint, wanted.statistic)

    def test_one_value_says_nothing(self) -> None:
        self.assertEqual(summarise([940.0]).interval().low, -math.inf)

    def test_equal_values_leave_no_doubt(self) -> None:
        found = summarise([5.0] * 5).interval()
        self.assertEqual((found.low, found.high), (5.0, 5.0))

    def test_quantiles_against_scipy(self) -> None:
        for degrees in (1, 2, 7.5, 30):
            self.assertAlmostEqual(student_t(0.975, degrees), stats.t.ppf(0.975, degrees))
        self.assertAlmostEqual(student_t(0.975, math.inf), stats.norm.ppf(0.975))

    def test_the_interval_covers_the_truth_about_as_often_as_it_says(self) -> None:
        rng, covered, tries = random.Random(11), 0, 2000
        for _ in range(tries):
            found = summarise(noisy(rng, 5, 100, 1)).interval()
            covered += found.low <= 100 <= found.high
        self.assertGreater(covered / tries, 0.91)
        self.assertLess(covered / tries, 0.99)


class Changes(unittest.TestCase):
    def test_degrees_of_freedom_are_welchs(self) -> None:
        """Where the mean before is exactly known, the relative change is a plain t interval of after."""
        before, after = summarise([100.0] * 6), summarise([98.0, 99.0, 97.5, 98.5, 98.2, 97.9])
        found, wanted = relative_change(before, after), after.interval()
        self.assertAlmostEqual(found.interval.low, wanted.low / 100 - 1)
        self.assertAlmostEqual(found.interval.high, wanted.high / 100 - 1)

    def test_a_change_and_its_reverse_agree_on_being_clear(self) -> None:
        before, after = summarise([100, 101, 99, 100.5, 99.5]), summarise([90, 91, 89, 90.5, 89.5])
        there, back = relative_change(before, after), relative_change(after, before)
        self.assertLess(there.interval.high, 0)
        self.assertGreater(back.interval.low, 0)

    def test_nothing_before_is_no_ratio(self) -> None:
        with self.assertRaises(ValueError):
            relative_change(summarise([0.0, 0.0]), summarise([1.0, 2.0]))

    def test_single_runs_leave_everything_open(self) -> None:
        found = relative_change(summarise([100.0]), summarise([50.0]))
        self.assertEqual((found.ratio, found.interval.low), (-0.5, -math.inf))

    def test_coverage_of_the_true_change(self) -> None:
        rng, covered, tries = random.Random(5), 0, 1500
        for _ in range(tries):
            before, after = summarise(noisy(rng, 5, 100, 1)), summarise(noisy(rng, 5, 97, 1.5))
            found = relative_change(before, after).interval
            covered += found.low <= -0.03 <= found.high
        self.assertGreater(covered / tries, 0.93)


class Shares(unittest.TestCase):
    def test_against_the_chi_squared_distribution(self) -> None:
        for seen, of in ((0, 1000), (5, 1000), (300, 1_000_000)):
            found = share_interval(seen, of, 0.95)
            self.assertAlmostEqual(found.low * of, stats.chi2.ppf(0.025, 2 * seen) / 2 if seen else 0.0)
            self.assertAlmostEqual(found.high * of, stats.chi2.ppf(0.975, 2 * seen + 2) / 2)

    def test_no_share_is_more_than_all(self) -> None:
        self.assertEqual(share_interval(1, 1, 0.95).high, 1.0)
        self.assertRaises(ValueError, share_interval, 0, 0, 0.95)


class Fairness(unittest.TestCase):
    def test_equal_shares_and_one_that_has_everything(self) -> None:
        self.assertEqual(fairness([5, 5, 5, 5]), 1.0)
        self.assertEqual(fairness([9, 0, 0]), 1 / 3)
        self.assertEqual(fairness([0, 0]), 1.0)
