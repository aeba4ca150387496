import unittest
from dataclasses import replace

from harvok.core.drive import drive
from harvok.core.ends import RECEIVE, SEND
from harvok.core.figures import Figure, find
from harvok.core.judgement.services import judge_services
from harvok.core.link import Link
from harvok.core.observer import Observer
from harvok.core.procedure import Context, Findings
from harvok.core.procedures.udp import (
    ALL_TOGETHER,
    UdpLoadTest,
    UdpSearchTest,
    UdpServicesTest,
    UdpStepsTest,
    udp_search,
)
from harvok.core.trials.udp import UdpInterval, UdpService, UdpTrial
from harvok.core.udp.reading import read_trial
from harvok.core.udp.rows import UdpRowJoiner
from harvok.core.udp.service_file import SERVICES_FILE
from harvok.core.udp.services import ServiceLimits, ServiceSpec
from harvok.errors import TesterLimitError, UsageError
from harvok.testing.measuring import findings_of
from harvok.testing.paths import FrameImpairer, SimulatedPath

PATTERN = UdpTrial((), (), duration_s=2.0)
MEGA = ServiceSpec(rate_bps=12.144e6, frame_bytes=1518)  # 1000 datagrams a second


class ReadingATrial(unittest.TestCase):
    def read(self, fate: FrameImpairer, **path: float) -> dict[str, float]:
        test = UdpLoadTest("send", PATTERN, (MEGA,))
        figures = findings_of(test, SimulatedPath(fate, **path)).figures  # type: ignore[arg-type]
        return {figure.quantity: figure.value for figure in figures}

    def test_a_path_that_does_nothing(self) -> None:
        got = self.read(lambda _: (0.035,))
        self.assertAlmostEqual(got["udp-offered"], 12.144e6)
        self.assertAlmostEqual(got["udp-received"], 12.144e6)
        self.assertAlmostEqual(got["udp-goodput"], 1000 * 1472 * 8)
        self.assertAlmostEqual(got["one-way-delay-mean"], 0.035, places=9)
        self.assertEqual((got["datagram-loss"], got["jitter"], got["delay-variation-p999"]), (0, 0, 0))

    def test_every_tenth_lost_and_a_run_of_fifty(self) -> None:
        got = self.read(lambda number: () if number % 10 == 5 or 1000 <= number < 1050 else (0.001,))
        self.assertEqual(got["datagram-loss"], (200 + 45) / 2000)
        self.assertEqual(got["loss-run-longest"], 50)

    def test_nothing_arrives_after_a_point(self) -> None:
        got = self.read(lambda number: (0.001,) if number < 1500 else ())
        self.assertEqual((got["datagram-loss"], got["loss-run-longest"]), (0.25, 500))

    def test_nothing_arrives_at_all(self) -> None:
        got = self.read(lambda _: ())
        self.assertEqual((got["datagram-loss"], got["loss-run-longest"]), (1.0, 2000))
        self.assertNotIn("jitter", got)

    def test_duplicates_and_reordering(self) -> None:
        got = self.read(lambda number: (0.001, 0.0015) if number % 100 == 0 else (0.001,))
        self.assertEqual((got["datagram-duplicates"], got["datagram-loss"]), (0.01, 0))
        got = self.read(lambda number: (0.0035,) if number % 100 == 0 else (0.001,))
        self.assertEqual((got["datagram-reordered"], got["datagram-loss"]), (0.01, 0))

    def test_delay_is_right_whatever_the_far_clock_says(self) -> None:
        got = self.read(lambda _: (0.010,), clock_ahead_s=-300.0, clock_error_s=0.0002)
        self.assertAlmostEqual(got["one-way-delay-mean"], 0.010, places=6)
        self.assertEqual(got["clock-error"], 0.0002)

    def test_variation_of_two_delays(self) -> None:
        got = self.read(lambda number: (0.012,) if number % 50 == 0 else (0.010,))
        self.assertAlmostEqual(got["delay-variation-median"], 0.0, places=6)
        self.assertAlmostEqual(got["delay-variation-p99"], 0.002, delta=2e-5)


