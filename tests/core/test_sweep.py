import random
import unittest
from collections.abc import Sequence

from hypothesis import given
from hypothesis import strategies as st

from harvok.core.figures import Figure
from harvok.core.judgement.sample import RunSample, Series
from harvok.core.kinds.table import kind_of
from harvok.core.models.impairment import ImpairmentFile
from harvok.core.procedure import Test
from harvok.core.procedures.frames import FrameSettings, FrameSize
from harvok.core.procedures.load import LoadTest
from harvok.core.procedures.rfc2544 import FrameTest
from harvok.core.procedures.udp import UdpLoadTest
from harvok.core.sweeps.axes import (
    FRAME_AXES,
    TCP_AXES,
    UDP_AXES,
    Point,
    Role,
    Setting,
    is_impairment,
    order_of,
    parse_axis,
    point_name,
    points_of,
)
from harvok.core.sweeps.reading import SweepReading, Swept, SweptFigures, bounds_of, read_sweep
from harvok.core.tcp.bounds import square_root_bps, window_bound_bps
from harvok.core.trials.udp import UdpTrial
from harvok.core.udp.services import ServiceSpec
from harvok.errors import ImpairmentError, UsageError

TCP = "tcp"
FIGURES = SweptFigures("goodput-settled", ("rtt-mean", "retransmitted"), bounded=True)


def series(*values: float, quantity: str = "goodput-settled", mark: str = "", **beside: float) -> Series:
    """One run for each value, in the sending direction."""
    labels = {"direction": "send"}
    others = [Figure(name.replace("_", "-"), value, labels) for name, value in beside.items()]
    runs = [
        RunSample(f"r{number}", [Figure(quantity, value, labels, mark), *others], {})  # type: ignore[arg-type]
        for number, value in enumerate(values)
    ]
    return Series("s", runs)


def point(number: float, name: str = "socket-buffer") -> Point:
    return (Setting(name, f"{number:g}k", number * 1000),)


def reading(
    points: Sequence[tuple[Point, Series]],
    before: Series | None = None,
    after: Series | None = None,
    roles: dict[str, Role] | None = None,
    figures: SweptFigures = FIGURES,
) -> SweepReading:
    swept = [Swept(where, taken) for where, taken in points]
    found = read_sweep(TCP, figures, swept, (before, after), "send", roles or {"socket-buffer": "setting"})
    assert found
    return found


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
        found = reading([*self.CURVE, *self.FLAT], series(941, 942), series(940, 941))
        assert found.knee and found.drift
        self.assertEqual((found.knee.kind, found.knee.point.settings), ("gain", point(4096)))
        self.assertEqual([best.settings for best in found.best], [point(4096)])
        self.assertAlmostEqual(found.drift.ratio, -1 / 941.5, places=4)
        change = found.points[0].change
        assert change
        self.assertAlmostEqual(change.ratio, 25.33 / 941 - 1, places=2)

    def test_no_knee_where_it_still_climbs(self) -> None:
        found = reading(self.CURVE, series(941, 942), series(941, 943))
        self.assertIsNone(found.knee)
        self.assertEqual([best.settings for best in found.best], [point(1024)])

    def test_repeats_that_disagree_tell_nothing(self) -> None:
        found = reading([*self.CURVE, (point(4096), series(400, 900, 1500))], series(941, 942), series(941, 943))
        self.assertEqual((found.knee, found.best), (None, []))

    def test_what_was_not_measured(self) -> None:
        swept = [Swept(where, taken) for where, taken in self.CURVE]
        self.assertIsNone(read_sweep(TCP, FIGURES, swept, (None, None), "receive", {"socket-buffer": "setting"}))
        self.assertIsNone(reading(self.CURVE).points[0].change)

    def test_up_to_where_a_condition_does_no_harm(self) -> None:
        harmless = [(point(n, "delay"), series(900 + n, 901)) for n in (0, 1, 2)]
        harmed = [(point(20, "delay"), series(300, 301)), (point(40, "delay"), series(150, 151))]
        roles: dict[str, Role] = {"delay": "condition"}
        for points, at in (([*harmless, *harmed], 2.0), (harmless, 2.0)):
            found = reading(points, series(900, 901), None, roles)
            assert found.knee
            self.assertEqual((found.knee.kind, found.knee.point.settings), ("harm", point(at, "delay")))
            self.assertEqual(found.best, [])
        below = reading([*harmed, (point(80, "delay"), series(70, 71))], series(900, 901), None, roles)
        self.assertIsNone(below.knee)

    def test_one_recommendation_for_each_condition(self) -> None:
        roles: dict[str, Role] = {"delay": "condition", "socket-buffer": "setting"}
        grid = {(1, 64): 250, (1, 1024): 940, (1, 4096): 941, (20, 64): 12, (20, 1024): 200, (20, 4096): 800}
        points = [((*point(d, "delay"), *point(b)), series(v, v * 1.001)) for (d, b), v in grid.items()]
        found = reading(points, series(941, 942), None, roles)
        chosen = [(best.settings[0].text, best.settings[1].text) for best in found.best]
        self.assertEqual(chosen, [("1k", "1024k"), ("20k", "4096k")])
        self.assertIsNone(found.knee)

    def test_what_the_tester_limited_is_neither_knee_nor_advice(self) -> None:
        points = [(where, series(*(r.figures[0].value for r in s.runs), mark="tester-limit")) for where, s in self.FLAT]
        found = reading([*self.CURVE, *points])
        self.assertEqual((found.knee, found.best), (None, []))
        self.assertEqual([one.limiter for one in found.points], ["", "", "", "the TESTER", "the TESTER"])


