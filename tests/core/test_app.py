"""Application traffic without any: who is there when, mixes, messages, and what is made of counts."""

import tomllib
import unittest
from collections import Counter
from dataclasses import replace
from itertools import islice, pairwise

import h11
from hypothesis import given
from hypothesis import strategies as st
from pydantic import ValidationError

from harvok.core.app.demand import AppDemand, demands
from harvok.core.app.limiter import LevelCase, find_limiter
from harvok.core.app.mix import DRAWS, MIX_FILE, SizeSpread, drawn
from harvok.core.app.population import arrivals, changes, turns
from harvok.core.app.reading import figures_of, level_names, read_stream, spread_of
from harvok.core.ends import SEND
from harvok.core.fields import WRITTEN
from harvok.core.figures import find
from harvok.core.kinds.app import parse_level
from harvok.core.link import Link
from harvok.core.measures.bins import BINS_UP_TO_AN_HOUR, bin_of, edges_of, merged, quantile_ns
from harvok.core.procedure import Context, Findings
from harvok.core.procedures.app import AppTest, app_test
from harvok.core.procedures.beside import Beside, figures_beside
from harvok.core.trials.any import outcome_of
from harvok.core.trials.app import (
    Action,
    ActionCounts,
    Application,
    AppMix,
    AppStreamResult,
    AppSummary,
    AppTrial,
    AppTrialResult,
    ConnectionCounts,
    Level,
    LevelCounts,
    ServiceCounts,
)
from harvok.core.trials.delay import DelayOutcome, DelayTrialResult, Echo
from harvok.core.trials.udp import UdpDirectionResult, UdpFlowReceived, UdpFlowSent, UdpSummary, UdpTrialResult
from harvok.core.udp.services import ServiceSpec
from harvok.core.wire.app import Wanted, make_exchange, make_http, proof_of, read_exchange, read_target, target_of
from harvok.core.wire.http1 import (
    ChunkedBody,
    MalformedMessageError,
    make_response,
    read_request,
    read_response,
)
from harvok.errors import BadQuantityError

WEB = Application("web", 1.0, (Action("fetch", (1000,)),))
PROOF = proof_of(b"i" * 16, b"k" * 32)


def trial_of(*levels: Level, ramp_down_s: float = 0.0, mix: AppMix | None = None) -> AppTrial:
    return AppTrial(mix or AppMix("m", (WEB,)), (SEND,), levels, ramp_down_s)