class WhatLimited(unittest.TestCase):
    TRIAL = UdpTrial((UdpService(1000.0, 1472),), (SEND,), 1.0)

    def kind(self, path: SimulatedPath) -> str:
        return read_trial(self.TRIAL, path.run(self.TRIAL, Observer()), 4)[0].limiter.kind

    def test_whose_fault_it_was(self) -> None:
        lossy: FrameImpairer = lambda number: () if number % 10 else (0.001,)  # noqa: E731
        self.assertEqual(self.kind(SimulatedPath()), "none")
        self.assertEqual(self.kind(SimulatedPath(lossy)), "loss")
        self.assertEqual(self.kind(SimulatedPath(lossy, socket_drops=900)), "receiving-host")
        mild: FrameImpairer = lambda number: (0.001,) if number % 100 else ()  # noqa: E731
        self.assertEqual(self.kind(SimulatedPath(mild, host_fps=900)), "sending-host")

    def test_the_largest_of_several_causes_is_named_and_the_others_beside_it(self) -> None:
        path = SimulatedPath(lambda _: (), host_fps=990)
        (reading,) = read_trial(self.TRIAL, path.run(self.TRIAL, Observer()), 4)
        self.assertEqual((reading.limiter.kind, reading.limiter.blame), ("loss", "equipment"))
        self.assertIn("990 of 990 datagrams were lost on the path", reading.limiter.evidence)
        self.assertIn("the sending host managed 99.0 % of the load", reading.limiter.evidence)

    def test_what_is_prohibited_is_a_matter_of_a_firewall(self) -> None:
        result = SimulatedPath(lambda _: ()).run(self.TRIAL, Observer())
        (direction,) = result.directions
        sent = [replace(flow, prohibited=12) for flow in direction.sender.sent]
        told = replace(result, directions=[replace(direction, sender=replace(direction.sender, sent=sent))])
        (reading,) = read_trial(self.TRIAL, told, 4)
        self.assertEqual(reading.limiter.kind, "firewall")
        self.assertIn("somebody answered 12 times that they are prohibited", reading.limiter.evidence)

    def test_a_load_held_within_a_fifth_of_a_percent_is_held(self) -> None:
        trial = replace(self.TRIAL, services=(UdpService(10_000.0, 100),))
        for host_fps, kind in ((9981, "none"), (9979, "sending-host")):
            path = SimulatedPath(host_fps=host_fps)
            self.assertEqual(read_trial(trial, path.run(trial, Observer()), 4)[0].limiter.kind, kind)

    def test_no_more_drops_than_losses(self) -> None:
        path = SimulatedPath(lambda number: () if number < 10 else (0.001,), socket_drops=44)
        reading = read_trial(self.TRIAL, path.run(self.TRIAL, Observer()), 4)[0]
        self.assertEqual((reading.lost, reading.socket_drops, reading.path_lost), (10, 10, 0))

    def test_figures_carry_the_testers_mark(self) -> None:
        findings = findings_of(UdpLoadTest("send", PATTERN, (MEGA,)), SimulatedPath(host_fps=500))
        self.assertEqual({figure.mark for figure in findings.figures}, {"tester-limit"})


class Steps(unittest.TestCase):
    def test_each_load_in_each_direction(self) -> None:
        path = SimulatedPath()
        test = UdpStepsTest("each", PATTERN, (MEGA,), (0.5, 1.0))
        figures = findings_of(test, path).figures
        self.assertEqual([trial.streams for trial in path.trials], [(SEND,)] * 2 + [(RECEIVE,)] * 2)
        loads = [figure.labels["load"] for figure in figures if figure.quantity == "udp-offered"]
        self.assertEqual(loads, ["6.072 Mb/s", "12.14 Mb/s"] * 2)

    def test_without_a_pause_each_load_has_flows_of_its_own_in_one_trial(self) -> None:
        path = SimulatedPath(carries_fps=700)
        test = UdpStepsTest("send", PATTERN, (MEGA,), (0.5, 1.0, 0.5), continuous=True)
        figures = findings_of(test, path).figures
        (trial,) = path.trials
        self.assertEqual((trial.duration_s, trial.flows, test.expected_s), (6.0, 3, 6.0))
        self.assertEqual([trial.span_s(service) for service in trial.services], [(0.0, 2.0), (2.0, 4.0), (4.0, 6.0)])
        losses = {f.labels["load"]: f.value for f in figures if f.quantity == "datagram-loss"}
        self.assertEqual(losses, {"6.072 Mb/s": 0.0, "12.14 Mb/s": 0.3, "6.072 Mb/s (2)": 0.0})
        self.assertEqual(len({figure.key for figure in figures}), len(figures))

    def test_how_much_flows_at_once(self) -> None:
        services = (
            UdpService(100, 64, flows=2),
            UdpService(30, 64, begins_s=1, lasts_s=1),
            UdpService(20, 64, lasts_s=1),
        )
        trial = UdpTrial(services, (SEND,), 3.0)
        self.assertEqual(trial.load_at_once_fps(range(4)), 130)
        self.assertEqual(trial.load_at_once_fps([0, 3]), 70)
        self.assertEqual(trial.load_at_once_fps([2, 3]), 30)


