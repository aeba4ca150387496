"""Criteria over the series of a plan: limits, regressions, many figures at once, drift, and what allows no verdict."""

import unittest
from collections.abc import Sequence

from harvok.core.figures import Figure, Mark, counted_share
from harvok.core.judgement.assessment import Criterion, Rules
from harvok.core.judgement.criteria import Judgement, judge
from harvok.core.judgement.finding import Finding
from harvok.core.judgement.sample import RunSample, Series
from harvok.core.judgement.spans import percent_span, quantity_span
from harvok.core.judgement.stability import oddities
from harvok.core.limiter import Limiter
from harvok.core.measures.statistics import repeats_needed

STEADY = (940e6, 941e6, 939e6, 940.5e6, 939.5e6)
WIDE = (900e6, 960e6, 930e6, 985e6, 925e6)
TESTER = Limiter("cpu-near", "a core was busy for 99 %", "take a faster host")


def series(
    name: str,
    values: Sequence[float],
    quantity: str = "goodput-settled",
    direction: str = "send",
    conditions: dict[str, str] | None = None,
    limiter: Limiter | None = None,
    mark: Mark = "",
) -> Series:
    limiters = {direction: limiter} if limiter else {}
    figures = [Figure(quantity, value, {"direction": direction}, mark) for value in values]
    return Series(name, [RunSample(f"{name}{n}", [f], conditions or {}, limiters) for n, f in enumerate(figures)])


def judged(criterion: Criterion, *every: Series, rules: Rules | None = None) -> Judgement:
    return judge([criterion], {one.name: one for one in every}, rules or Rules())


class Limits(unittest.TestCase):
    def test_min_and_max(self) -> None:
        for limit, wanted in ((930e6, "ACCEPT"), (950e6, "REJECT"), (940e6, "RETEST")):
            found = judged(Criterion("goodput-settled", "a", minimum=limit), series("a", STEADY))
            self.assertEqual(found.verdict, wanted, found.findings)
        for limit, wanted in ((950e6, "ACCEPT"), (930e6, "REJECT")):
            self.assertEqual(
                judged(Criterion("goodput-settled", "a", maximum=limit), series("a", STEADY)).verdict, wanted
            )

    def test_a_straddled_limit_says_how_many_repeats_would_tell(self) -> None:
        (finding,) = judged(Criterion("goodput-settled", "a", minimum=930e6), series("a", WIDE)).findings
        self.assertEqual(finding.verdict, "RETEST")
        self.assertRegex(finding.advice, r"About \d+ repeats would decide it")

    def test_labels_narrow_a_criterion_down(self) -> None:
        good, bad = series("a", STEADY), series("a", WIDE, direction="receive")
        pairs = zip(good.runs, bad.runs, strict=True)
        both = Series("a", [RunSample("x", [*one.figures, *other.figures], {}) for one, other in pairs])
        whole = Criterion("goodput-settled", "a", minimum=930e6)
        self.assertEqual(judged(whole, both).verdict, "RETEST")
        narrow = Criterion("goodput-settled", "a", minimum=930e6, labels={"direction": "send"})
        self.assertEqual(judged(narrow, both).verdict, "ACCEPT")

    def test_many_figures_are_judged_more_carefully(self) -> None:
        """A limit that one interval of 95 % just keeps is kept no more when twenty are judged at once."""
        one = Criterion("goodput-settled", "a", minimum=937.5e6)
        self.assertEqual(judged(one, series("a", STEADY)).verdict, "ACCEPT")
        twenty = judge([one] * 20, {"a": series("a", STEADY)}, Rules())
        self.assertEqual(twenty.verdict, "RETEST")


def losses(lost: int, sent: int) -> Series:
    labels = {"direction": "send"}
    figures = [counted_share("datagram-loss", lost, sent, labels) for _ in range(5)]
    return Series("a", [RunSample(f"a{n}", [figure], {}) for n, figure in enumerate(figures)])


