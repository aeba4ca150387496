import unittest
from collections.abc import Sequence
from dataclasses import replace

from harvok.core.figures import Figure
from harvok.core.judgement.assessment import Criterion, Rules
from harvok.core.judgement.compare import Comparison, Criteria, compare
from harvok.core.judgement.conditions import differences
from harvok.core.judgement.criteria import judge
from harvok.core.judgement.sample import FailedRun, RunSample, Series
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
        self.assertRegex(
            found.findings[0].reason, r"-5\.\d to -4\.\d % against before, which misses the limit of 2\.0 % regression"
        )

    def test_an_interval_across_the_limit_is_undecided(self) -> None:
        found = judged(series("before", STEADY), series("after", [930.0, 880.0, 940.0, 905.0, 915.0]))
        self.assertEqual(found.verdict, "RETEST")
        self.assertIn("straddles", found.findings[0].reason)

    def test_a_dead_repeat_is_never_accepted(self) -> None:
        found = judged(series("before", STEADY), series("after", [940.0, 940.0, 940.0, 940.0, 0.0]))
        self.assertEqual(found.verdict, "REJECT")
        self.assertIn("repeat 5 stands apart: settled goodput was 0 b/s", found.findings[0].reason)
        self.assertIn("median absolute deviation", found.findings[0].reason)

    def test_one_wild_run_does_not_decide(self) -> None:
        found = judged(series("before", STEADY), series("after", [940.0, 941.0, 940.0, 901.0, 940.6]))
        self.assertEqual(found.verdict, "RETEST")
        self.assertIn("repeat 4 stands apart", found.findings[0].reason)

    def test_what_happens_again_is_a_fault(self) -> None:
        good = [*STEADY] * 6
        self.assertEqual(judged(series("before", good), series("after", [*good, 800.0])).verdict, "RETEST")
        found = judged(series("before", good), series("after", [*good, 800.0, 790.0]))
        self.assertEqual(found.verdict, "REJECT")
        self.assertIn("it happened again", found.findings[0].reason)

    def test_a_wild_repeat_that_the_tester_spoilt_is_set_aside(self) -> None:
        after = series("after", [*STEADY, 100.0])
        after.runs[5].limiters["send"] = Limiter("cpu-near", "a core was busy", "")
        self.assertEqual(judged(series("before", STEADY), after).verdict, "ACCEPT")

    def test_a_baseline_that_does_not_agree_with_itself_is_none(self) -> None:
        found = judged(series("before", [940.0, 941.0, 940.0, 100.0, 940.6]), series("after", STEADY))
        self.assertEqual(found.verdict, "RETEST")
        self.assertIn("it is no baseline", found.findings[0].reason)

    def test_runs_that_the_path_broke_off(self) -> None:
        for failed, wanted in (
            ([FailedRun("x", "broken", "path", "the data connection broke")], "RETEST"),
            ([FailedRun(name, "broken", "path", "the data connection broke") for name in "xy"], "REJECT"),
            ([FailedRun("x", "invalid", "tester", "a worker died")], "RETEST"),
            ([FailedRun("x", "broken", "operator", "at the keyboard")], "ACCEPT"),
        ):
            after = replace(series("after", STEADY), failed=failed)
            self.assertEqual(judged(series("before", STEADY), after).verdict, wanted, failed)

    def test_few_repeats_get_no_verdict_and_say_how_many_are_missing(self) -> None:
        found = judged(series("before", STEADY), series("after", lowered(30)[:3]))
        self.assertEqual(found.verdict, "RETEST")
        self.assertIn("--series after --repeat 2", found.findings[0].advice)

    def test_single_runs_are_undecided_even_when_few_are_enough(self) -> None:
        found = judged(series("before", [940.0]), series("after", [500.0]), min_repeats=1)
        self.assertEqual(found.verdict, "RETEST")


