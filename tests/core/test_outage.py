"""What events in mid-test cost."""

import unittest

from hypothesis import given
from hypothesis import strategies as st

from harvok.core.events import parse_event
from harvok.core.outage import (
    ArrivalSeries,
    ArrivedStretch,
    EventEvidence,
    cost_figures,
    delay_rise_s,
    flows_lost,
    outage,
    outage_from_loss,
    stall_s,
)
from harvok.core.samples import Sample
from harvok.core.trials.delay import Echo
from harvok.core.trials.frames import progress_samples


def even(rates: list[float], each_s: float = 0.1) -> list[ArrivedStretch]:
    return [ArrivedStretch(number * each_s, (number + 1) * each_s, rate * each_s) for number, rate in enumerate(rates)]


class WhatTheyCost(unittest.TestCase):
    def test_a_path_that_is_cut_and_comes_back(self) -> None:
        found = outage(even([1000.0] * 50 + [0.0] * 2 + [1000.0] * 48), 5.0, 10.0)
        assert found
        self.assertAlmostEqual(found.lasted_s, 0.2)
        self.assertAlmostEqual(found.recovered_s or 0, 0.2)
        self.assertAlmostEqual(found.grain_s, 0.1)

    def test_one_that_comes_back_slowly(self) -> None:
        found = outage(even([1000.0] * 50 + [0.0, 250.0, 500.0, 750.0] + [1000.0] * 46), 5.0, 10.0)
        assert found
        self.assertAlmostEqual(found.lasted_s, 0.25)
        self.assertAlmostEqual(found.recovered_s or 0, 0.4)

    def test_one_that_does_not_come_back(self) -> None:
        found = outage(even([1000.0] * 50 + [0.0] * 50), 5.0, 10.0)
        assert found
        self.assertAlmostEqual(found.lasted_s, 5.0)
        self.assertIsNone(found.recovered_s)

    def test_nothing_to_see(self) -> None:
        self.assertEqual(outage(even([1000.0, 990.0] * 50), 5.0, 10.0).lasted_s, 0.0)  # type: ignore[union-attr]
        self.assertIsNone(outage(even([0.0] * 50), 2.0, 10.0), "nothing came before it")
        self.assertIsNone(outage(even([9.0] * 10), 2.0, 10.0), "nor after it")
        self.assertIsNone(outage([], 2.0, 10.0))

    @given(st.integers(0, 40), st.floats(10, 1e6))
    def test_any_cut_is_as_long_as_it_was(self, cut: int, rate: float) -> None:
        found = outage(even([rate] * 50 + [0.0] * cut + [rate] * 10), 5.0, 99.0)
        assert found
        self.assertAlmostEqual(found.lasted_s, cut * 0.1, places=6)

    def test_loss_by_the_load(self) -> None:
        self.assertEqual((outage_from_loss(2000, 10_000.0), outage_from_loss(0, 0.0)), (0.2, 0.0))
        event = parse_event("5s: link port2 down for 200ms")
        seen = EventEvidence()
        seen.arrivals.series["send"] = even([1000.0] * 50 + [0.0] * 2 + [1000.0] * 48)
        figures = {one.quantity: one for one in cost_figures(event, "send", seen, 10.0, 2000, 10_000.0)}
        self.assertEqual(set(figures), {"outage-from-loss", "outage-from-rate", "time-to-recover", "event-stall"})
        self.assertEqual(figures["outage-from-loss"].value, 0.2)
        self.assertEqual(figures["outage-from-loss"].labels["event"], event.title)
        self.assertAlmostEqual(figures["event-stall"].value, 0.2)
        self.assertEqual(list(cost_figures(event, "receive", seen, 10.0)), [])