class WhatArithmeticAllows(unittest.TestCase):
    def test_window_loss_and_ceiling(self) -> None:
        self.assertAlmostEqual(window_bound_bps(65536, 0.01), 52_428_800)
        self.assertAlmostEqual(square_root_bps(1448, 0.01, 0.0001), 1448 * 8 / 0.01 * 122)
        taken = series(1e7, rtt_min=0.01, segment_payload=1448, ceiling=941e6)
        here = (Setting("socket-buffer", "64k", 64_000), Setting("loss", "1%", 0.01))
        found = bounds_of(Swept(here, taken, (Setting("flows", "4", 4.0),)), "send")
        self.assertAlmostEqual(found["window / RTT"], 4 * 51.2e6)
        self.assertAlmostEqual(found["square-root law"], 4 * 1448 * 8 / 0.01 * 12.2)
        self.assertAlmostEqual(found["ceiling less loss"], 941e6 * 0.99)

    def test_loss_the_other_way_is_no_bound(self) -> None:
        taken = series(1e7, rtt_min=0.01, segment_payload=1448)
        back = Swept((Setting("receive.loss", "1%", 0.01),), taken)
        self.assertEqual(bounds_of(back, "send"), {})
        this_way = Swept((Setting("send.loss", "1%", 0.01),), taken)
        self.assertEqual(list(bounds_of(this_way, "send")), ["square-root law"])


class TheAxes(unittest.TestCase):
    def test_reading_them(self) -> None:
        axis = parse_axis("socket-buffer=64k,4Mi", TCP_AXES)
        self.assertEqual([one.number for one in axis.values], [64_000, 4 * 2**20])
        names = parse_axis("congestion-control=cubic,reno", TCP_AXES)
        self.assertEqual([one.number for one in names.values], [None, None])
        self.assertEqual(point_name((axis.values[0], names.values[1])), "socket-buffer-64k_congestion-control-reno")
        self.assertEqual(len(points_of((axis, names))), 4)
        delay = parse_axis("send.delay=0,5ms", FRAME_AXES)
        self.assertEqual(([one.number for one in delay.values], delay.role), ([0.0, 0.005], "condition"))

    def test_refused_with_what_is_wrong(self) -> None:
        for wrong, why in (
            ("flows", "names nothing that can be varied"),
            ("colour=1,2", "names nothing that can be varied"),
            ("there.delay=0,1ms", "names nothing that can be varied"),
            ("load=10M,20M", "names nothing that can be varied of tcp"),
            ("flows=2", "fewer than 2 values"),
            ("flows=2,2", "fewer than 2 values"),
            ("flows=1,x", "not a whole number"),
            ("pacing=1,2MB/s", "bytes"),
            ("flows=0,4", "flows is to be a whole number from 1 to 64"),
            ("flows=1..4/3", "2.5 is not possible"),
            ("dscp=0,64", "from 0 to 63"),
            ("mss=10,1460", "from 88 to 65495"),
            ("pacing=1,1M", "1000 at least"),
            ("loss=0,1", "not a percentage"),
            ("loss=0,101%", "not a percentage"),
            ("delay=0,5", "with its unit"),
            ("delay=1ms..5ms", "no range"),
            ("delay=0..5ms*2", "no range"),
            ("delay=1ms..5ms/1", "no range"),
            ("delay=1ms..5ms*1", "no range"),
        ):
            with self.assertRaises(UsageError) as raised:
                parse_axis(wrong, TCP_AXES)
            self.assertIn(why, f"{raised.exception.message} {raised.exception.hint}", wrong)

    def test_ranges(self) -> None:
        for text, axes, written in (
            ("load=10%..100%/4", FRAME_AXES, ["10%", "40%", "70%", "100%"]),
            ("load=100%..10%/4", FRAME_AXES, ["100%", "70%", "40%", "10%"]),
            ("socket-buffer=64k..4M*4", TCP_AXES, ["64k", "256k", "1.024M"]),
            ("loss=0.01%..10%*10", TCP_AXES, ["0.01%", "0.1%", "1%", "10%"]),
            ("loss=8%..1%*2", TCP_AXES, ["8%", "4%", "2%", "1%"]),
            ("delay=0..20ms/3", TCP_AXES, ["0ms", "10ms", "20ms"]),
            ("load=500M..1.5G/3,2G", UDP_AXES, ["500M", "1G", "1.5G", "2G"]),
        ):
            self.assertEqual([one.text for one in parse_axis(text, axes).values], written)

    @given(st.integers(10**3, 10**9), st.integers(10**3, 10**9), st.integers(2, 50))
    def test_a_range_reaches_both_ends_and_is_read_back(self, first: int, last: int, count: int) -> None:
        values = parse_axis(f"pacing={first}..{last}/{count}", TCP_AXES, min_values=1).values
        self.assertEqual(len(values), count)
        self.assertAlmostEqual(values[0].number or 0, first)
        self.assertAlmostEqual(values[-1].number or 0, last)
        for one in values:
            self.assertAlmostEqual(float(one.text) / (one.number or 1), 1, places=4)


