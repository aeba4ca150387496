import unittest
from collections.abc import Sequence

from harvok.core.figures import Figure
from harvok.core.judgement.compare import Comparison, Criteria, compare
from harvok.core.judgement.conditions import differences
from harvok.core.judgement.sample import RunSample, Series
from harvok.core.limiter import Limiter, LimiterKind
from harvok.core.models.comparison import encode_comparison
from harvok.errors import UsageError

BASE = {"test.flows": "1", "test.socket-buffer": "the system's", "near.kernel": "Linux 6.1", "near.mtu": "1500 B"}
STEADY = (940.0, 941.0, 939.5, 940.5, 940.2)


def series(
    name: str,
    megabits: Sequence[float],
    kind: LimiterKind = "link",
    ceiling: float | None = 941.482,
    **changed: str,
) -> Series:
    conditions = BASE | {key.replace("__", ".").replace("_", "-"): value for key, value in changed.items()}
    runs = []
    for number, value in enumerate(megabits):
        labels = {"direction": "send"}
        figures = [Figure("goodput-settled", value * 1e6, labels)]
        if ceiling:
            figures.append(Figure("ceiling-share", value / ceiling, labels))
        limiter = Limiter(kind, f"evidence of {kind}", "advice")
        runs.append(RunSample(f"{name}-{number}", figures, conditions, {"send": limiter}))
    return Series(name, runs)


def lowered(by_percent: float) -> list[float]:
    return [value * (1 - by_percent / 100) for value in STEADY]


def judged(before: Series, after: Series, changed: Sequence[str] = (), **criteria: float | int | bool) -> Comparison:
    return compare(before, after, Criteria(**criteria), changed)  # type: ignore[arg-type]


class Regressions(unittest.TestCase):
    def test_the_same_again_is_accepted(self) -> None:
        self.assertEqual(judged(series("before", STEADY), series("after", STEADY)).verdict, "ACCEPT")

    def test_a_loss_within_the_margin_is_accepted(self) -> None:
        self.assertEqual(judged(series("before", STEADY), series("after", lowered(1))).verdict, "ACCEPT")

    def test_a_clear_loss_is_rejected_with_its_interval(self) -> None:
        found = judged(series("before", STEADY), series("after", lowered(5)))
        self.assertEqual(found.verdict, "REJECT")
        self.assertRegex(found.findings[0].reason, r"-5\.\d to -4\.\d %, which misses the limit of 2\.0 % regression")

    def test_an_interval_across_the_limit_is_undecided(self) -> None:
        found = judged(series("before", STEADY), series("after", [930.0, 880.0, 940.0, 905.0, 915.0]))
        self.assertEqual(found.verdict, "RETEST")
        self.assertIn("straddles", found.findings[0].reason)

    def test_one_wild_run_does_not_decide(self) -> None:
        found = judged(series("before", STEADY), series("after", [940.0, 941.0, 940.0, 100.0, 940.6]))
        self.assertEqual(found.verdict, "ACCEPT")

    def test_few_repeats_get_no_verdict_and_say_how_many_are_missing(self) -> None:
        found = judged(series("before", STEADY), series("after", lowered(30)[:3]))
        self.assertEqual(found.verdict, "RETEST")
        self.assertIn("--series after --repeat 2", found.findings[0].advice)

    def test_single_runs_are_undecided_even_when_few_are_enough(self) -> None:
        found = judged(series("before", [940.0]), series("after", [500.0]), min_repeats=1)
        self.assertEqual(found.verdict, "RETEST")


class Shares(unittest.TestCase):
    def test_of_the_ceiling(self) -> None:
        for minimum, wanted in ((0.95, "ACCEPT"), (0.999, "RETEST"), (1.0, "REJECT")):
            found = judged(series("a", STEADY), series("b", STEADY), min_share=minimum)
            self.assertEqual(found.verdict, wanted, minimum)

    def test_without_a_rated_speed_there_is_no_share(self) -> None:
        found = judged(series("a", STEADY, ceiling=None), series("b", STEADY, ceiling=None), min_share=0.9)
        self.assertEqual(found.verdict, "RETEST")
        self.assertIn("--rated", " ".join(f.advice for f in found.findings))


