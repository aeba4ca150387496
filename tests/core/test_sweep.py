import random
import unittest

from harvok.core.figures import Figure
from harvok.core.judgement.sample import RunSample, Series
from harvok.core.judgement.sweep import Point, Setting, order_of, read_sweep, window_bound_bps
from harvok.errors import UsageError
from harvok.runner.sweeps import parse_axis, point_name


def series(*values: float) -> Series:
    runs = [
        RunSample(f"r{number}", [Figure("goodput-settled", value, {"direction": "send"})], {})
        for number, value in enumerate(values)
    ]
    return Series("s", runs)


def point(number: float) -> Point:
    return (Setting("socket-buffer", f"{number:g}k", number * 1000),)


class TheOrder(unittest.TestCase):
    def test_every_point_once_in_each_round(self) -> None:
        self.assertEqual(order_of(3, 2), [0, 1, 2, 0, 1, 2])
        drawn = order_of(5, 20, random.Random(3).shuffle)
        self.assertEqual(drawn, order_of(5, 20, random.Random(3).shuffle))
        rounds = [drawn[at : at + 5] for at in range(0, 100, 5)]
        self.assertEqual({tuple(sorted(turn)) for turn in rounds}, {(0, 1, 2, 3, 4)})
        self.assertGreater(len({tuple(turn) for turn in rounds}), 5)


class TheReading(unittest.TestCase):
    CURVE = [(point(64), series(25, 26, 25)), (point(256), series(99, 101, 100)), (point(1024), series(400, 398, 401))]
    FLAT = [(point(4096), series(941, 940, 941)), (point(8192), series(943, 941, 942))]

    def test_the_knee_and_what_to_recommend(self) -> None:
        reading = read_sweep([*self.CURVE, *self.FLAT], series(941, 942), series(940, 941), "goodput-settled", "send")
        assert reading and reading.knee and reading.best and reading.drift
        self.assertEqual(reading.knee.settings, point(4096))
        self.assertEqual(reading.best.settings, point(4096))
        self.assertAlmostEqual(reading.drift.ratio, -1 / 941.5, places=4)
        change = reading.points[0].change
        assert change
        self.assertAlmostEqual(change.ratio, 25.33 / 941 - 1, places=2)

    def test_no_knee_where_it_still_climbs(self) -> None:
        reading = read_sweep(self.CURVE, series(941, 942), series(941, 943), "goodput-settled", "send")
        assert reading and reading.best
        self.assertIsNone(reading.knee)
        self.assertEqual(reading.best.settings, point(1024))

    def test_repeats_that_disagree_tell_nothing(self) -> None:
        wild = [*self.CURVE, (point(4096), series(400, 900, 1500))]
        reading = read_sweep(wild, series(941, 942), series(941, 943), "goodput-settled", "send")
        assert reading
        self.assertEqual((reading.knee, reading.best), (None, None))

    def test_what_was_not_measured(self) -> None:
        self.assertIsNone(read_sweep(self.CURVE, None, None, "goodput-settled", "receive"))
        reading = read_sweep(self.CURVE, None, None, "goodput-settled", "send", [1.0, None, 3.0])
        assert reading
        self.assertIsNone(reading.points[0].change)
        self.assertEqual([one.theory for one in reading.points], [1.0, None, 3.0])

    def test_arithmetic(self) -> None:
        self.assertAlmostEqual(window_bound_bps(65536, 0.01), 52_428_800)


class TheAxes(unittest.TestCase):
    def test_reading_them(self) -> None:
        axis = parse_axis("socket-buffer=64k,4Mi")
        self.assertEqual([one.number for one in axis.values], [64_000, 4 * 2**20])
        names = parse_axis("congestion-control=cubic,reno")
        self.assertEqual([one.number for one in names.values], [None, None])
        self.assertEqual(point_name((axis.values[0], names.values[1])), "socket-buffer-64k_congestion-control-reno")
        for wrong in ("flows", "flows=2", "colour=1,2", "flows=1,x", "pacing=1,2MB/s"):
            with self.assertRaises(UsageError):
                parse_axis(wrong)
