import random
import unittest
from itertools import pairwise

import numpy as np

from harvok.core.measures.arrivals import Arrivals
from harvok.core.measures.datagrams import FlowAccount
from harvok.core.measures.transit import Jitter, Transit
from harvok.core.wire.datagram import (
    ANSWER_BYTES,
    CHALLENGE_BYTES,
    HEAD,
    HEAD_BYTES,
    answer_challenge,
    challenge_for,
    is_answered,
)
from harvok.core.wire.hello import HELLO_BYTES, Hello, encode_hello


def numbers(*values: int) -> "np.ndarray[tuple[int], np.dtype[np.int64]]":
    return np.array(values, dtype=np.int64)


class JitterOfRfc3550(unittest.TestCase):
    def test_a_sequence_worked_by_hand(self) -> None:
        """Transit 10, 10, 26, 10 µs: D is 0, 16, 16, so J is 0, then 1 µs, then 1 + (16 − 1) / 16."""
        jitter = Jitter()
        values = []
        for transit in (10_000, 10_000, 26_000, 10_000):
            jitter.add(numbers(transit))
            values.append(jitter.value_ns)
        self.assertEqual(values, [0, 0, 1000, 1937.5])

    def test_portions_do_not_matter(self) -> None:
        rng = random.Random(3)
        transits = [rng.randrange(10**6) for _ in range(5000)]
        slow = 0.0
        for before, after in pairwise(transits):
            slow += (abs(after - before) - slow) / 16
        jitter, at = Jitter(), 0
        while at < len(transits):
            step = rng.choice((1, 2, 700, 1500))
            jitter.add(np.array(transits[at : at + step], dtype=np.int64))
            at += step
        self.assertAlmostEqual(jitter.value_ns, slow, places=6)


class TransitTimes(unittest.TestCase):
    def test_variation_is_above_the_min_whatever_the_clocks_say(self) -> None:
        for offset_ns in (0, 10**12, -(10**15)):
            transit = Transit()
            transit.add(numbers(500, 300, 300, 900) + offset_ns)
            reported = transit.summary()
            assert reported
            self.assertAlmostEqual(reported.variation_median_s, 0.0, delta=5e-9)
            self.assertAlmostEqual(reported.variation_p999_s, 600e-9, delta=5e-9)
            self.assertAlmostEqual(reported.mean_s * 1e9, 500 + offset_ns, delta=max(abs(offset_ns) * 1e-12, 1))
            self.assertEqual(reported.changes_mean_s, (200 + 0 + 600) / 3 / 1e9)
            self.assertEqual(sum(count for _, count in reported.distribution), 4)

    def test_quantiles_are_within_their_resolution(self) -> None:
        rng = np.random.default_rng(1)
        times = (rng.exponential(2e6, 100_000) + 35e6).astype(np.int64)
        transit = Transit()
        for part in np.array_split(times, 37):
            transit.add(part)
        for share in (0.01, 0.5, 0.99, 0.999):
            exact = float(np.quantile(times, share))
            self.assertAlmostEqual(transit.quantile_ns(share), exact, delta=abs(exact - times[0]) / 100 + 2000)

    def test_nothing_came(self) -> None:
        self.assertIsNone(Transit().summary())


class LossRuns(unittest.TestCase):
    def test_against_counting_one_by_one(self) -> None:
        rng = random.Random(4)
        for _ in range(200):
            count, window, loss = rng.randint(1, 400), rng.choice((16, 32, 64, 512)), rng.choice((0, 0.05, 0.3, 0.9))
            came = [number for number in range(count) if rng.random() > loss] or [count - 1]
            arrivals, at = Arrivals(window), 0
            while at < len(came):
                step = rng.randint(1, 50)
                arrivals.add(numbers(*came[at : at + step]))
                at += step
            self.assertEqual(arrivals.loss_runs(), runs_one_by_one(came), (came, window))
            self.assertEqual(arrivals.received, len(came))

    def test_a_late_one_mends_its_gap(self) -> None:
        arrivals = Arrivals(64)
        arrivals.add(numbers(0, 1, 4, 5))
        self.assertEqual(arrivals.loss_runs(), {2: 1})
        arrivals.add(numbers(3, 6))
        self.assertEqual(arrivals.loss_runs(), {1: 1})
        self.assertEqual(arrivals.reordered, 1)

    def test_an_outage_longer_than_the_window_keeps_what_came_before(self) -> None:
        arrivals = Arrivals(64)
        arrivals.add(numbers(0, 1, 2, 5000, 5001))
        self.assertEqual((arrivals.received, arrivals.too_late), (5, 0))
        self.assertEqual(arrivals.loss_runs(), {4997: 1})


def runs_one_by_one(came: list[int]) -> dict[int, int]:
    runs: dict[int, int] = {}
    for before, after in pairwise([-1, *sorted(came)]):
        if after - before > 1:
            runs[after - before - 1] = runs.get(after - before - 1, 0) + 1
    return dict(sorted(runs.items()))


class AccountOfAFlow(unittest.TestCase):
    def test_intervals_add_up_to_the_whole(self) -> None:
        account = FlowAccount(1024)
        account.add(numbers(0, 1, 3), numbers(0, 10, 30), numbers(100, 110, 135))
        first = account.interval()
        self.assertEqual((first.datagrams, first.missing, first.longest_run), (3, 1, 1))
        account.add(numbers(2, 2, 4), numbers(20, 20, 40), numbers(140, 150, 160))
        second = account.interval()
        self.assertEqual((second.datagrams, second.missing), (2, -1))
        self.assertEqual((second.duplicates, second.reordered), (1, 1))
        self.assertEqual((second.min_transit_s, second.max_transit_s), (120e-9, 120e-9))
        self.assertEqual(account.longest_silence_ns, 25)

    def test_datagrams_of_one_batch_share_a_stamp_and_the_first_tells_the_time(self) -> None:
        account = FlowAccount(1024)
        account.add(numbers(0, 1, 2, 3), numbers(0, 0, 9, 9), numbers(50, 51, 70, 71))
        self.assertEqual(account.transit.counted, 2)
        account.add(numbers(4), numbers(9), numbers(72))
        self.assertEqual(account.transit.counted, 2)


class OpeningAFlow(unittest.TestCase):
    KEY = bytes(range(32))

    def setUp(self) -> None:
        self.hello = encode_hello(Hello(bytes(16), "sender", 3), self.KEY)
        self.challenge = challenge_for(("198.18.0.1", 4000), b"secret")

    def test_no_answer_is_larger_than_what_it_answers(self) -> None:
        self.assertEqual((len(self.hello), len(self.challenge)), (HELLO_BYTES, CHALLENGE_BYTES))
        self.assertLess(CHALLENGE_BYTES, HELLO_BYTES)
        self.assertEqual(HEAD.size, HEAD_BYTES)

    def test_only_the_challenged_address_can_answer(self) -> None:
        answer = answer_challenge(self.hello, self.challenge, self.KEY)
        self.assertEqual(len(answer), ANSWER_BYTES)
        self.assertTrue(is_answered(answer, self.challenge, self.KEY))
        elsewhere = challenge_for(("198.18.0.9", 4000), b"secret")
        self.assertFalse(is_answered(answer, elsewhere, self.KEY))
        self.assertFalse(is_answered(answer[:-1], self.challenge, self.KEY))
        self.assertFalse(is_answered(answer, self.challenge, bytes(32)))