class Population(unittest.TestCase):
    def test_users_come_evenly_and_who_came_last_leaves_first(self) -> None:
        trial = trial_of(Level(10, 4, 4), Level(10, 2, 2), ramp_down_s=2)
        self.assertEqual(
            [(change.at_s, change.user, change.joins) for change in changes(trial)],
            [
                (0.5, 0, True), (1.5, 1, True), (2.5, 2, True), (3.5, 3, True),
                (14.5, 3, False), (15.5, 2, False),
                (26.5, 1, False), (27.5, 0, False),
            ],
        )  # fmt: skip

    def test_levels_that_nobody_ramps_to_begin_at_once(self) -> None:
        trial = trial_of(Level(5, 0, 3), Level(5, 0, 1))
        self.assertEqual([change.at_s for change in changes(trial)], [0, 0, 0, 5, 5, 10])

    @given(st.lists(st.integers(1, 50), min_size=1, max_size=4), st.integers(1, 5))
    def test_processes_share_all_users_and_each_user_is_of_one(self, heights: list[int], of: int) -> None:
        trial = trial_of(*(Level(1, 1, height) for height in heights), ramp_down_s=1)
        shared = [change for number in range(of) for change in changes(trial, number, of)]
        self.assertEqual(Counter(shared), Counter(changes(trial)))
        present = Counter(change.user for change in shared if change.joins)
        present.subtract(change.user for change in shared if not change.joins)
        self.assertFalse(any(present.values()))

    def test_arrivals_are_evenly_spaced_and_as_many_as_asked_for(self) -> None:
        found = list(arrivals(trial_of(Level(2, 0, arrivals_per_s=100))))
        self.assertEqual(len(found), 200)
        self.assertAlmostEqual(found[0], 0.005)
        self.assertTrue(all(abs(b - a - 0.01) < 1e-9 for a, b in pairwise(found)))

    def test_a_ramp_of_arrivals_has_half_of_its_height_on_average(self) -> None:
        trial = trial_of(Level(1, 2, arrivals_per_s=300), ramp_down_s=2)
        found = list(arrivals(trial))
        self.assertEqual(len(found), 900)
        self.assertEqual(found, sorted(found))
        self.assertAlmostEqual(sum(at_s < 1 for at_s in found), 75, delta=1)
        shares = [list(arrivals(trial, number, 3)) for number in range(3)]
        self.assertEqual(sorted(at_s for share in shares for at_s in share), found)

    @given(st.lists(st.floats(0.01, 10), min_size=1, max_size=8))
    def test_after_any_number_of_turns_each_has_its_share(self, weights: list[float]) -> None:
        shares = [weight / sum(weights) for weight in weights]
        taken = Counter[int]()
        for number, one in enumerate(islice(turns(shares), 300), 1):
            taken[one] += 1
            self.assertTrue(all(abs(taken[at] - share * number) < 2 for at, share in enumerate(shares)))

    def test_levels_are_read_as_people_write_them(self) -> None:
        self.assertEqual(parse_level("512/60s", 5), Level(60, 5, 512))
        for text in ("512", "0/10s", "512/60", "512/0.1s", "a/10s", "200000/10s"):
            with self.assertRaises(BadQuantityError):
                parse_level(text, 5)

    def test_levels_that_come_again_are_told_apart(self) -> None:
        self.assertEqual(
            level_names([Level(1, 0, 1), Level(1, 0, 2), Level(2, 0, 1)]), ["1 user", "2 users", "1 user (2)"]
        )


MIX = """
format = "harvok-mix"
version = 1
name = "dome"

[[applications]]
name = "images"
weight = 3
transactions_per_connection = 10
actions = [{ name = "list", response = "2k" }, { name = "fetch", response = "8M", think = "2s", times = 2 }]

[[applications]]
name = "control"
protocol = "tcp"
actions = [{ name = "point", request = ["80B", "90B"], response = "60B", service_time = "20ms" }]
"""


