import io
import json
import tempfile
import unittest
from collections.abc import Callable, Sequence
from contextlib import closing
from dataclasses import replace
from typing import Any

from rich.console import Console

from harvok.cli.render.compare import show_comparison
from harvok.cli.render.delay import DelayView, show_delay
from harvok.cli.render.emulator import show_emulator
from harvok.cli.render.impair import ImpairView, report_as_json, show_answer, show_impairment, words_of
from harvok.cli.render.link import LinkView, show_link
from harvok.cli.render.logbook import show_lines
from harvok.cli.render.plan import PlanView
from harvok.cli.render.preflight import CheckView
from harvok.cli.render.record import show_record
from harvok.cli.render.run_view import show_repeats, show_run
from harvok.cli.render.sweep import readings_as_json, show_sweep
from harvok.cli.render.udp import UdpRows, UdpView
from harvok.cli.render.views import view_of
from harvok.cli.verdicts import exit_code_of
from harvok.core.conditions import InterfaceFacts
from harvok.core.ends import SEND
from harvok.core.figures import Figure
from harvok.core.impairment import DirectionReport, Impairment, ImpairmentReport, Stage
from harvok.core.judgement.assessment import Criterion
from harvok.core.judgement.compare import Criteria, compare
from harvok.core.judgement.finding import Finding
from harvok.core.judgement.sample import Series
from harvok.core.kinds.table import kind_of
from harvok.core.link import Link
from harvok.core.models.preflight import Check
from harvok.core.models.run import PortRecord, RunRecord, TrialRecord
from harvok.core.observer import Observer, RunOutline
from harvok.core.procedures.delay import DelayTest
from harvok.core.procedures.emulator import EmulatorTest
from harvok.core.procedures.frames import FrameSettings, FrameSize
from harvok.core.procedures.link import LinkTest, figures_of
from harvok.core.procedures.udp import AnyUdpTest, UdpLoadTest, UdpSearchTest, UdpServicesTest, UdpStepsTest
from harvok.core.samples import Sample, SampleTable, replayed
from harvok.core.sweeps.reading import SweepReading, Swept, read_sweep
from harvok.core.trials.any import Trial, TrialOutcome, TrialResult, outcome_of
from harvok.core.trials.delay import DelayTrial, DelayTrialResult, Echo
from harvok.core.trials.link import LinkOutcome, LinkTrial, link_event, link_ups
from harvok.core.trials.udp import UdpTrial
from harvok.core.udp.rows import UdpRowJoiner
from harvok.core.udp.services import ServiceLimits, ServiceSpec
from harvok.logbook.store import Logbook
from harvok.rigs.impairment_files import read_impairment
from harvok.runner.request import PortPlace
from harvok.runner.samples import sample_of
from harvok.testing.measuring import findings_of
from harvok.testing.paths import SimulatedPath
from tests.cli.test_views import a_request
from tests.core.test_sweep import FIGURES, TheReading, point, series
from tests.logbook.test_logbook import record

SPEC = ServiceSpec(12.144e6, frame_bytes=1518)
PATTERN = UdpTrial((), (), 1.0)
OUTLINE = RunOutline("r1", 1, 2, "dome", "hall", Link(), 4)


def screen(terminal: bool = False, width: int = 110) -> tuple[Console, io.StringIO]:
    out = io.StringIO()
    return Console(file=out, width=width, height=40, force_terminal=terminal, color_system=None, highlight=False), out


def said(show: Callable[[Console], Any]) -> str:
    console, out = screen()
    show(console)
    return out.getvalue()


class TrialKeeper(Observer):
    """Puts trials together as the journal does."""

    def __init__(self) -> None:
        self.trials: list[TrialRecord] = []
        self._trial: Trial | None = None

    def trial_started(self, number: int, trial: Trial) -> None:
        self._trial, self._table = trial, SampleTable()

    def samples(self, samples: Sequence[Sample]) -> None:
        self._table.add(samples)

    def trial_finished(self, number: int, result: TrialResult | TrialOutcome) -> None:
        assert self._trial
        self.trials.append(TrialRecord(trial=self._trial, result=outcome_of(result), samples=self._table.columns))


def udp_record(path: SimulatedPath, test: AnyUdpTest) -> RunRecord:
    keeper = TrialKeeper()
    findings = findings_of(test, path, observer=keeper)
    judged = kind_of(test).judge(test, findings, [])
    return record().model_copy(
        update={"test": test, "trials": keeper.trials, "figures": findings.figures, "readings": [], "findings": judged}
    )


