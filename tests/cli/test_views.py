import io
import unittest
from dataclasses import replace

import typer
from rich.console import Console

from harvok.cli.options import attributes, duration, percent, rate, size
from harvok.cli.render.compare import show_comparison
from harvok.cli.render.logbook import show_lines
from harvok.cli.render.run_view import show_repeats, show_run
from harvok.cli.render.tcp import TcpRows, TcpView, show_tcp
from harvok.core.ends import SEND, CpuUse
from harvok.core.judgement.compare import Criteria, compare
from harvok.core.judgement.sample import Series
from harvok.core.link import Link
from harvok.core.models.control import Fault
from harvok.core.observer import RunOutline
from harvok.core.procedure import Test
from harvok.core.procedures.tcp import TcpTest
from harvok.core.tcp.rows import IntervalRow, RowJoiner
from harvok.core.trials.tcp import DirectionResult, TcpTrial
from harvok.logbook.listing import HeadlineFigure, RunLine
from harvok.rigs.stations import StationsSettings
from harvok.runner.request import Place, TestRequest
from harvok.runner.samples import sample_of
from harvok.station.contact import Access
from harvok.testing.transfers import samples_of, transfer
from tests.core.test_compare import STEADY, lowered, series
from tests.logbook.test_logbook import LINK, START, record


def screen(terminal: bool = False, height: int = 40) -> tuple[Console, io.StringIO]:
    out = io.StringIO()
    return Console(file=out, width=120, height=height, force_terminal=terminal, color_system=None, highlight=False), out


def a_request(test: Test, place: Place = StationsSettings("hall", Access("token"))) -> TestRequest:
    return TestRequest(place, test, "book.sqlite", ["harvok"])


def rows() -> list[IntervalRow]:
    return joined(transfer(470.7e6, 3))


def joined(result: DirectionResult) -> list[IntervalRow]:
    joiner = RowJoiner(LINK, 4)
    return [row for samples in samples_of([result]) for row in joiner.add(samples)]


class LiveViews(unittest.TestCase):
    def test_a_row_as_words(self) -> None:
        line = TcpRows().line(rows()[1])
        self.assertTrue(line.startswith("1.0 to 2.0 s, send: goodput 470.7 Mb/s"))
        for words in (
            "50.0 % of the ceiling",
            "retransmitted 0 B",
            "near 20.0 %",
        ):
            self.assertIn(words, line)

    def test_a_system_that_tells_nothing_leaves_it_out(self) -> None:
        bare = replace(
            rows()[0], ceiling_share=None, retransmitted_bytes=None, cwnd_bytes=None, rtt_mean_s=None, core_near=None
        )
        self.assertEqual(TcpRows().line(bare), "0.0 to 1.0 s, send: goodput 470.7 Mb/s")
        console, out = screen()
        console.print(TcpRows().table([bare]))
        self.assertEqual(out.getvalue().count("–"), 5)

    def test_every_table_fits_eighty_columns(self) -> None:
        console, out = screen()
        console.width = 80
        hot = CpuUse([1.0], [1.0])
        result = transfer(99.99e9, 3, direction="receive", near_cpu=hot, far_cpu=hot)
        console.print(TcpRows().table(joined(result)))
        show_run(console, record(), show_tcp)
        show_repeats(console, [record(n) for n in range(5)])
        runs = [[sample_of(record(n, megabits=value)) for n, value in enumerate(STEADY)] for _ in range(2)]
        show_comparison(console, compare(Series("before", runs[0]), Series("after", runs[1]), Criteria()))
        line = RunLine(
            "20261123-083840-6wvr", START, "complete", "tcp each", "dome – hall", "before-recabling", "", {},
            [HeadlineFigure("goodput-settled", {"direction": "send"}, 12.34e9)],
        )  # fmt: skip
        show_lines(console, [line], 1, "book.sqlite")
        said = out.getvalue()
        self.assertNotIn("…", said)
        for whole in (
            "RTT min/mean CPU near/far",
            "retransmitted bytes  send",
            "99.99 Gb/s",
            "100/100 %",
            "before-recabling → 12.34 Gb/s",
        ):
            self.assertIn(whole, said)

    def test_on_a_terminal_the_table_grows_within_the_screen(self) -> None:
        console, out = screen(terminal=True, height=14)
        view = TcpView(console, show_tcp, a_request(TcpTest("send", TcpTrial(()))))
        view.run_started(RunOutline("id", 2, 5, "dome", "hall", LINK, 4))
        view.trial_started(1, TcpTrial((SEND,), duration_s=30.0))
        reported = [*samples_of([transfer(400e6, 30)])]
        for sender, receiver in zip(reported[:30], reported[30:], strict=True):
            view.samples(receiver)
            view.samples(sender)
        view.close()
        said = out.getvalue()
        for words in ("dome (dome0) – hall (hall0)", "repeat 2 of 5", "24 earlier rows", "30.0 send"):
            self.assertIn(words, said)

    def test_without_one_there_are_lines(self) -> None:
        console, out = screen()
        view = TcpView(console, show_tcp, a_request(TcpTest("send", TcpTrial(()))))
        view.run_started(RunOutline("id", 1, 1, "dome", "hall", Link(), 4))
        view.trial_started(1, TcpTrial((SEND,), duration_s=2.0))
        for samples in samples_of([transfer(1e9, 2)]):
            view.samples(samples)
        view.notice("mind the [gap]")
        self.assertEqual(len(out.getvalue().splitlines()), 4)
        self.assertIn("note mind the [gap]", out.getvalue())