class Mixes(unittest.TestCase):
    def read(self, text: str) -> AppMix:
        return MIX_FILE.validate_python(tomllib.loads(text), context=WRITTEN).build()

    def test_a_file_says_what_users_do(self) -> None:
        mix = self.read(MIX)
        images, control = mix.applications
        self.assertEqual(images.actions[1], Action("fetch", (8_000_000,), (0,), (2.0,), (0.0,), 2))
        self.assertEqual((images.transactions, images.transactions_per_connection), (3, 10))
        self.assertEqual(control.actions[0].request_bytes, (80, 90))
        self.assertEqual(mix.shares(), [0.75, 0.25])

    def test_weights_may_be_of_what_flows(self) -> None:
        by_transactions = self.read(MIX.replace('name = "dome"', 'name = "dome"\nshared_by = "transactions"'))
        sessions = by_transactions.shares()
        flowing = [share * one.transactions for share, one in zip(sessions, by_transactions.applications, strict=True)]
        self.assertAlmostEqual(flowing[0] / flowing[1], 3)
        by_bytes = replace(by_transactions, shared_by="bytes")
        flowing = [share * one.body_bytes for share, one in zip(by_bytes.shares(), by_bytes.applications, strict=True)]
        self.assertAlmostEqual(flowing[0] / flowing[1], 3)

    def test_what_users_ask_for_at_most_is_arithmetic(self) -> None:
        mix = self.read(MIX)
        # 75 users take a pass of 2 s with 3 transactions; 25 have 20 ms of service for each of theirs
        images = AppDemand("images", 75 / 2 * 3, 0.0, 75 / 2 * 16_002_000 * 8)
        control = AppDemand("control", 25 / 0.02, 25 / 0.02 * 85 * 8, 25 / 0.02 * 60 * 8)
        self.assertEqual(demands(mix, 100), [images, control])
        # by transactions both kinds take turns: a user has half a pass of each in 1.01 s
        by_turns = demands(replace(mix, shared_by="transactions"), 100)
        self.assertAlmostEqual(by_turns[0].transactions_per_s or 0, 100 / 1.01 * 0.5 * 3)
        self.assertAlmostEqual(by_turns[1].transactions_per_s or 0, 100 / 1.01 * 0.5)
        self.assertEqual(demands(AppMix("m", (WEB,)), 100), [AppDemand("web", None, None, None)])

    def test_a_spread_has_the_quantiles_that_it_states(self) -> None:
        values = drawn(SizeSpread(median=10_000, p90=100_000, maximum=1_000_000))
        ordered = sorted(values)
        self.assertEqual(len(values), DRAWS)
        self.assertAlmostEqual((ordered[31] * ordered[32]) ** 0.5, 10_000, delta=1)
        self.assertLess(ordered[56], 100_000)
        self.assertGreater(ordered[58], 100_000)
        self.assertLessEqual(ordered[-1], 1_000_000)
        self.assertNotEqual(list(values), ordered)
        self.assertEqual(sorted(drawn(SizeSpread(median=10_000, p90=100_000, maximum=1_000_000), seed=5)), ordered)

    def test_what_makes_no_sense_is_refused_with_its_place(self) -> None:
        for old, new, words in (
            ('name = "control"', 'name = "images"', "two applications named 'images'"),
            ('{ name = "fetch"', '{ name = "list"', "two actions named 'list'"),
            ('"8M"', "8", "has no unit"),
            ("weight = 3", "weight = 0", "greater than 0"),
            ('protocol = "tcp"', 'protocol = "smoke"', "'tcp' or 'udp'"),
            ('response = "60B"', 'response = "0B"', "answers nothing"),
        ):
            with self.assertRaises(ValidationError) as caught:
                self.read(MIX.replace(old, new))
            self.assertIn(words, str(caught.exception))