class ReachingTheTest(unittest.TestCase):
    def changed(self, test: Test, text: str) -> object:
        sweeping = kind_of(test).sweeping
        assert sweeping
        return sweeping.with_setting(test, parse_axis(text, sweeping.axes, min_values=1).values[0])

    def test_of_udp(self) -> None:
        test = UdpLoadTest("send", UdpTrial((), (), 1.0), (ServiceSpec(1e6, 1518),))
        for text, read in (
            ("load=5M", lambda t: t.services[0].rate_bps == 5e6),
            ("frame-size=512", lambda t: t.services[0].frame_bytes == 512),
            ("flows=4", lambda t: t.services[0].flows == 4),
            ("dscp=46", lambda t: t.services[0].dscp == 46),
            ("socket-buffer=1M", lambda t: t.trial.socket_buffer_bytes == 1_000_000),
        ):
            self.assertTrue(read(self.changed(test, text)), text)

    def test_of_frames(self) -> None:
        settings = FrameSettings(1e9)
        test = LoadTest((0.5,), (FrameSize("1518", (1518,)),), settings)
        loaded, small = self.changed(test, "load=90%"), self.changed(test, "frame-size=64")
        assert isinstance(loaded, LoadTest) and isinstance(small, LoadTest)
        self.assertEqual((loaded.shares, small.sizes), ((0.9,), (FrameSize("64", (64,)),)))
        search = FrameTest(("throughput",), test.sizes, settings)
        with self.assertRaises(UsageError):
            self.changed(search, "load=90%")

    def test_what_an_impairment_does_is_no_part_of_the_test(self) -> None:
        self.assertTrue(is_impairment("receive.burst-loss"))
        self.assertFalse(is_impairment("flows"))


class AnImpairmentVaried(unittest.TestCase):
    FILE = ImpairmentFile.model_validate(
        {"version": 1, "name": "x", "both": {"delay": "5ms"}, "schedule": [{"at": "9s", "both": {"loss": "1%"}}]}
    )

    def test_both_ways_or_one(self) -> None:
        made = self.FILE.changed({"send.loss": 0.01, "delay": 0.02, "queue": 3000.0}).plan()
        self.assertEqual(len(made.stages), 1)
        stage = made.stages[0]
        self.assertEqual((stage.send.loss, stage.receive.loss), (0.01, 0.0))
        self.assertEqual((stage.send.delay_s, stage.receive.delay_s, stage.send.queue_bytes), (0.02, 0.02, 3000.0))
        self.assertEqual(self.FILE.changed({}).plan().stages[0].send.delay_s, 0.005)

    def test_figures_that_do_not_go_together(self) -> None:
        with self.assertRaises(ImpairmentError) as raised:
            self.FILE.changed({"variation": 0.02})
        self.assertIn("no frame can arrive before it was sent", raised.exception.message)
