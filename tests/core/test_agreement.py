"""Two ways to one figure."""

import unittest
from dataclasses import replace
from typing import Any

from harvok.core.figures import Figure
from harvok.core.judgement.agreement import Agreement, judge_agreement
from harvok.core.judgement.finding import Finding, over_repeats
from harvok.core.judgement.sample import RunSample, Series
from harvok.core.limiter import Limiter

TCP, UDP, APP = "tcp-throughput-l2", "udp-throughput", "app-throughput-l2"
WINDOW = Limiter("receive-window", "the window was 64 kB.", "Raise it.")


def series(name: str, *figures: Figure, limiter: Limiter | None = None) -> Series:
    """A series of runs with one figure each."""
    limiters = {figure.labels["direction"]: limiter for figure in figures} if limiter else {}
    return Series(name, [RunSample(f"{name}-{n}", [one], {}, limiters) for n, one in enumerate(figures)])


def rate(quantity: str, mbps: float, direction: str = "send", resolution: float = 0.0, **labels: str) -> Figure:
    return Figure(quantity, mbps * 1e6, {"direction": direction, **labels}, resolution=resolution * 1e6)


class Ways(unittest.TestCase):
    def judged(self, *both: Series, **asked: Any) -> list[Finding]:
        rule = Agreement(both[0].name, both[1].name, **asked)
        return list(judge_agreement(rule, {one.name: one for one in both}))

    def test_within_what_is_allowed_they_agree_in_each_direction_by_itself(self) -> None:
        tcp = series("tcp", rate(TCP, 940), rate(TCP, 930), rate(TCP, 600, "receive"))
        udp = series("udp", rate(UDP, 955), rate(UDP, 954, "receive"))
        sent, received = self.judged(tcp, udp)
        self.assertEqual((sent.verdict, sent.where), ("ACCEPT", "tcp and udp, send"))
        self.assertIn("agree to 2.1 %", sent.reason)
        self.assertIn("loss-free UDP throughput 955.0 Mb/s (udp)", sent.reason)
        self.assertEqual(received.verdict, "RETEST")
        self.assertIn("nothing explains the lower one", received.reason)

    def test_the_limiter_of_the_lower_one_explains_it(self) -> None:
        tcp = series("tcp", rate(TCP, 400), limiter=WINDOW)
        (found,) = self.judged(tcp, series("udp", rate(UDP, 955), limiter=Limiter("loss", "x", "y")))
        self.assertEqual((found.verdict, found.advice), ("RETEST", "Raise it."))
        self.assertIn("58.1 % apart", found.reason)
        self.assertIn("tcp was limited by receive window: the window was 64 kB.", found.reason)
        link = Limiter("link", "full.", "")
        (found,) = self.judged(series("tcp", rate(TCP, 400), limiter=link), series("udp", rate(UDP, 955)))
        self.assertIn("nothing explains", found.reason, "a link that carried more by another way was not the limit")

    def test_what_a_search_left_open_is_no_difference(self) -> None:
        udp = series("udp", rate(UDP, 900, resolution=40))
        self.assertEqual(self.judged(series("tcp", rate(TCP, 960)), udp)[0].verdict, "ACCEPT")
        self.assertEqual(self.judged(series("tcp", rate(TCP, 1000)), udp)[0].verdict, "RETEST")
        self.assertEqual(self.judged(series("tcp", rate(TCP, 1000)), udp, within=0.1)[0].verdict, "ACCEPT")

    def test_of_levels_the_highest_and_never_a_part(self) -> None:
        run = RunSample(
            "1", [rate(APP, 500, level="8"), rate(APP, 910, level="64"), rate(APP, 990, service="voice")], {}
        )
        (found,) = self.judged(Series("app", [run]), series("udp", rate(UDP, 915)))
        self.assertEqual(found.verdict, "ACCEPT")
        self.assertIn("910.0 Mb/s", found.reason)

    def test_a_tester_that_could_not_offer_more_explains(self) -> None:
        held = replace(rate(UDP, 500), mark="tester-limit")
        (found,) = self.judged(series("tcp", rate(TCP, 900)), series("udp", held))
        self.assertIn("udp was limited by the sending host", found.reason)

    def test_what_was_not_measured_is_named(self) -> None:
        (found,) = self.judged(series("tcp", rate(TCP, 900)), series("udp"))
        self.assertEqual(found.verdict, "RETEST")
        self.assertIn("no run of udp has one", found.reason)
        (found,) = self.judged(series("tcp", rate(TCP, 900)), series("udp", rate(UDP, 900, "receive")))
        self.assertIn("no direction was measured by both", found.reason)
        self.assertEqual([one.verdict for one in judge_agreement(Agreement("a", "b"), {})], ["RETEST"])


class OwnFindings(unittest.TestCase):
    """What tests judge by themselves, over the repeats of a step of a plan."""

    KEPT = Finding("ACCEPT", "voice, send", "loss is 0.0 %, which keeps the promise of at most 0.1 %")
    BROKEN = Finding("REJECT", "voice, send", "loss is 2.3 %, which breaks the promise of at most 0.1 %", "Look.")

    def test_a_promise_is_kept_or_broken_by_all_runs(self) -> None:
        (kept,) = over_repeats("users", [[self.KEPT], [replace(self.KEPT, reason="loss is 0.1 %, kept")]])
        self.assertEqual((kept.verdict, kept.where), ("ACCEPT", "users, voice, send"))
        self.assertEqual(kept.subject, "users, voice, send: loss")
        (broken,) = over_repeats("users", [[self.BROKEN], [self.BROKEN]])
        self.assertEqual((broken.verdict, broken.advice), ("REJECT", "Look."))

    def test_one_that_is_kept_at_times_decides_nothing(self) -> None:
        (found,) = over_repeats("users", [[self.KEPT], [self.BROKEN], [self.KEPT]])
        self.assertEqual(found.verdict, "RETEST")
        self.assertIn("kept in 2 of 3 runs; in one, loss is 2.3 %", found.reason)
        self.assertEqual(list(over_repeats("users", [[], []])), [])