class UdpRuns(unittest.TestCase):
    LOAD = UdpLoadTest("send", PATTERN, (SPEC,))

    def shown(self, path: SimulatedPath, test: AnyUdpTest) -> str:
        return said(lambda console: show_run(console, udp_record(path, test), view_of(test).show))

    def test_a_load_that_arrives_whole(self) -> None:
        text = self.shown(SimulatedPath(lambda _: (0.005,)), self.LOAD)
        self.assertIn("received 12.14 Mb/s of 12.14 Mb/s sent, in frames of 1518 B (L2); payload 11.78 Mb/s", text)
        self.assertIn("lost 0 of 1000 datagrams", text)
        self.assertIn("one-way delay min 5.000 ms", text)
        self.assertIn("limiter: none found", text)

    def test_losses_with_their_gaps_and_whose_they_are(self) -> None:
        text = self.shown(SimulatedPath(lambda n: () if 100 <= n < 107 or n == 500 else (0.001,)), self.LOAD)
        self.assertIn("lost 8 of 1000 datagrams (0.800 %), in 2 gaps, the longest 7 (7.000 ms)", text)
        self.assertIn("lost on the path 8", text)
        self.assertIn("limiter: loss", text)
        text = self.shown(SimulatedPath(lambda n: () if n < 9 else (0.001,), socket_drops=9), self.LOAD)
        self.assertIn("dropped by the receiving socket 9", text)
        self.assertIn("limiter: the receiving host", text)

    def test_clocks_that_are_known_only_so_well(self) -> None:
        text = self.shown(SimulatedPath(lambda _: (0.005,), clock_ahead_s=2.0, clock_error_s=80e-6), self.LOAD)
        self.assertIn("clocks known to ± 80.00 µs", text)

    def test_steps_mark_what_the_tester_could_not_send(self) -> None:
        test = UdpStepsTest("each", PATTERN, (SPEC,), (0.5, 1.0))
        text = self.shown(SimulatedPath(host_fps=700), test)
        self.assertEqual(text.count("6.072 Mb/s"), 6)
        self.assertEqual(text.count(" *"), 2)
        self.assertIn("limited by the tester", text)

    def test_a_search(self) -> None:
        test = UdpSearchTest("send", PATTERN, (SPEC,), resolution=0.02)
        self.assertIn("is the highest rate losing nothing (L2", self.shown(SimulatedPath(carries_fps=500), test))
        self.assertIn("all that was asked for", self.shown(SimulatedPath(), test))
        self.assertIn("this tester's limit", self.shown(SimulatedPath(host_fps=300), test))

    def test_services_with_their_verdicts(self) -> None:
        specs = tuple(
            ServiceSpec(1e6, 500, name=f"service {n}", limits=ServiceLimits(0.01, 0.004, 0.002)) for n in range(4)
        )
        test = UdpServicesTest("send", PATTERN, specs, together_s=1.0)
        text = self.shown(SimulatedPath(lambda _: (0.005,)), test)
        self.assertIn("REJECT  32 of", text)
        self.assertIn("service 3, all services, send: mean one-way delay 5.000 ms, which misses the 4.000 ms", text)
        for line in text.splitlines():
            self.assertLessEqual(len(line.rstrip()), 125)

    def test_repeats(self) -> None:
        one = udp_record(SimulatedPath(), self.LOAD)
        text = said(lambda console: show_repeats(console, [one] * 5))
        self.assertIn("received UDP rate", text)

    def test_the_whole_record(self) -> None:
        text = said(lambda console: show_record(console, udp_record(SimulatedPath(), self.LOAD)))
        self.assertIn("trial 1: send →, load 12.14 Mb/s", text)