class Lapses(unittest.TestCase):
    @staticmethod
    def measured(*hosts_fps: float) -> tuple[int, set[str]]:
        """How many trials one step took on a host that manages each of these rates in turn, and its marks."""

        class Unsteady(SimulatedPath):
            def run(self, trial: UdpTrial, observer: Observer):  # type: ignore[no-untyped-def]
                self.host_fps = hosts_fps[len(self.trials)]
                return super().run(trial, observer)

        path = Unsteady()
        figures = findings_of(UdpStepsTest("send", PATTERN, (MEGA,), (1.0,)), path).figures
        return len(path.trials), {figure.mark for figure in figures}

    def test_a_step_is_measured_again_after_a_lapse_of_the_host(self) -> None:
        self.assertEqual(self.measured(950, 1000), (2, {""}))

    def test_of_several_tries_the_one_with_the_fewest_lapses_counts(self) -> None:
        class Unsteady(SimulatedPath):
            def run(self, trial: UdpTrial, observer: Observer):  # type: ignore[no-untyped-def]
                self.host_fps = (950, 990, 900)[len(self.trials)]
                return super().run(trial, observer)

        test = UdpStepsTest("send", PATTERN, (MEGA,), (0.98, 1.0), continuous=True)
        marked = {f.labels["load"] for f in findings_of(test, Unsteady()).figures if f.mark}
        self.assertEqual(marked, {"12.14 Mb/s"})

    def test_the_third_lapse_counts_as_the_testers(self) -> None:
        self.assertEqual(self.measured(950, 900, 950), (3, {"tester-limit"}))

    def test_a_stall_of_the_receiver_is_a_lapse_as_well(self) -> None:
        class Dropping(SimulatedPath):
            def run(self, trial: UdpTrial, observer: Observer):  # type: ignore[no-untyped-def]
                self.socket_drops = 0 if self.trials else 5
                self.fate = lambda number: () if number < self.socket_drops else (0.001,)
                return super().run(trial, observer)

        path = Dropping()
        figures = findings_of(UdpStepsTest("send", PATTERN, (MEGA,), (1.0,)), path).figures
        self.assertEqual((len(path.trials), {figure.mark for figure in figures}), (2, {""}))

    def test_a_host_far_too_slow_is_not_asked_again(self) -> None:
        self.assertEqual(self.measured(500), (1, {"tester-limit"}))


