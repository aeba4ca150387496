import random
import unittest
from collections.abc import Callable

from harvok.core.tcp.settling import find_settling, mean_rate_bps, rates_bps, truncation_point

Ticks = list[tuple[float, int]]


def ticks(rate_bps: Callable[[float], float], seconds: float, noise: float = 0.0, seed: int = 1) -> Ticks:
    rng, total, made = random.Random(seed), 0.0, []
    for number in range(1, int(seconds * 10) + 1):
        total += rate_bps(number / 10) * (1 + rng.gauss(0, noise)) / 80
        made.append((number / 10, int(total)))
    return made


class Settling(unittest.TestCase):
    def test_a_slow_start_is_left_out(self) -> None:
        for start_s in (0.5, 1.0, 2.0, 3.0):
            found = find_settling(ticks(lambda t, s=start_s: 940e6 * min(t / s, 1), 10, noise=0.01))  # type: ignore[misc]
            self.assertTrue(found.settled)
            self.assertAlmostEqual(found.settled_from_s, start_s, delta=0.55)

    def test_a_start_too_fast_is_left_out_as_well(self) -> None:
        found = find_settling(ticks(lambda t: 2e9 if t < 1 else 900e6, 10, noise=0.005))
        self.assertAlmostEqual(found.settled_from_s, 1.0, delta=0.55)

    def test_an_even_transfer_keeps_its_start(self) -> None:
        for seed in range(50):
            found = find_settling(ticks(lambda _: 940e6, 10, noise=0.02, seed=seed))
            self.assertTrue(found.settled)
            self.assertEqual(found.settled_from_s, 0.0, f"seed {seed}")

    def test_one_that_climbs_to_the_end_never_settled(self) -> None:
        self.assertFalse(find_settling(ticks(lambda t: 50e6 * t, 10, noise=0.01)).settled)

    def test_a_step_after_the_middle_never_settled(self) -> None:
        self.assertFalse(find_settling(ticks(lambda t: 100e6 if t < 7 else 900e6, 10, noise=0.01)).settled)

    def test_a_sawtooth_around_a_level_has_settled(self) -> None:
        found = find_settling(ticks(lambda t: 900e6 * (0.85 + 0.15 * ((t % 1.3) / 1.3)), 20, noise=0.01))
        self.assertTrue(found.settled)
        self.assertLess(found.settled_from_s, 3)

    def test_a_glance_is_too_short(self) -> None:
        self.assertFalse(find_settling(ticks(lambda _: 940e6, 0.5)).settled)
        self.assertFalse(find_settling([]).settled)

    def test_the_settled_mean_is_the_level(self) -> None:
        made = ticks(lambda t: 940e6 * min(t / 2, 1), 10)
        found = find_settling(made)
        self.assertLess(mean_rate_bps(made), 870e6)
        self.assertAlmostEqual(mean_rate_bps(made, found.settled_from_s) / 940e6, 1, delta=0.005)


class Rates(unittest.TestCase):
    def test_bytes_over_time_not_a_mean_of_rates(self) -> None:
        uneven: Ticks = [(1.0, 125_000_000), (4.0, 125_000_000)]
        self.assertEqual(mean_rate_bps(uneven), 250e6)
        self.assertEqual(mean_rate_bps(uneven, 1.0), 0.0)
        self.assertEqual(mean_rate_bps([]), 0.0)

    def test_a_tick_that_did_not_move_on_is_passed_over(self) -> None:
        self.assertEqual(rates_bps([(1.0, 10), (1.0, 20), (2.0, 30)]), [(0.0, 1.0, 80.0), (1.0, 2.0, 160.0)])

    def test_truncation_is_at_max_half(self) -> None:
        self.assertLessEqual(truncation_point([1.0, 2, 3, 4, 5, 6, 7, 8]), 4)
        self.assertEqual(truncation_point([0.0, 5, 5, 5, 5, 5]), 1)
