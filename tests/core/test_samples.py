import unittest

from harvok.core.ends import CpuUse
from harvok.core.samples import (
    INTERVAL_INDEX,
    IntervalReader,
    Sample,
    SampleTable,
    cpu_samples,
    in_columns,
    replayed,
)
from harvok.core.time_axis import ClockOffset, TimeAxis, closer
from harvok.core.trials.tcp import TcpInfo, TcpInterval, tcp_info


class Columns(unittest.TestCase):
    def test_samples_of_one_moment_share_a_row(self) -> None:
        table = SampleTable()
        table.add([Sample(0.1, "near", "cpu", 0.5), Sample(0.1, "near", "rate", 3.0), Sample(0.2, "near", "rate", 4.0)])
        (block,) = table.columns
        self.assertEqual((block.at_s, block.values), ([0.1, 0.2], {"cpu": [0.5, None], "rate": [3.0, 4.0]}))
        self.assertEqual(block.of("rate"), [(0.1, 3.0), (0.2, 4.0)])
        self.assertEqual(block.of("unheard"), [])

    def test_a_second_value_of_one_moment_is_not_lost(self) -> None:
        (block,) = in_columns([Sample(0.1, "near", "delay", 1.0), Sample(0.1, "near", "delay", 2.0)])
        self.assertEqual(block.of("delay"), [(0.1, 1.0), (0.1, 2.0)])

    def test_sources_and_labels_stand_apart(self) -> None:
        samples = [Sample(0.1, end, "cpu", 0.5, {"core": core}) for end in ("near", "far") for core in "01"]
        self.assertEqual([(b.source, b.labels["core"]) for b in in_columns(samples)],
                         [("near", "0"), ("near", "1"), ("far", "0"), ("far", "1")])  # fmt: skip

    def test_replayed_they_are_all_there_in_the_order_of_time(self) -> None:
        samples = [Sample(at_s, "near", "rate", at_s) for at_s in (0.3, 0.1, 0.2)]
        self.assertEqual([sample.at_s for sample in replayed(in_columns(samples))], [0.1, 0.2, 0.3])
        closing = [Sample(0.1, "near", INTERVAL_INDEX, 0), Sample(0.1, "near", "rate", 1.0)]
        self.assertEqual([sample.quantity for sample in replayed(in_columns(closing))], ["rate", INTERVAL_INDEX])

    def test_an_hour_at_ten_a_second_stays_small(self) -> None:
        (block,) = in_columns(Sample(n / 10, "near", "goodput-bps", 940e6, {"flow": "0"}) for n in range(36_000))
        self.assertEqual((len(block.at_s), len(block.values["goodput-bps"])), (36_000, 36_000))


class Intervals(unittest.TestCase):
    INFO = TcpInfo(mss_bytes=1448, rtt_us=200, delivery_rate_bps=9.4e8)
    INTERVAL = TcpInterval(
        "send", "sender", 3, 3.0, 4.0, [(3.5, 50), (4.0, 100)], [60, 40], [INFO, INFO], CpuUse([0.5, 0.25], [0.4], 0.1)
    )

    def test_an_interval_comes_together_again(self) -> None:
        reader = IntervalReader()
        closed = [half for sample in self.INTERVAL.samples("near", 10.0) if (half := reader.add(sample))]
        (half,) = closed
        self.assertEqual((half.source, half.direction, half.role, half.index), ("near", "send", "sender", 3))
        self.assertEqual((half.start_s, half.end_s), (13.0, 14.0))
        self.assertEqual((half.of("flow-bytes"), half.of("payload-bytes")), ([60, 40], [50, 100]))
        self.assertEqual((half.of("cpu-core"), half.one("cpu-stolen"), half.one("unheard")), ([0.5, 0.25], 0.1, None))

    def test_a_connections_state_is_whole_again(self) -> None:
        self.assertEqual(tcp_info(dict(self.INFO.values())), self.INFO)

    def test_two_directions_do_not_mix(self) -> None:
        reader = IntervalReader()
        first, second = (
            [Sample(1.0, "near", "x", value, {"direction": way, "role": "sender"}) for value in (1, 2)]
            for way in ("send", "receive")
        )
        for sample in (*first, *second):
            self.assertIsNone(reader.add(sample))
        half = reader.add(Sample(1.0, "near", INTERVAL_INDEX, 0, {"direction": "send", "role": "sender"}))
        assert half
        self.assertEqual(half.of("x"), [1, 2])

    def test_a_system_that_tells_no_cpu(self) -> None:
        self.assertEqual(list(cpu_samples(None, 1.0, "near", {})), [])


class Axes(unittest.TestCase):
    def test_the_far_end_is_put_right_by_its_clock(self) -> None:
        axis = TimeAxis(1_000_000_000, ClockOffset(5.0, 0.001))
        self.assertEqual(axis.at_s("near", 1_500_000_000), 0.5)
        self.assertAlmostEqual(axis.at_s("far", 6_500_000_000), 0.5)

    def test_an_unknown_clock_counts_from_the_origin(self) -> None:
        self.assertEqual(TimeAxis(1_000_000_000).at_s("far", 99_000_000_000), 0.0)
        self.assertEqual(TimeAxis(1_000_000_000, ClockOffset(5.0, 0.001)).at_s("far", 0), 0.0)

    def test_drift_widens_the_bound(self) -> None:
        found = closer(ClockOffset(1.0, 0.1), ClockOffset(1.2, 0.05))
        assert found
        self.assertAlmostEqual(found.offset_s, 1.1)
        self.assertAlmostEqual(found.error_s, 0.2)