class UdpWhileItRuns(unittest.TestCase):
    def run_view(self, terminal: bool) -> str:
        console, out = screen(terminal)
        test = UdpLoadTest("both", PATTERN, (replace(SPEC, name="data"),))
        view = UdpView(console, view_of(test).show, a_request(test))
        view.run_started(OUTLINE)
        findings_of(test, SimulatedPath(lambda n: (0.001,) if n % 9 else ()), observer=view)
        view.notice("a remark")
        view.record(udp_record(SimulatedPath(), test))
        view.close()
        return out.getvalue()

    def test_a_run_of_a_plan_is_followed_with_its_limits_on_a_terminal(self) -> None:
        test = UdpLoadTest("receive", UdpTrial((), (), 3.0, 1.0), (SPEC,))
        limits = (
            Criterion("udp-goodput", "voice", minimum=1e12),
            Criterion("datagram-loss", "voice", minimum=0.0, maximum=0.1),
        )
        for terminal in (False, True):
            console, out = screen(terminal)
            view = PlanView(console, "lead", waits=False)
            view.bench("voice", "Plug in lead A.")
            view.follow(replace(a_request(test), limits=limits))
            view.run_started(OUTLINE)
            findings_of(test, SimulatedPath(), observer=view)
            view.notice("a remark")
            view.record(udp_record(SimulatedPath(), test).model_copy(update={"series": "lead.voice"}))
            view.close()
            self.assertEqual("too low (min 1.000 Tb/s)" in out.getvalue(), terminal, out.getvalue())
            self.assertIn("  voice: ", out.getvalue())
            self.assertNotIn("dome – hall", out.getvalue())

    def test_lines_and_a_table(self) -> None:
        plain = self.run_view(terminal=False)
        self.assertIn("dome – hall  run r1, repeat 1 of 2", plain)
        self.assertIn("0.0 to 1.0 s, receive of data: payload sent 11.78 Mb/s, received 10.4", plain)
        self.assertIn("a remark", plain)
        self.assertIn("missing", self.run_view(terminal=True))

    def test_rows_fit_eighty_columns_and_leave_out_what_did_not_happen(self) -> None:
        trial = replace(PATTERN, services=(SPEC.at(1.0, 4),), streams=(SEND,))
        keeper = TrialKeeper()
        keeper.trial_started(1, trial)
        path = SimulatedPath(lambda n: (0.001, 0.002) if n % 50 == 0 else (0.001,))
        keeper.trial_finished(1, path.run(trial, keeper))
        (row,) = UdpRowJoiner().add(replayed(keeper.trials[0].samples))
        self.assertIn("missing 0; duplicates 20; jitter", UdpRows(trial).line(row))
        console, out = screen(width=80)
        console.print(UdpRows(trial).table([row]))
        self.assertLessEqual(max(map(len, out.getvalue().splitlines())), 80)


class Delays(unittest.TestCase):
    def record(self, loads: tuple[Any, ...] = ()) -> RunRecord:
        class Rig:
            def run(self, trial: DelayTrial, observer: Observer) -> DelayTrialResult:
                more = 0.010 if trial.load else 0.0
                echoes = [Echo(n, n * 0.1, None if n == 3 else 0.001 + more + n * 1e-6) for n in range(trial.packets)]
                for echo in echoes:
                    observer.samples(list(echo.samples(0.0)))
                load_bps = 94e6 if trial.load else None
                return DelayTrialResult("stamp", 1, 2, 1, 1, 0, load_bps, echoes=echoes)

        test, keeper = DelayTest(DelayTrial(20, 0.1), loads), TrialKeeper()
        findings = findings_of(test, Rig(), observer=keeper)
        changed = {"test": test, "trials": keeper.trials, "figures": findings.figures, "readings": []}
        return record().model_copy(update=changed)

    def test_figures_and_the_rest(self) -> None:
        text = " ".join(said(lambda console: show_delay(console, self.record())).split())
        self.assertIn("5.0 %", text)
        self.assertIn("1 of 20 packets lost: 1 on the way out, 0 on the way back", text)
        self.assertIn("1 duplicates; 2 out of order; 1 answers refused", text)

    def test_under_load(self) -> None:
        made = self.record(("tcp-send", "tcp-receive"))
        text = said(lambda console: show_delay(console, made))
        self.assertIn("tcp-send adds 10.00 ms to the median delay", text)
        self.assertIn("the load carried 94.00 Mb/s of payload", text)
        self.assertIn("delay under load", made.test.title)
        whole = said(lambda console: show_record(console, made))
        self.assertIn("near end", whole)

    def test_while_it_runs(self) -> None:
        for terminal in (False, True):
            console, out = screen(terminal)
            view = DelayView(console, show_delay, a_request(DelayTest(DelayTrial(20, 0.1))))
            view.run_started(OUTLINE)
            view.trial_started(1, DelayTrial(20, 0.1, load="tcp-send"))
            view.samples([*Echo(0, 0.0, 0.001).samples(0.0), *Echo(1, 0.1).samples(0.0)])
            view.record(self.record())
            view.close()
            self.assertIn("dome – hall", out.getvalue())