class Conditions(unittest.TestCase):
    def test_unlike_conditions_get_no_verdict(self) -> None:
        found = judged(series("a", STEADY), series("b", lowered(9), near__mtu="9000 B"))
        self.assertEqual(found.verdict, "RETEST")
        self.assertIn("near.mtu", found.findings[0].reason)

    def test_what_was_changed_on_purpose_is_named(self) -> None:
        for name in ("near.mtu", "mtu", "near"):
            found = judged(series("a", STEADY), series("b", lowered(9), near__mtu="9000 B"), [name])
            self.assertEqual(found.verdict, "REJECT", name)
            self.assertEqual([d.declared for d in found.differences], [True])

    def test_or_judged_all_the_same(self) -> None:
        found = judged(series("a", STEADY), series("b", STEADY, near__mtu="9000 B"), ignore_conditions=True)
        self.assertEqual(found.verdict, "ACCEPT")
        self.assertEqual([d.condition for d in found.differences], ["near.mtu"])

    def test_a_name_that_fits_nothing_is_refused(self) -> None:
        with self.assertRaisesRegex(UsageError, "'cable'"):
            judged(series("a", STEADY), series("b", STEADY), ["cable"])

    def test_a_change_within_one_series_counts_too(self) -> None:
        mixed = series("b", STEADY)
        mixed.runs[3] = RunSample("x", mixed.runs[3].figures, BASE | {"near.kernel": "Linux 6.2"})
        found = differences(series("a", STEADY), mixed)
        self.assertEqual([(d.condition, d.after) for d in found], [("near.kernel", ("Linux 6.1", "Linux 6.2"))])


class Blame(unittest.TestCase):
    def test_a_tester_at_its_limit_gives_no_verdict(self) -> None:
        for kind in ("cpu-near", "cpu-far"):
            found = judged(series("a", STEADY), series("b", lowered(30), kind))
            self.assertEqual(found.verdict, "RETEST")
            self.assertIn("the tester itself was the limit", found.findings[0].reason)

    def test_small_buffers_are_not_blamed_on_the_equipment(self) -> None:
        found = judged(series("a", STEADY), series("b", lowered(30), "receive-window"))
        self.assertEqual(found.verdict, "RETEST")
        self.assertIn("evidence of receive-window", found.findings[0].reason)

    def test_unless_the_buffer_is_what_was_changed(self) -> None:
        after = series("b", lowered(30), "receive-window", test__socket_buffer="8000 B")
        found = judged(series("a", STEADY), after, ["socket-buffer"])
        self.assertEqual(found.verdict, "REJECT")
        self.assertIn("evidence of receive-window", found.findings[0].reason)

    def test_a_loss_against_a_held_down_baseline_is_a_loss_all_the_more(self) -> None:
        self.assertEqual(judged(series("a", STEADY, "cpu-near"), series("b", lowered(30))).verdict, "REJECT")

    def test_but_no_loss_against_it_proves_nothing(self) -> None:
        found = judged(series("a", STEADY, "cpu-near"), series("b", STEADY))
        self.assertEqual(found.verdict, "RETEST")
        self.assertIn("baseline was held down", found.findings[0].reason)


class FrameFigures(unittest.TestCase):
    def frames(self, name: str, fps: Sequence[float]) -> Series:
        runs = []
        for value in fps:
            labels = {"direction": "send", "frame-size": "64"}
            figures = [Figure("throughput", value, labels), Figure("throughput-share", value / 1_488_095, labels)]
            runs.append(RunSample(name, figures, {"test.kind": "rfc2544"}))
        return Series(name, runs)

    def test_throughput_is_judged_for_each_frame_size(self) -> None:
        before, after = self.frames("a", [1e6] * 5), self.frames("b", [0.9e6] * 5)
        found = judged(before, after, min_share=0.5)
        self.assertEqual([f.verdict for f in found.findings], ["REJECT", "ACCEPT"])
        self.assertEqual(found.findings[0].where, "send, 64 B")
        self.assertIn("throughput changed by -10.0 %", found.findings[0].reason)


class Whole(unittest.TestCase):
    def test_no_common_direction_is_refused(self) -> None:
        with self.assertRaisesRegex(UsageError, "common direction"):
            judged(series("a", STEADY), Series("b", []))

    def test_the_document_is_plain_json_without_infinities(self) -> None:
        text = encode_comparison(judged(series("a", [1.0]), series("b", [2.0]), min_repeats=2))
        self.assertNotIn("Infinity", text)
        self.assertIn('"verdict": "RETEST"', text)
        self.assertIn('"low": null', text)