class WhatCame(unittest.TestCase):
    def test_frames_and_bytes_of_tcp_are_totals(self) -> None:
        seen = ArrivalSeries()
        for at_s, received in ((0.5, 100), (1.0, 300), (1.5, 300)):
            seen.add(progress_samples("send", at_s, received, received, None))
        self.assertEqual([one.amount for one in seen.series["send"]], [100, 200, 0])
        for at_s, moved in ((0.1, 500.0), (0.2, 900.0)):
            for role in ("receiver", "sender"):
                seen.add([Sample(at_s, "near", "payload-bytes", moved, {"direction": "receive", "role": role})])
        self.assertEqual([one.amount for one in seen.series["receive"]], [500.0, 400.0])

    def test_services_are_what_came_since_and_are_added_up(self) -> None:
        seen = ArrivalSeries()
        for at_s in (0.1, 0.2):
            for service in ("voice", "spectra"):
                labels = {"direction": "receive", "role": "receiver", "service": service}
                seen.add([Sample(at_s, "near", "datagrams", 50.0, labels)])
        seen.add([Sample(0.2, "far", "datagrams", 99.0, {"direction": "receive", "role": "sender"})])
        self.assertEqual([one.amount for one in seen.series["receive"]], [100.0, 100.0])
        self.assertAlmostEqual(seen.series["receive"][1].rate, 1000.0)

    def test_packets_and_their_answers(self) -> None:
        seen = EventEvidence()
        for number in range(100):
            answered = not 50 <= number < 60
            seen.add(list(Echo(number, number * 0.1, 0.002 if answered else None).samples(0.0)))
        self.assertEqual(seen.directions, [""])
        figures = {one.quantity: one.value for one in cost_figures(parse_event("4.95s: run true"), "", seen, 10.0)}
        self.assertAlmostEqual(figures["outage-from-rate"], 1.0)
        self.assertAlmostEqual(figures["event-stall"], 1.0, delta=0.051)
        self.assertEqual(figures["event-delay-rise"], 0.0)


class WhatElseTheyCost(unittest.TestCase):
    def test_a_stall_is_the_longest_time_of_nothing(self) -> None:
        series = even([9.0] * 10 + [0.0] * 3 + [9.0] + [0.0] * 2 + [9.0] * 4)
        self.assertAlmostEqual(stall_s(series, 1.0, 2.0), 0.3)
        self.assertAlmostEqual(stall_s(series, 1.35, 2.0), 0.2)
        self.assertEqual(stall_s(even([9.0] * 20), 1.0, 2.0), 0.0)
        self.assertAlmostEqual(
            stall_s(even([9.0] * 10 + [0.0] * 10), 1.05, 2.0), 0.95, msg="to the end, from the event"
        )

    def test_a_delay_rises_against_the_median_before(self) -> None:
        before = [(at / 10, 0.001) for at in range(50)] + [(4.95, 0.5)]
        self.assertAlmostEqual(delay_rise_s([*before, (5.1, 0.011), (5.2, 0.021), (9.0, 1.0)], 5.0, 6.0) or 0, 0.020)
        self.assertEqual(delay_rise_s([*before, (5.1, 0.0005)], 5.0, 6.0), 0.0)
        self.assertIsNone(delay_rise_s(before, 5.0, 6.0))
        self.assertIsNone(delay_rise_s([(5.1, 0.1)], 5.0, 6.0))

    def test_flows_that_move_no_more(self) -> None:
        lives = [(1.0, 10.0), (2.0, 0.0), (3.0, 10.0)]
        dies = [(1.0, 10.0), (2.0, 5.0), (3.0, 0.0)]
        was_dead = [(1.0, 0.0), (2.0, 0.0), (3.0, 0.0)]
        self.assertEqual(flows_lost([lives, dies, was_dead, []], 1.5, 3.0), 1)

    def test_what_each_kind_of_traffic_tells(self) -> None:
        seen = EventEvidence()
        tcp = {"direction": "send", "role": "sender", "flow": "0"}
        users = {"direction": "receive", "role": "sender"}
        for at_s, rtt_us, moved, failed in ((1.0, 100.0, 9.0, 0.0), (2.0, 100.0, 9.0, 2.0), (3.0, 700.0, 0.0, 3.0)):
            seen.add([Sample(at_s, "near", "rtt-us", rtt_us, tcp)])
            seen.add([Sample(at_s, "far", "flow-bytes", moved, {**tcp, "role": "receiver"})])
            seen.add([Sample(at_s, "near", "failed", failed, users)])
        event = parse_event("2s: run true")
        sent = {one.quantity: one.value for one in cost_figures(event, "send", seen, 3.0)}
        self.assertAlmostEqual(sent["event-delay-rise"], 0.0006)
        self.assertEqual(sent["event-lost-connections"], 1)
        received = {one.quantity: one.value for one in cost_figures(event, "receive", seen, 3.0)}
        self.assertEqual(received, {"event-failed-transactions": 3.0})
