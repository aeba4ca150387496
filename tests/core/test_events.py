"""Events in mid-test: how they are written, and what they cost."""

import unittest

from hypothesis import given
from hypothesis import strategies as st

from harvok.core.events import (
    ArrivalSeries,
    ArrivedStretch,
    PlannedEvent,
    outage,
    outage_figures,
    outage_from_loss,
    parse_event,
    parse_events,
)
from harvok.core.samples import Sample
from harvok.core.trials.frames import progress_samples
from harvok.errors import UsageError


class AsTheyAreWritten(unittest.TestCase):
    def test_each_action(self) -> None:
        for text, event in (
            ("20s: link port2 down for 200ms", PlannedEvent(20.0, "link", "port2 down", 0.2, "200ms")),
            ("1min: link dome0 up", PlannedEvent(60.0, "link", "dome0 up")),
            ("0s: run ./pull.sh --now", PlannedEvent(0.0, "run", "./pull.sh --now")),
            ("2s: device clear counters: all", PlannedEvent(2.0, "device", "clear counters: all")),
            ("2s: set ifAdminStatus.3 2", PlannedEvent(2.0, "set", "ifAdminStatus.3 2")),
            ("1.5s: tell pull the second supply", PlannedEvent(1.5, "tell", "pull the second supply")),
        ):
            self.assertEqual(parse_event(text), event)
        self.assertEqual(parse_event("20s: link port2 down for 200ms").title, "link port2 down for 200ms")
        self.assertEqual(parse_event("20s: link port2 down for 200ms").ends_s, 20.2)

    def test_what_is_none_is_refused_with_the_form(self) -> None:
        for text in (
            "", "20s", "20s:", "20s: link", "20s: link port2", "20s: link port2 sideways", "20s: link p down for 0s",
            "20s: link p down for 2h for", "20: link p down", "soon: run true", "20s: reboot dome-sw-a", "20s: run ",
            "9999999s: run true",
        ):  # fmt: skip
            with self.assertRaises(UsageError, msg=text) as raised:
                parse_event(text)
            self.assertIn("Write it as", raised.exception.hint)

    def test_they_come_in_the_order_of_time(self) -> None:
        self.assertEqual([event.at_s for event in parse_events(["9s: run b", "1s: run a"])], [1.0, 9.0])
        with self.assertRaises(UsageError):
            parse_events(["1s: run true"] * 65)


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
        found = outage(even([1000.0] * 50 + [0.0] * 2 + [1000.0] * 48), 5.0, 10.0)
        figures = {one.quantity: one for one in outage_figures(event, "send", found, 2000, 10_000.0)}
        self.assertEqual(set(figures), {"outage-from-loss", "outage-from-rate", "time-to-recover"})
        self.assertEqual(figures["outage-from-loss"].value, 0.2)
        self.assertEqual(figures["outage-from-loss"].labels["event"], event.title)
        self.assertEqual(outage_figures(event, "send", None, None, 0.0), [])


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