class Search(unittest.TestCase):
    def test_the_highest_rate_that_arrives_whole(self) -> None:
        test = UdpSearchTest("send", PATTERN, (MEGA,), resolution=0.01)
        findings = findings_of(test, SimulatedPath(carries_fps=620))
        found = find(findings.figures, "udp-throughput") or 0.0
        self.assertLessEqual(found, 620 * 12144)
        self.assertGreater(found, (620 - 12) * 12144)
        self.assertEqual(find(findings.figures, "datagram-loss", load="highest without loss"), 0.0)

    def test_no_more_is_asked_than_the_line_carries(self) -> None:
        """12.144 Mb/s of frames take 12.304 Mb/s of the line: on one of 12.144 there is room for 11.986 Mb/s."""
        path, findings = SimulatedPath(), Findings()
        test = UdpSearchTest("send", PATTERN, (MEGA,), resolution=0.01)
        context = Context(link=Link(rated_bps=MEGA.rate_bps))
        drive(udp_search(test, context, findings), path, Observer(), findings)
        (throughput,) = [one for one in findings.figures if one.quantity == "udp-throughput"]
        self.assertEqual((throughput.mark, round(throughput.value / 1e6, 3)), ("", 11.986))
        self.assertLess(max(trial.services[0].load_fps for trial in path.trials), 987.1)

    def test_one_long_stall_of_the_host_is_no_limit_of_the_tester(self) -> None:
        """A fifth of a load in one trial is a stall; in two it is what the host can do."""

        class StallsOnce(SimulatedPath):
            def run(self, trial: UdpTrial, observer: Observer):  # type: ignore[no-untyped-def]
                self.host_fps = 200 if len(self.trials) == 1 else 1000
                return super().run(trial, observer)

        path = StallsOnce()
        figures = findings_of(UdpSearchTest("send", PATTERN, (MEGA,), resolution=0.01), path).figures
        throughput = next(figure for figure in figures if figure.quantity == "udp-throughput")
        self.assertEqual((throughput.mark, round(throughput.value / 1e6, 1), len(path.trials)), ("", 12.1, 3))

    def test_a_tester_that_cannot_hold_the_load_searches_below_and_says_so(self) -> None:
        test = UdpSearchTest("send", PATTERN, (MEGA,), resolution=0.01)
        figures = findings_of(test, SimulatedPath(host_fps=400)).figures
        throughput = next(figure for figure in figures if figure.quantity == "udp-throughput")
        self.assertEqual(throughput.mark, "tester-limit")
        self.assertAlmostEqual(throughput.value, 400 * 12144, delta=20 * 12144)

    def test_a_host_that_is_half_busy_still_comes_to_the_answer(self) -> None:
        class HalfBusy(SimulatedPath):
            def run(self, trial: UdpTrial, observer: Observer):  # type: ignore[no-untyped-def]
                stalled = len(self.trials) % 2 == 0
                self.host_fps = trial.services[0].load_fps * (0.93 if stalled else 1.0)
                return super().run(trial, observer)

        figures = findings_of(
            UdpSearchTest("send", PATTERN, (MEGA,), resolution=0.01), HalfBusy(carries_fps=620)
        ).figures
        throughput = next(figure for figure in figures if figure.quantity == "udp-throughput")
        self.assertEqual(throughput.mark, "")
        self.assertAlmostEqual(throughput.value, 620 * 12144, delta=12 * 12144)

    @staticmethod
    def searched_with_drops(*drops: int) -> tuple[float, str, int]:
        """What a search finds on a path that carries everything, to a socket that drops so many datagrams of each trial
        in turn, the last number again and again: the share of the load that was asked for, the mark, trials."""

        class Dropping(SimulatedPath):
            def run(self, trial: UdpTrial, observer: Observer):  # type: ignore[no-untyped-def]
                self.socket_drops = drops[min(len(self.trials), len(drops) - 1)]
                self.fate = lambda number: () if number < self.socket_drops else (0.001,)
                return super().run(trial, observer)

        path = Dropping()
        figures = findings_of(UdpSearchTest("send", PATTERN, (MEGA,), resolution=0.01), path).figures
        throughput = next(figure for figure in figures if figure.quantity == "udp-throughput")
        return throughput.value / MEGA.rate_bps, throughput.mark, len(path.trials)

    def test_what_the_receiving_socket_dropped_is_tried_again(self) -> None:
        undisturbed = self.searched_with_drops(0)
        self.assertEqual(undisturbed[:2], (1.0, ""))
        self.assertEqual(self.searched_with_drops(5, 0), (1.0, "", undisturbed[2] + 1))
        self.assertEqual(self.searched_with_drops(5, 9, 0), (1.0, "", undisturbed[2] + 2))

    def test_a_receiver_that_drops_each_time_is_the_testers_limit(self) -> None:
        share, mark, trials = self.searched_with_drops(5, 5, 5, 0)
        self.assertLess(share, 1.0)
        self.assertEqual(mark, "tester-limit")
        self.assertGreater(trials, 3)

    def test_it_gives_up_on_a_tester_that_holds_nothing(self) -> None:
        class Sinking(SimulatedPath):
            def run(self, trial: UdpTrial, observer: Observer):  # type: ignore[no-untyped-def]
                self.host_fps = trial.services[0].load_fps * 0.5
                return super().run(trial, observer)

        with self.assertRaises(TesterLimitError):
            findings_of(UdpSearchTest("send", PATTERN, (MEGA,)), Sinking())