class Messages(unittest.TestCase):
    def test_a_request_is_what_another_implementation_reads(self) -> None:
        raw = make_http(PROOF, ("file sync", "ask/for"), "hall:80", Wanted(64_000, 20_000, 300, True))
        server = h11.Connection(h11.SERVER)
        server.receive_data(raw)
        request = server.next_event()
        assert isinstance(request, h11.Request)
        self.assertEqual(request.method, b"POST")
        self.assertEqual(request.target.decode(), f"/{PROOF}/file-sync/ask-for/64000?after=20000")
        self.assertIn((b"connection", b"close"), request.headers)
        mine = read_request(raw)
        self.assertEqual((mine.method, mine.target, mine.body_bytes, mine.close), (b"POST", request.target, 300, True))
        self.assertEqual(read_target(mine.target, PROOF.encode()), (64_000, 20_000))

    def test_a_response_is_what_another_implementation_reads(self) -> None:
        client = h11.Connection(h11.CLIENT)
        client.send(h11.Request(method="GET", target="/", headers=[("Host", "hall")]))
        client.send(h11.EndOfMessage())
        client.receive_data(make_response(200, 5) + b"abcde")
        response, body, end = client.next_event(), client.next_event(), client.next_event()
        assert isinstance(response, h11.Response) and isinstance(body, h11.Data)
        self.assertEqual((response.status_code, bytes(body.data)), (200, b"abcde"))
        self.assertIsInstance(end, h11.EndOfMessage)
        self.assertEqual(read_response(make_response(200, 5, close=True)).close, True)

    def test_what_is_no_message_is_no_message(self) -> None:
        for head in (
            b"GET / HTTP/1.1\r\n", b"GET  / HTTP/1.1\r\n\r\n", b"GET / HTTP/2.0\r\n\r\n", b"\r\n\r\n",
            b"GET / HTTP/1.1\r\nContent-Length: -1\r\n\r\n", b"GET / HTTP/1.1\r\nContent-Length: 1, 2\r\n\r\n",
            b"GET / HTTP/1.1\r\nContent-Length: 9999999999999999\r\n\r\n", b"GET / HTTP/1.1\r\nA b\r\n\r\n",
            b"GET / HTTP/1.1\r\nTransfer-Encoding: gzip\r\n\r\n", b"GET / HTTP/1.1\r\nHost : a\r\n\r\n",
            b"GET / HTTP/1.1\r\nTransfer-Encoding: chunked\r\nContent-Length: 3\r\n\r\n",
            b"GET / HTTP/1.1\r\nX: " + b"a" * 20_000 + b"\r\n\r\n", b"GET / HTTP/1.1\r\nX: \0\r\n\r\n",
        ):  # fmt: skip
            with self.assertRaises(MalformedMessageError, msg=head[:60]):
                read_request(head)
        for head in (b"HTTP/1.1 20 OK\r\n\r\n", b"HTTP/1.1 2000 OK\r\n\r\n", b"HTTQ/1.1 200 OK\r\n\r\n"):
            with self.assertRaises(MalformedMessageError, msg=head):
                read_response(head)

    @given(st.binary(max_size=200))
    def test_no_bytes_raise_anything_else(self, raw: bytes) -> None:
        for read in (read_request, read_response):
            try:
                read(raw + b"\r\n\r\n")
            except MalformedMessageError:
                continue

    @given(st.lists(st.binary(min_size=1, max_size=50), max_size=5), st.integers(1, 7))
    def test_a_chunked_body_ends_where_it_ends_however_it_is_cut(self, chunks: list[bytes], cut: int) -> None:
        raw = b"".join(b"%x;n=1\r\n%s\r\n" % (len(chunk), chunk) for chunk in chunks) + b"0\r\nTrailer: x\r\n\r\n"
        body, rest = ChunkedBody(), raw + b"NEXT"
        while not body.over:
            taken = body.feed(rest[:cut])
            self.assertEqual(taken, min(cut, len(rest) - 4) if body.over is False else taken)
            rest = rest[taken:]
        self.assertEqual((rest, body.body_bytes), (b"NEXT", sum(map(len, chunks))))

    def test_a_chunk_that_is_none_is_refused(self) -> None:
        for raw in (b"zz\r\n", b"\r\n", b"3\nabc", b"3\r\nabcd\r\n", b"-1\r\n", b"1" * 20_000):
            with self.assertRaises(MalformedMessageError, msg=raw[:10]):
                ChunkedBody().feed(raw)

    def test_a_plain_exchange_says_what_it_wants(self) -> None:
        wanted = Wanted(5000, 1500, 200, True)
        self.assertEqual(read_exchange(make_exchange(PROOF, wanted), PROOF.encode()), wanted)
        self.assertIsNone(read_exchange(make_exchange("0" * 24, wanted), PROOF.encode()))
        huge = make_exchange(PROOF, Wanted(1 << 50, 0, 0, False))
        with self.assertRaises(MalformedMessageError):
            read_exchange(huge, PROOF.encode())

    def test_only_the_trials_proof_is_answered(self) -> None:
        target = target_of(PROOF, ("a",), Wanted(10, 0, 0, False)).encode()
        self.assertEqual(read_target(target, PROOF.encode()), (10, 0))
        for other in (b"/", b"/10", b"/" + b"0" * 24 + b"/10", target[:-1].replace(PROOF.encode(), b"1" * 24)):
            self.assertIsNone(read_target(other, PROOF.encode()))
        for wrong in (b"/%s" % PROOF.encode(), b"/%s/a/b" % PROOF.encode(), b"/%s/99999999999999" % PROOF.encode()):
            with self.assertRaises(MalformedMessageError):
                read_target(wrong, PROOF.encode())
        self.assertNotEqual(proof_of(b"j" * 16, b"k" * 32), PROOF)