class Shares(unittest.TestCase):
    def test_of_the_ceiling(self) -> None:
        for minimum, by_percent, wanted in ((0.95, 0, "ACCEPT"), (0.999, 0, "RETEST"), (1.0, 1.5, "REJECT")):
            found = judged(series("a", STEADY), series("b", lowered(by_percent)), min_share=minimum)
            self.assertEqual(found.verdict, wanted, minimum)

    def test_more_than_a_link_can_carry_is_never_accepted(self) -> None:
        ten = [value * 10 for value in STEADY]
        for before, after in ((ten, ten), (STEADY, ten), (ten, STEADY)):
            found = judged(series("a", before), series("b", after))
            self.assertEqual(found.verdict, "RETEST")
            self.assertIn("which no link can carry", found.findings[0].reason)
        found = judged(series("a", STEADY), series("b", ten, near__interface="lo"), ["interface"])
        self.assertIn("lo (near end)", " ".join(finding.reason for finding in found.findings))
        self.assertEqual(judged(series("a", STEADY), series("b", [v * 1.01 for v in STEADY])).verdict, "ACCEPT")

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

    def test_a_baseline_that_the_tester_held_down_is_none(self) -> None:
        for after in (STEADY, lowered(30)):
            found = judged(series("a", STEADY, "cpu-near"), series("b", after))
            self.assertEqual(found.verdict, "RETEST")
            self.assertIn("evidence of cpu-near", found.findings[0].reason)

    def test_nobody_is_blamed_without_proof(self) -> None:
        found = judged(series("a", STEADY, "unknown"), series("b", lowered(30), "unknown"))
        self.assertEqual(found.verdict, "RETEST")
        self.assertIn("evidence of unknown", found.findings[0].reason)

    def test_a_baseline_that_filled_the_link_is_the_proof_of_what_the_hosts_can_do(self) -> None:
        found = judged(series("a", STEADY, "link"), series("b", lowered(30), "unknown"))
        self.assertEqual(found.verdict, "REJECT")
        self.assertIn("these hosts did more in the baseline", found.findings[0].reason)


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