class Counts(unittest.TestCase):
    """Limits of what was counted: few of few say little."""

    def at_most(self, maximum: float, found: Series) -> Finding:
        (finding,) = judged(Criterion("datagram-loss", "a", maximum=maximum), found).findings
        return finding

    def test_nothing_lost_of_few_meets_no_strict_limit(self) -> None:
        finding = self.at_most(1e-4, losses(0, 1000))
        self.assertEqual(finding.verdict, "RETEST")
        self.assertIn("datagram loss is 0 of 5 000, by which it may be up to 0.074 %, which straddles", finding.reason)
        self.assertEqual(finding.advice, "Count 37 000 or more: by longer runs, or more of them.")

    def test_nothing_lost_of_many_meets_it(self) -> None:
        finding = self.at_most(1e-4, losses(0, 10_000))
        self.assertEqual(finding.verdict, "ACCEPT")
        self.assertIn("datagram loss is 0.00 %, which meets", finding.reason)

    def test_that_nothing_is_lost_at_all_is_asked_of_the_test_alone(self) -> None:
        self.assertEqual(self.at_most(0.0, losses(0, 1000)).verdict, "ACCEPT")
        self.assertEqual(self.at_most(0.0, losses(1, 1000)).verdict, "REJECT")

    def test_few_that_were_lost_miss_a_limit_only_beyond_chance(self) -> None:
        self.assertEqual(self.at_most(0.005, losses(1, 100)).verdict, "RETEST")
        self.assertEqual(self.at_most(0.001, losses(1, 100)).verdict, "REJECT")

    def test_one_that_was_lost_of_few_rejects_nothing(self) -> None:
        good, labels = losses(0, 1000), {"direction": "send"}
        unlucky = RunSample("a5", [counted_share("datagram-loss", 1, 1000, labels)], {})
        found = judged(Criterion("datagram-loss", "a", maximum=1e-4), Series("a", [*good.runs[:4], unlucky]))
        self.assertEqual(found.verdict, "RETEST")
        self.assertTrue(any("repeat 5 stands apart" in finding.reason for finding in found.findings))

    def test_records_that_do_not_say_of_how_many_are_judged_as_before(self) -> None:
        self.assertEqual(self.at_most(1e-4, series("a", [0.0] * 5, "datagram-loss")).verdict, "ACCEPT")


class Spans(unittest.TestCase):
    def test_as_many_digits_as_the_verdict_needs(self) -> None:
        self.assertEqual(percent_span(-0.0201, -0.0199, -0.02, signed=True), "-2.01 to -1.99 %")
        self.assertEqual(percent_span(-0.584, -0.5839, -0.02, signed=True), "-58.4 %")
        self.assertEqual(percent_span(0.951, 0.953, 0.95), "95.1 to 95.3 %")
        self.assertEqual(percent_span(0.02, 0.02, 0.02), "2.0 %")

    def test_a_value_that_looks_like_the_limit_says_how_far_it_is_from_it(self) -> None:
        self.assertEqual(quantity_span(948.99e6, 948.999e6, 949e6, "b/s"), "949.0 Mb/s (1.000 kb/s below the limit)")
        self.assertEqual(quantity_span(949.2e6, 950.4e6, 949e6, "b/s"), "949.2 Mb/s to 950.4 Mb/s")
        self.assertEqual(quantity_span(0.0009999, 0.0009999, 0.001, "ratio"), "0.09999 %")


class WhatAllowsNoVerdict(unittest.TestCase):
    def test_too_few_too_wide_missing_or_the_tester(self) -> None:
        criterion = Criterion("goodput-settled", "a", minimum=1.0)
        for every, rules, words in (
            ([series("a", STEADY[:3])], Rules(), "3 complete runs, and 5 are required"),
            ([], Rules(), "0 complete runs"),
            ([series("a", WIDE)], Rules(max_spread=0.05), "spreads over"),
            ([series("a", STEADY, quantity="throughput")], Rules(), "no run has a figure"),
            ([series("a", STEADY, limiter=TESTER)], Rules(), "tester itself"),
            ([series("a", STEADY, mark="tester-limit")], Rules(), "tester itself"),
            ([series("a", STEADY[:1])], Rules(min_repeats=1), "says nothing about spread"),
        ):
            found = judged(criterion, *every, rules=rules)
            self.assertEqual(found.verdict, "RETEST")
            self.assertIn(words, found.findings[0].reason)

    def test_a_single_run_of_any_unit(self) -> None:
        for quantity, value in (
            ("rtt-min", 0.008),
            ("throughput", 8e4),
            ("goodput-settled", 9e8),
            ("frame-loss", 0.1),
        ):
            for limits in ({"minimum": value / 2}, {"maximum": value * 2}):
                criterion = Criterion(quantity, "a", **limits)  # type: ignore[arg-type]
                found = judged(criterion, series("a", (value,), quantity=quantity), rules=Rules(min_repeats=1))
                self.assertEqual(found.verdict, "RETEST")
                self.assertIn("a single run says nothing", found.findings[0].reason)

    def test_no_criteria_no_verdict(self) -> None:
        self.assertEqual(judge([], {"a": series("a", STEADY)}, Rules()).verdict, "RETEST")


