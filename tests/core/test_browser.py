"""What is made of what a browser measured, without a browser."""

import unittest
from dataclasses import replace

from harvok.core.ends import TWO_WAY
from harvok.core.figures import find
from harvok.core.procedure import Context, Findings
from harvok.core.procedures.browser import BrowserTest, browser_test
from harvok.core.trials.browser import BrowserTrial, BrowserTrialResult, PageReport
from harvok.core.trials.tcp import Connection, DirectionResult, TcpInfo, TcpInterval, TcpSummary

PAGE = PageReport([0.002, 0.001, 0.003, 0.010], clock_step_s=1e-4)
EVEN = TcpInfo(rtt_us=1000, min_rtt_us=1000, busy_us=0, window_limited_us=0, buffer_limited_us=0, sent_bytes=0)


def direction(name: str, bps: float, window_limited: float = 0.0) -> DirectionResult:
    """Four seconds of a steady goodput; the station's kernel was held back by the window for a share of the time."""
    sender, receiver, ticks = [], [], []
    for index in range(4):
        ticks = [((10 * index + n) / 10, int(bps / 8 * (10 * index + n) / 10)) for n in range(1, 11)]
        busy_us = (index + 1) * 1_000_000
        info = replace(
            EVEN, busy_us=busy_us, window_limited_us=int(busy_us * window_limited), peer_window_bytes=4_000_000
        )
        span = (index, float(index), index + 1.0)
        receiver.append(TcpInterval(name, "receiver", *span, ticks, [int(bps / 8)], []))
        sender.append(TcpInterval(name, "sender", *span, [], [int(bps / 8)], [info]))
    total = TcpSummary(name, "receiver", 4.0, [int(bps / 2)], [])
    if TWO_WAY[name].role_at("far") == "receiver":
        return DirectionResult(name, [], receiver, None, total)
    made = Connection(0, "192.0.2.1:1", "192.0.2.2:2", 1, 1, handshake=EVEN)
    return DirectionResult(name, sender, receiver, replace(total, role="sender", connections=[made]), total)


def answer(trial: BrowserTrial, page: PageReport = PAGE, gaps: float = 0.0, **directions: float) -> BrowserTrialResult:
    bps = {"receive": 80e6, "send": 40e6}
    results = [direction(one.name, bps[one.name], directions.get(one.name, 0.0)) for one in trial.streams]
    return BrowserTrialResult(results, page, gaps)


class Procedure(unittest.TestCase):
    def run_test(self, **answers: object) -> Findings:
        findings = Findings()
        procedure = browser_test(BrowserTest(duration_s=4.0), Context(), findings)
        trial = next(procedure)
        while trial:
            try:
                trial = procedure.send(answer(trial, **answers))  # type: ignore[arg-type]
            except StopIteration:
                break
        return findings

    def test_it_looks_at_rest_then_each_way_then_both(self) -> None:
        test = BrowserTest(connections=3, duration_s=4.0, idle_s=2.0)
        self.assertEqual([trial.load for trial in test.trials], ["idle", "receive", "send", "both"])
        self.assertEqual([trial.duration_s for trial in test.trials], [2.0, 4.0, 4.0, 4.0])
        self.assertEqual([trial.connections for trial in test.trials], [3, 3, 3, 2], "a browser opens six to one host")
        self.assertEqual(test.expected_s, 14.0)

    def test_no_direction_is_added_to_another_and_both_at_once_has_figures_of_its_own(self) -> None:
        figures = self.run_test().figures
        for quantity in ("goodput-settled", "goodput-both-ways"):
            found = {f.labels["direction"]: round(f.value / 1e6) for f in figures if f.quantity == quantity}
            self.assertEqual(found, {"receive": 80, "send": 40})
        self.assertEqual(len({figure.key for figure in figures}), len(figures))
        self.assertEqual(find(figures, "page-response-median", load="idle"), 0.0025)
        self.assertEqual(find(figures, "page-response-p95", load="send"), 0.010)
        self.assertEqual(find(figures, "rtt-mean", direction="send"), None, "a receiver's kernel does not tell")

    def test_a_window_that_the_browser_shut_is_the_browser(self) -> None:
        received, sent = self.run_test(receive=0.6).readings
        self.assertEqual((received.limiter.kind, received.limiter.blame), ("browser", "tester"))
        self.assertIn("60.0 %", received.limiter.evidence)
        self.assertNotEqual(sent.limiter.kind, "browser")

    def test_a_page_that_could_not_run_and_uploads_that_paused_are_the_browser(self) -> None:
        held = self.run_test(page=replace(PAGE, held_up=0.4)).readings
        self.assertEqual([reading.limiter.kind for reading in held], ["browser", "browser"])
        paused = self.run_test(gaps=0.2).readings
        self.assertEqual([reading.limiter.kind for reading in paused], ["unknown", "browser"])

    def test_what_the_page_lacked_is_said(self) -> None:
        notices = self.run_test(page=replace(PAGE, failed=2, clock_step_s=0.002)).notices
        self.assertIn("idle: 2 of 6 short requests got no answer", notices)
        self.assertTrue(any("two steps of the browser's clock" in notice for notice in notices), notices)
        self.assertFalse(self.run_test(page=PageReport()).notices, "no answer, no figure, no complaint of its clock")