class OtherFigures(unittest.TestCase):
    """What is judged besides rates, without being asked for."""

    def of(self, name: str, quantity: str, values: Sequence[float], *beside: Figure) -> Series:
        runs = [RunSample(f"{name}{n}", [Figure(quantity, v), *beside], {}) for n, v in enumerate(values)]
        return Series(name, runs)

    def verdict(self, quantity: str, before: Sequence[float], after: Sequence[float]) -> str:
        return judged(self.of("a", quantity, before), self.of("b", quantity, after)).verdict

    def test_latency(self) -> None:
        idle = [100e-6, 101e-6, 99e-6, 100e-6, 100.5e-6]
        for quantity in ("latency-median", "two-way-delay-median"):
            slower = [value * (1.18 if quantity == "latency-median" else 2) for value in idle]
            self.assertEqual(self.verdict(quantity, idle, idle), "ACCEPT")
            self.assertEqual(self.verdict(quantity, idle, slower), "REJECT")
            self.assertEqual(self.verdict(quantity, slower, idle), "ACCEPT")

    def test_loss_is_noticed_from_a_twentieth_of_a_percent(self) -> None:
        for quantity in ("retransmitted", "datagram-loss", "frame-loss", "two-way-loss"):
            for loss, wanted in ((0.0, "ACCEPT"), (0.0004, "ACCEPT"), (0.0007, "REJECT"), (0.003, "REJECT")):
                after = [loss * factor for factor in (1.0, 1.02, 0.98, 1.01, 0.99)]
                self.assertEqual(self.verdict(quantity, [0.0] * 5, after), wanted, (quantity, loss))

    def test_goodput_that_is_still_full_does_not_hide_a_link_that_began_to_lose(self) -> None:
        before, after = (
            Series(name, [replace(run, figures=[*run.figures, Figure("retransmitted", loss, {"direction": "send"})])
                          for run in series(name, STEADY).runs])
            for name, loss in (("a", 0.0), ("b", 0.003))
        )  # fmt: skip
        found = judged(before, after)
        self.assertEqual(found.verdict, "REJECT")
        self.assertIn("retransmitted bytes went from 0.0 % to 0.300 %", found.findings[0].reason)

    def test_a_search_knows_no_more_than_its_resolution(self) -> None:
        """All repeats at one load have no spread, and still say nothing of what lies between it and the next."""

        def found(resolution: float, limit: float) -> str:
            labels = {"direction": "send"}
            figures = [Figure("throughput", 256.0, labels, resolution=resolution)]
            runs = [RunSample(str(n), figures, {}) for n in range(5)]
            return judge([Criterion("throughput", "a", minimum=limit)], {"a": Series("a", runs)}, Rules()).verdict

        self.assertEqual(found(0.0, 300.0), "REJECT")
        self.assertEqual(found(100.0, 300.0), "RETEST")
        self.assertEqual(found(100.0, 400.0), "REJECT")
        self.assertEqual(found(100.0, 250.0), "ACCEPT")

    def test_clocks_know_no_more_than_their_offset(self) -> None:
        error = Figure("clock-error", 50e-6)
        before = self.of("a", "one-way-delay-mean", [200e-6] * 5, error)
        after = self.of("b", "one-way-delay-mean", [240e-6] * 5, error)
        limit = Criterion("one-way-delay-mean", "", max_regression=0.1, against="")
        found = compare(before, after, Criteria(limits=(limit,)))
        self.assertEqual(found.verdict, "RETEST")

    def test_each_figure_is_judged_once_whatever_others_have_its_labels_and_more(self) -> None:
        here, load = {"frame-size": "64"}, {"frame-size": "64", "load": "90 %"}
        figures = [
            [Figure("frame-duplicates", 0.0, here), *more] for more in ([], [Figure("frame-duplicates", 0, load)])
        ]
        before, after = (
            Series(name, [RunSample(f"{name}{n}", mine, {}) for n in range(5)])
            for name, mine in zip("ab", figures, strict=True)
        )
        self.assertEqual([finding.verdict for finding in judged(before, after).findings], ["ACCEPT"])

    def test_one_reason_is_given_once(self) -> None:
        both = [
            Series(name, [replace(run, figures=[*run.figures, Figure("retransmitted", 0.0, {"direction": "send"})])
                          for run in series(name, STEADY, "cpu-near").runs])
            for name in "ab"
        ]  # fmt: skip
        self.assertEqual(len(judged(both[0], both[1]).findings), 1)

    def test_limits_as_in_a_plan(self) -> None:
        slow = series("b", STEADY)
        for minimum, wanted in ((930e6, "ACCEPT"), (960e6, "REJECT")):
            limit = Criterion("goodput-settled", "", minimum=minimum)
            self.assertEqual(compare(series("a", STEADY), slow, Criteria(limits=(limit,))).verdict, wanted)

    def test_many_figures_are_judged_more_carefully(self) -> None:
        """A change that one interval of 95 % just meets is met no more when twenty are judged at once."""

        def many(count: int, factor: float) -> Series:
            runs = []
            for n, value in enumerate(STEADY):
                figures = [Figure("udp-received", value * factor, {"flow": str(k)}) for k in range(count)]
                runs.append(RunSample(str(n), figures, {}))
            return Series(f"many{factor}", runs)

        for count, wanted in ((1, "ACCEPT"), (20, "RETEST")):
            self.assertEqual(judged(many(count, 1.0), many(count, 0.982)).verdict, wanted)


class Whole(unittest.TestCase):
    def test_no_common_direction_is_refused(self) -> None:
        with self.assertRaisesRegex(UsageError, r"'a' has settled goodput \(send\); 'b' has none at all"):
            judged(series("a", STEADY), Series("b", []))

    def test_the_document_is_plain_json_without_infinities(self) -> None:
        text = encode_comparison(judged(series("a", [1.0]), series("b", [2.0]), min_repeats=2))
        self.assertNotIn("Infinity", text)
        self.assertIn('"verdict": "RETEST"', text)
        self.assertIn('"low": null', text)