class Links(unittest.TestCase):
    EVENTS = [
        link_event(0.0, "up", "eth1", 10e9, "full"),
        link_event(3.0, "no link", "eth1"),
        link_event(5.0, "up", "eth1", 2.5e9, "half", missed=1),
        link_event(9.0, "down", "eth1"),
    ]

    def test_a_watch(self) -> None:
        test = LinkTest(LinkTrial("eth1"), 10e9)
        ups = link_ups(self.EVENTS)
        finding = Finding("REJECT", "eth1", "once below", "Swap the lead.")
        made = record().model_copy(
            update={
                "test": test,
                "rig": PortRecord(port=InterfaceFacts(name="eth1", kind="physical")),
                "trials": [TrialRecord(trial=test.trial, result=LinkOutcome(2), events=self.EVENTS)],
                "figures": figures_of(ups),
                "findings": [finding],
                "readings": [],
            }
        )
        text = said(lambda console: show_record(console, made))
        self.assertIn("5.0 s  up at 2.5 Gb/s half duplex; went down and up once in between", text)
        self.assertIn("link-ups: 1 × 10 Gb/s, 1 × 2.5 Gb/s half duplex", text)
        self.assertIn("REJECT eth1: once below", text)
        self.assertIn("eth1", said(lambda console: show_record(console, made)))
        console, out = screen()
        view = LinkView(console, show_link, a_request(test, PortPlace()))
        view.happened(self.EVENTS[3:])
        view.notice("x")
        view.record(made)
        self.assertIn("9.0 s  down", out.getvalue())


class Preflights(unittest.TestCase):
    def test_the_sum(self) -> None:
        checks = [Check("name", "ok", "hall is there"), Check("clocks", "warning", "apart", "Keep them in step.")]
        for outcome, words in (("ok", "1 warning to keep"), ("stop", "1 reason to stop")):
            console, out = screen()
            view = CheckView(console)
            found = [view.show(check) for check in [*checks, Check("data port, UDP", outcome, "x", "y")]]  # type: ignore[arg-type]
            view.sum_up(found)
            self.assertIn(words, out.getvalue())
            self.assertIn("Keep them in step.", out.getvalue())
        console, out = screen()
        CheckView(console).sum_up(checks[:1])
        self.assertIn("nothing stands in the way", out.getvalue())


class Impairments(unittest.TestCase):
    REPORT = ImpairmentReport(
        2.0, 0, [DirectionReport("send", 1000, 10**6, 990, 990_000, 10, given_median_s=0.005, too_large=3),
                 DirectionReport("receive", 5, 500, 5, 500, overrun=2)],
    )  # fmt: skip

    def test_in_words(self) -> None:
        everything = Impairment(
            0.005, 0.001, loss=0.01, burst_loss=0.02, burst_frames=3, reordering=0.1, duplication=0.2, corruption=0.3,
            rate_bps=1e8,
        )  # fmt: skip
        self.assertEqual(len(words_of(everything)), 7)
        self.assertEqual(
            words_of(Impairment(spread="recorded", recorded_s=(1.0, 2.0))), ["delays drawn from 2 recorded ones"]
        )
        text = said(lambda console: show_impairment(console, read_impairment("congested-uplink")))
        self.assertIn("receive ← delay 5.000 ms", text)

    def test_while_one_runs_and_at_its_end(self) -> None:
        for terminal in (False, True):
            console, out = screen(terminal)
            view = ImpairView(console, ("eth1", "eth2"))
            view.begin(read_impairment("metro"))
            view.report(self.REPORT)
            view.close()
            view.sum_up(replace(self.REPORT, over=True))
            self.assertIn("between eth1 and eth2", out.getvalue())
            self.assertIn("3 frames were longer than a port carries", out.getvalue())
            self.assertIn("2 frames found the delay line full", out.getvalue())
        self.assertIn("nothing was reported", said(lambda console: ImpairView(console, ("a", "b")).sum_up(None)))

    def test_answers_and_json(self) -> None:
        reported = {"name": "metro", "process": 7, "report": json.loads(report_as_json(self.REPORT))}
        text = said(lambda console: show_answer(console, "change", reported))
        self.assertIn("metro runs from now on (process 7)", text)
        self.assertIn("990", text)

    def test_the_check_of_an_emulator(self) -> None:
        labels = {"frame-size": "64", "direction": "send"}
        test = EmulatorTest(Stage(0.0), (FrameSize("64", (64,)),), FrameSettings(1e9))
        figures = [Figure("frames-sent", 10.0, labels), Figure("latency-median", 0.035, labels)]
        finding = Finding("REJECT", "64 B, send", "delay set 30 ms", "Calibrate the emulator.")
        made = record().model_copy(update={"test": test, "figures": figures, "findings": [finding], "readings": []})
        text = said(lambda console: show_run(console, made, show_emulator))
        self.assertIn("35.00 ms", text)
        self.assertIn("REJECT 64 B, send: delay set 30 ms", text)