class Histograms(unittest.TestCase):
    @given(st.integers(0, 3_600_000_000_000))
    def test_a_time_lies_in_its_bin_which_is_narrow(self, time_ns: int) -> None:
        number = bin_of(time_ns)
        low, high = edges_of(number)
        self.assertTrue(low <= time_ns <= high)
        self.assertLessEqual(high - low, max(time_ns / 128, 0))
        self.assertLess(number, BINS_UP_TO_AN_HOUR)

    def test_quantiles_of_joined_histograms_are_those_of_all(self) -> None:
        halves = [Counter(bin_of(n * 1000) for n in range(start, 1001, 2)) for start in (1, 2)]
        both = merged(halves)
        self.assertEqual(sum(both.values()), 1000)
        self.assertAlmostEqual(quantile_ns(both, 0.5) / 1000, 500, delta=4)
        self.assertEqual(quantile_ns({}, 0.5), 0)
        spread = spread_of(both)
        assert spread
        self.assertAlmostEqual(spread.mean_s, 500.5e-6, delta=4e-6)
        self.assertAlmostEqual(spread.p999_s, 999e-6, delta=8e-6)
        self.assertIsNone(spread_of({}))


def counts(
    transactions: int = 1000, failures: dict[str, int] | None = None, response_s: float = 0.002, level: int = 0
) -> LevelCounts:
    times = {bin_of(int(response_s * 1e9)): transactions} if transactions else {}
    action = ActionCounts(0, 0, transactions, transactions * 100, transactions * 1100, times, times, failures or {})
    connections = ConnectionCounts(0, 100, 0, 2000, 3000, 0, {bin_of(200_000): 100})
    return LevelCounts(level, 10.0, [action], [connections], 50.0, 50.0, {bin_of(5000): transactions}, 0, [0.3])


def result_of(*levels: LevelCounts, service: ServiceCounts = ServiceCounts(busiest=0.2)) -> AppTrialResult:
    users = AppSummary("send", "sender", list(levels), header_bytes=70)
    return AppTrialResult([AppStreamResult("send", users, AppSummary("send", "receiver", service=service))])


class Readings(unittest.TestCase):
    TRIAL = trial_of(Level(10, 0, 50))

    def test_figures_are_the_arithmetic(self) -> None:
        (reading,) = read_stream(self.TRIAL, result_of(counts()).streams[0])
        figures = list(figures_of(reading, by_tester=False))
        self.assertEqual(find(figures, "transactions-rate"), 100)
        self.assertEqual(find(figures, "connections-rate"), 10)
        self.assertEqual(find(figures, "app-goodput", direction="receive"), 1000 * 1100 * 8 / 10)
        self.assertEqual(find(figures, "app-throughput-l2", direction="send"), (100_000 + 2000 * 70) * 8 / 10)
        self.assertEqual(find(figures, "packets-rate", direction="receive"), 300)
        self.assertAlmostEqual(find(figures, "response-median") or 0, 0.002, delta=2e-5)
        self.assertEqual({figure.labels["level"] for figure in figures}, {"50 users"})
        self.assertFalse(any(figure.mark for figure in figures))
        self.assertTrue(all(figure.mark for figure in figures_of(reading, by_tester=True)))

    def test_every_figure_and_label_is_one_that_is_known(self) -> None:
        two = AppMix(
            "m", (WEB, replace(WEB, name="other", actions=(WEB.actions[0], replace(WEB.actions[0], name="b"))))
        )
        actions = [replace(counts().actions[0], application=one, action=two_) for one, two_ in ((0, 0), (1, 0), (1, 1))]
        level = replace(counts(failures={"reset": 3}), actions=actions)
        (reading,) = read_stream(replace(self.TRIAL, mix=two), result_of(level).streams[0])
        figures = list(figures_of(reading, by_tester=False))
        for figure in figures:
            self.assertLessEqual(figure.labels.keys(), set(figure.meaning.labels), figure)
        self.assertEqual(find(figures, "transactions-rate", application="other", action="b"), 100)
        self.assertEqual(find(figures, "transactions-rate", application="other"), 200)
        self.assertEqual(len({figure.key for figure in figures}), len(figures))

    def test_what_the_standard_does_not_let_fail_is_said(self) -> None:
        findings = Findings()
        procedure = app_test(AppTest(self.TRIAL), Context(), findings)
        next(procedure)
        with self.assertRaises(StopIteration):
            procedure.send(result_of(counts(transactions=990, failures={"timeout": 7, "reset": 3})))
        self.assertIn("10 of 1000 transactions failed (reset 3, timeout 7)", findings.notices[0])
        self.assertEqual(find(findings.figures, "failed-transactions"), 0.01)