class Regressions(unittest.TestCase):
    CRITERION = Criterion("goodput-settled", "b", max_regression=0.02, against="a")

    def against(self, factor: float, **more: object) -> Judgement:
        after = series("b", [value * factor for value in STEADY], **more)  # type: ignore[arg-type]
        return judged(self.CRITERION, series("a", STEADY), after)

    def test_within_beyond_and_between(self) -> None:
        for factor, wanted in ((1.0, "ACCEPT"), (0.9, "REJECT"), (0.98, "RETEST")):
            self.assertEqual(self.against(factor).verdict, wanted)

    def test_less_is_better_for_a_delay(self) -> None:
        criterion = Criterion("rtt-mean", "b", max_regression=0.1, against="a")
        before = series("a", [value / 1e12 for value in STEADY], "rtt-mean")
        for factor, wanted in ((0.5, "ACCEPT"), (1.5, "REJECT")):
            after = series("b", [value * factor / 1e12 for value in STEADY], "rtt-mean")
            self.assertEqual(judged(criterion, before, after).verdict, wanted)

    def test_unlike_conditions_unless_they_are_named(self) -> None:
        before = series("a", STEADY, conditions={"near.interface": "eth0"})
        after = series("b", STEADY, conditions={"near.interface": "eth1"})
        found = judged(self.CRITERION, before, after)
        self.assertEqual(found.verdict, "RETEST")
        self.assertIn("near.interface", found.findings[0].reason)
        named = Criterion("goodput-settled", "b", max_regression=0.02, against="a", changed=("interface", "dscp"))
        self.assertEqual(judged(named, before, after).verdict, "ACCEPT")

    def test_drift_gives_no_verdict_unless_the_runs_alternated(self) -> None:
        rising = [940e6 * (1 + 0.01 * n) for n in range(8)]
        before, after = series("a", rising), series("b", [v * 1.005 for v in rising])
        found = judged(self.CRITERION, before, after)
        self.assertEqual(found.verdict, "RETEST")
        self.assertIn("drifts", found.findings[0].reason)
        self.assertEqual(judged(self.CRITERION, before, after, rules=Rules(paired=True)).verdict, "ACCEPT")

    def test_a_baseline_without_the_figure(self) -> None:
        found = judged(self.CRITERION, series("a", STEADY, "throughput"), series("b", STEADY))
        self.assertIn("no such figure", found.findings[0].reason)


class Oddities(unittest.TestCase):
    def test_outliers_and_trends_are_pointed_out(self) -> None:
        (said,) = oddities(series("a", [*STEADY, 700e6]))
        self.assertIn("repeat 6 stands apart", said)
        (said,) = oddities(series("a", [940e6 - 3e6 * n for n in range(7)]))
        self.assertIn("falls from repeat to repeat", said)
        self.assertEqual(oddities(series("a", STEADY)), [])
        self.assertEqual(oddities(series("a", [1.0, 2.0])), [])


class Repeats(unittest.TestCase):
    def test_more_spread_needs_more_and_no_gap_needs_all(self) -> None:
        few, many = repeats_needed(0.002, 0.01), repeats_needed(0.01, 0.01)
        assert few and many
        self.assertTrue(5 <= few < many < 40)
        self.assertIsNone(repeats_needed(1.0, 0.0))