class Summaries(unittest.TestCase):
    def test_a_run(self) -> None:
        console, out = screen()
        show_run(console, record(), show_tcp)
        for words in (
            "930.0 Mb/s = 116.2 MB/s",
            "98.8 % of the ceiling 941.5 Mb/s",
            "rated 1 Gb/s",
            "limiter: the link",
        ):
            self.assertIn(words, out.getvalue())

    def test_a_broken_run_says_why_and_what_is_left(self) -> None:
        console, out = screen()
        fault = Fault(reference="station-lost", message="the station went away", hint="look")
        show_run(console, record(state="broken").model_copy(update={"fault": fault, "readings": []}), show_tcp)
        self.assertIn("BROKEN the station went away", out.getvalue())
        self.assertIn("recorded of it: 1 complete trial\n", out.getvalue())

    def test_repeats(self) -> None:
        console, out = screen()
        show_repeats(console, [record(n, megabits=value) for n, value in enumerate((900, 930, 931, 932, 990))])
        self.assertIn("931.0 Mb/s", out.getvalue())
        few, said = screen()
        show_repeats(few, [record(), record(1)])
        self.assertIn("too few repeats to trim", said.getvalue())

    def test_no_runs_yet(self) -> None:
        console, out = screen()
        show_lines(console, [], 0, "book.sqlite")
        self.assertIn("harvok demo", out.getvalue())

    def test_a_comparison_starts_with_the_verdict(self) -> None:
        console, out = screen()
        after = series("after", lowered(9), near__mtu="9000 B")
        show_comparison(console, compare(series("before", STEADY), after, Criteria(), ["mtu"]))
        said = out.getvalue()
        self.assertTrue(said.startswith("REJECT  after against before"))
        for words in (
            "misses the limit of 2.0 % regression",
            "near.mtu",
            "1500 B",
            "9000 B",
            "changed on purpose",
            "5 runs before",
        ):
            self.assertIn(words, said)


class Options(unittest.TestCase):
    def test_quantities_are_bounded_and_say_what_they_want(self) -> None:
        self.assertEqual((rate()("1G"), size(1, 10**6)("64k"), duration(0, 60)("2s")), (1e9, 64_000, 2.0))
        for parse, text, words in (
            (rate(), "1", "outside 1.000 kb/s"),
            (size(1000, 2000), "3k", "outside 1000 B to 2000 B"),
            (duration(1, 60), "2h", "outside 1 s to 1 min"),
            (percent, "half", "such as 95"),
            (percent, "101", "0 to 100"),
        ):
            with self.assertRaisesRegex(typer.BadParameter, words):
                parse(text)
        self.assertEqual([percent(text) for text in ("95", "2.5%", " 0 % ")], [0.95, 0.025, 0.0])

    def test_attributes(self) -> None:
        self.assertEqual(attributes(["length=15", " unit = SN=7 "]), {"length": "15", "unit": "SN=7"})
        for pair in ("length", "=15", ""):
            with self.assertRaises(typer.BadParameter):
                attributes([pair])