class Services(unittest.TestCase):
    VOICE = ServiceSpec(1.2e6, 150, name="voice", dscp=46, limits=ServiceLimits(0.001, 0.005, 0.002))
    DATA = ServiceSpec(6e6, 1500, name="data", flows=2, limits=ServiceLimits(loss=0.01))
    TEST = UdpServicesTest("send", PATTERN, (VOICE, DATA), together_s=3.0)

    def judged(self, path: SimulatedPath) -> set[tuple[str, str]]:
        findings = judge_services(self.TEST.services, findings_of(self.TEST, path).figures)
        return {(finding.verdict, finding.where.split(",")[0]) for finding in findings}

    def test_steps_alone_and_then_all_together(self) -> None:
        path = SimulatedPath()
        self.assertEqual(self.judged(path), {("ACCEPT", "voice"), ("ACCEPT", "data")})
        loads = [sum(one.load_fps for one in trial.services) for trial in path.trials]
        self.assertEqual([round(load) for load in loads], [250, 500, 750, 1000, 125, 250, 375, 500, 1500])
        self.assertEqual((path.trials[-1].about, path.trials[-1].duration_s), (ALL_TOGETHER, 3.0))
        self.assertEqual(path.trials[-1].flow_services, [0, 1, 1])

    def test_promises_broken(self) -> None:
        self.assertIn(("REJECT", "voice"), self.judged(SimulatedPath(lambda n: () if n % 200 == 7 else (0.001,))))
        self.assertIn(("REJECT", "voice"), self.judged(SimulatedPath(lambda _: (0.006,))))
        self.assertIn(("REJECT", "voice"), self.judged(SimulatedPath(lambda n: (0.001 + 0.003 * (n % 2),))))

    def test_nothing_is_said_where_it_cannot_be_known(self) -> None:
        self.assertIn(("RETEST", "voice"), self.judged(SimulatedPath(lambda _: (0.0045,), clock_error_s=0.001)))
        self.assertEqual(self.judged(SimulatedPath(host_fps=10)), {("RETEST", "voice"), ("RETEST", "data")})
        unknown = [Figure("datagram-loss", 0.0, {"service": "voice", "load": "25.0 %", "direction": "send"})]
        verdicts = [finding.verdict for finding in judge_services((self.VOICE,), unknown)]
        self.assertEqual(sorted(verdicts), ["ACCEPT", "RETEST", "RETEST"])

    def test_a_file_of_services(self) -> None:
        file = SERVICES_FILE.validate_python(
            {
                "format": "harvok-services",
                "version": 1,
                "services": [{"name": "voice", "committed": "2M", "max_loss": "0.1%", "max_delay": "5ms"}],
            }
        )
        spec = file.services[0].build()
        self.assertEqual((spec.rate_bps, spec.frame_bytes, spec.limits.loss), (2e6, 1518, 0.001))


class Sizes(unittest.TestCase):
    def test_frame_and_payload_name_the_same_datagram(self) -> None:
        for version, payload in ((4, 1472), (6, 1452)):
            by_frame = ServiceSpec(1e6, frame_bytes=1518).at(1.0, version)  # type: ignore[arg-type]
            self.assertEqual(by_frame.payload_bytes, payload)
            by_payload = ServiceSpec(1e6, payload_bytes=payload).at(1.0, version)  # type: ignore[arg-type]
            self.assertEqual(by_payload, by_frame)
        self.assertEqual(ServiceSpec(1e6, frame_bytes=64).at(0.5, 4).payload_bytes, 18)
        with self.assertRaises(UsageError):
            ServiceSpec(1e6, frame_bytes=64).at(1.0, 6)


class Rows(unittest.TestCase):
    def test_a_row_needs_both_halves(self) -> None:
        joiner = UdpRowJoiner()
        sent = UdpInterval("send", "sender", 0, 0, 0.0, 1.0, 100, 100_000)
        heard = UdpInterval("send", "receiver", 0, 0, 0.0, 1.0, 90, 90_000, 10, min_transit_s=1.0, max_transit_s=1.5)
        self.assertEqual([*joiner.add(sent.samples("near", 0.0, "voice"))], [])
        self.assertEqual([*joiner.add(heard.samples("far", 0.0, "data"))], [])
        (row,) = joiner.add(heard.samples("far", 0.0, "voice"))
        self.assertEqual((row.sent_bps, row.received_bps, row.variation_s), (800_000, 720_000, 0.5))