class BesideUsers(unittest.TestCase):
    TRIAL = trial_of(Level(10, 2, 4), Level(20, 3, 8), ramp_down_s=1)
    VOICE = (ServiceSpec(1e6, 218, None, "voice", 2), ServiceSpec(2e6, 1518, None, "camera"))

    def test_services_flow_while_levels_are_sustained(self) -> None:
        trial = Beside(self.VOICE).added_to(self.TRIAL, 4)
        assert trial.services
        spans = [(one.name, *trial.services.span_s(one)) for one in trial.services.services]
        self.assertEqual(spans, [("voice", 2, 12), ("camera", 2, 12), ("voice", 15, 35), ("camera", 15, 35)])
        self.assertEqual((trial.flows, trial.probes), (7, None))
        self.assertEqual(Beside().added_to(self.TRIAL, 4), self.TRIAL)

    def test_each_is_read_at_its_level(self) -> None:
        trial = Beside(self.VOICE, probes=True).added_to(self.TRIAL, 4)
        assert trial.services and trial.probes
        self.assertEqual(trial.probes.packets, 36 * 50)
        sent = [UdpFlowSent(flow, 1000, 10.0, "plain", 1) for flow in range(trial.services.flows)]
        received = [UdpFlowReceived(flow, 900 - 10 * flow, 0, 0, 999, "plain") for flow in range(trial.services.flows)]
        directions = [
            UdpDirectionResult(way, UdpSummary(way, "sender", sent), UdpSummary(way, "receiver", received=received))
            for way in ("send", "receive")
        ]
        echoes = [Echo(number, at_s, at_s / 1000) for number, at_s in enumerate((1.0, 2.5, 11.5, 13.0, 30.0))]
        result = AppTrialResult([], UdpTrialResult(directions), DelayTrialResult("stamp", echoes=echoes))
        figures = list(figures_beside(trial, result, 4))
        for level, service, lost in (("4 users", "voice", 210), ("8 users", "voice", 270), ("8 users", "camera", 150)):
            for direction in ("send", "receive"):
                found = find(figures, "datagram-loss", level=level, service=service, direction=direction)
                self.assertAlmostEqual(found or 0, lost / (2000 if service == "voice" else 1000))
        self.assertEqual(find(figures, "two-way-delay-max", level="4 users"), 0.0115)
        self.assertEqual(find(figures, "two-way-delay-min", level="8 users"), 0.030)
        kept = outcome_of(result)
        assert isinstance(kept, AppTrialResult)
        self.assertEqual(kept.probes, DelayOutcome("stamp"))