class Sweeps(unittest.TestCase):
    def reading(self, *more: Any) -> SweepReading:
        points = [Swept(where, taken) for where, taken in [*TheReading.CURVE, *more]]
        found = read_sweep(
            "tcp", FIGURES, points, (series(941, 942), series(940, 941)), "send", {"socket-buffer": "setting"}
        )
        assert found
        bounded = [replace(one, bounds={"window / RTT": 5e9}) for one in found.points]
        return replace(found, points=bounded)

    def test_the_matrix_and_its_words(self) -> None:
        text = said(lambda console: show_sweep(console, "path", [self.reading(*TheReading.FLAT)]))
        self.assertIn("knee: from socket-buffer 4096k on, nothing is gained", text)
        self.assertIn("recommended here: socket-buffer 4096k", text)
        self.assertIn("5000.0 Mb/s", text)
        self.assertIn("no knee", said(lambda console: show_sweep(console, "path", [self.reading()])))
        wild = self.reading((point(4096), series(100, 900)))
        self.assertIn("tells neither", said(lambda console: show_sweep(console, "path", [wild])))

    def test_as_json(self) -> None:
        reported = json.loads(readings_as_json("path", [self.reading()]))
        self.assertEqual((reported["format"], len(reported["readings"][0]["points"])), ("harvok-sweep", 3))


class ExitCodes(unittest.TestCase):
    def test_the_worst_counts(self) -> None:
        accept, reject, retest = (Finding(verdict, "", "") for verdict in ("ACCEPT", "REJECT", "RETEST"))
        for findings, code in (([], 0), ([accept], 0), ([accept, retest], 3), ([retest, reject, accept], 1)):
            self.assertEqual(exit_code_of(findings), code)


class Elsewhere(unittest.TestCase):
    """Comparisons, lists and reports know the new kinds."""

    def build(self, path: SimulatedPath, number: int) -> RunRecord:
        made = udp_record(path, UdpLoadTest("send", PATTERN, (SPEC,)))
        return made.model_copy(update={"id": f"20261123-08{number:04}-dome"})

    def test_two_series_are_compared(self) -> None:
        def taken(carries_fps: float) -> Series:
            paths = (SimulatedPath(carries_fps=carries_fps + number) for number in range(5))
            return Series("x", [sample_of(self.build(path, number)) for number, path in enumerate(paths)])

        found = compare(taken(900), taken(700), Criteria())
        self.assertEqual(found.verdict, "REJECT")
        text = said(lambda console: show_comparison(console, found))
        self.assertIn("received UDP rate", text)
        self.assertIn("datagram loss", text)
        self.assertEqual(compare(taken(900), taken(900), Criteria()).verdict, "ACCEPT")

    def test_a_load_that_the_tester_did_not_send_is_no_verdict(self) -> None:
        short = Series("x", [sample_of(self.build(SimulatedPath(host_fps=500 + n), n)) for n in range(5)])
        whole = Series("y", [sample_of(self.build(SimulatedPath(), n)) for n in range(5)])
        self.assertEqual(compare(whole, short, Criteria()).verdict, "RETEST")

    def test_a_list_shows_the_rate(self) -> None:
        with tempfile.TemporaryDirectory() as folder, closing(Logbook(f"{folder}/book.sqlite")) as logbook:
            logbook.add(self.build(SimulatedPath(), 1))
            text = said(lambda console: show_lines(console, logbook.lines(), 1, "here"))
        self.assertIn("12.14 Mb/s", text)
        self.assertIn("udp send", text)