class Limiters(unittest.TestCase):
    def limiter(
        self,
        *levels: LevelCounts,
        service: ServiceCounts = ServiceCounts(busiest=0.2),
        link: Link = Link(),
        trial: AppTrial | None = None,
    ) -> tuple[str, str]:
        trial = trial or trial_of(*(Level(10, 0, 50 * 2**number) for number in range(len(levels))))
        readings = read_stream(trial, result_of(*levels, service=service).streams[0])
        limiter = find_limiter(LevelCase(trial, readings[-1], readings[:-1], service, link))
        self.assertTrue(limiter.evidence and limiter.advice and limiter.name)
        return limiter.kind, limiter.blame

    def test_the_tester_comes_before_the_device(self) -> None:
        failing = {"connect-timeout": 50}
        asleep = {bin_of(6_000_000_000): 1000}
        for level, service, kind in (
            (counts(failures=failing | {"no-port": 1}), ServiceCounts(), "near-resources"),
            (replace(counts(failures=failing), cpu=[0.97]), ServiceCounts(), "cpu-near"),
            (replace(counts(failures=failing), lag=asleep), ServiceCounts(), "cpu-near"),
            (replace(counts(failures={"reset": 50}), lag={bin_of(600_000): 1000}), ServiceCounts(), "cpu-near"),
            (counts(failures=failing), ServiceCounts(busiest=0.96), "cpu-far"),
            (counts(failures=failing), ServiceCounts(overflows=2), "cpu-far"),
        ):
            self.assertEqual(self.limiter(level, service=service), (kind, "tester"))

    def test_what_failed_is_told_apart(self) -> None:
        for reason, kind in (
            ("connect-timeout", "new-connections"), ("refused", "new-connections"), ("reset", "failing-transactions"),
            ("timeout", "failing-transactions"), ("status 503", "failing-transactions"),
        ):  # fmt: skip
            self.assertEqual(self.limiter(counts(failures={reason: 50})), (kind, "equipment"))

    def test_users_who_begin_a_little_late_do_not_make_connections_fail(self) -> None:
        level = replace(counts(failures={"connect-timeout": 50}), lag={bin_of(600_000): 1000})
        self.assertEqual(self.limiter(level), ("new-connections", "equipment"))

    def test_a_lag_that_long_answers_hide_is_none(self) -> None:
        level = replace(counts(response_s=0.2), lag={bin_of(600_000): 1000})
        self.assertEqual(self.limiter(level)[0], "none")

    def test_a_tail_that_is_the_testers_own_is_marked_and_nothing_else(self) -> None:
        level = replace(counts(), lag={bin_of(5_000): 990, bin_of(1_500_000): 10})
        trial = trial_of(Level(10, 0, 50))
        (reading,) = read_stream(trial, result_of(level).streams[0])
        marked = {figure.quantity for figure in figures_of(reading, by_tester=False) if figure.mark}
        self.assertEqual(marked, {"first-byte-p999", "first-byte-max", "response-p999", "response-max"})

    def test_a_full_link_is_full(self) -> None:
        level = counts(transactions=10_000)
        l1_bps = (10_000 * 1100 + 3000 * (70 + 20)) * 8 / 10
        self.assertEqual(self.limiter(level, link=Link(rated_bps=l1_bps / 0.96)), ("link", "equipment"))
        self.assertEqual(self.limiter(level, link=Link(rated_bps=l1_bps / 0.9))[0], "none")

    def test_more_users_that_move_no_more_have_found_a_plateau(self) -> None:
        lower, upper = counts(), counts(transactions=1020, response_s=0.004, level=1)
        self.assertEqual(self.limiter(lower, upper), ("plateau", "equipment"))
        self.assertEqual(self.limiter(lower, replace(upper, cpu=[0.8])), ("unknown", "nothing"))
        self.assertEqual(self.limiter(lower, counts(transactions=1900, level=1))[0], "none")

    def test_what_is_near_the_testers_calibrated_limit_is_its_own(self) -> None:
        trial = trial_of(Level(10, 0, 50))
        (reading,) = read_stream(trial, result_of(counts()).streams[0])  # 100 transactions/s
        for tester_per_s, kind in ((105.0, "calibrated"), (120.0, "none"), (None, "none")):
            limiter = find_limiter(LevelCase(trial, reading, (), ServiceCounts(), Link(), tester_per_s))
            self.assertEqual((limiter.kind, limiter.blame == "tester"), (kind, kind == "calibrated"))

    def test_loss_and_the_services_own_time_are_named(self) -> None:
        lossy = replace(counts(), connections=[replace(counts().connections[0], retransmitted=10)])
        self.assertEqual(self.limiter(lossy), ("loss", "equipment"))
        slow = replace(WEB, actions=(replace(WEB.actions[0], service_s=(0.0015,)),))
        trial = trial_of(Level(10, 0, 50), mix=AppMix("m", (slow,)))
        self.assertEqual(self.limiter(counts(), trial=trial), ("service-time", "settings"))

    def test_arrivals_that_nobody_could_serve_are_a_setting(self) -> None:
        self.assertEqual(self.limiter(replace(counts(), unserved=5)), ("user-limit", "settings"))


if __name__ == "__main__":
    unittest.main()
