"""Events in mid-test: how they are written."""

import unittest

from harvok.core.events import PlannedEvent, parse_event, parse_events
from harvok.errors import UsageError


class AsTheyAreWritten(unittest.TestCase):
    def test_each_action(self) -> None:
        for text, event in (
            ("20s: link port2 down for 200ms", PlannedEvent(20.0, "link", "port2 down", 0.2, "200ms")),
            ("1min: link dome0 up", PlannedEvent(60.0, "link", "dome0 up")),
            ("0s: run ./pull.sh --now", PlannedEvent(0.0, "run", "./pull.sh --now")),
            ("2s: device clear counters: all", PlannedEvent(2.0, "device", "clear counters: all")),
            ("2s: set ifAdminStatus.3 2", PlannedEvent(2.0, "set", "ifAdminStatus.3 2")),
            ("2s: impair lossy-lead for 5s", PlannedEvent(2.0, "impair", "lossy-lead", 5.0, "5s")),
            ("2s: impair my.toml", PlannedEvent(2.0, "impair", "my.toml")),
            ("9s: await reset it", PlannedEvent(9.0, "await", "reset it")),
            ("1.5s: tell pull the second supply", PlannedEvent(1.5, "tell", "pull the second supply")),
        ):
            self.assertEqual(parse_event(text), event)
        self.assertEqual(parse_event("20s: link port2 down for 200ms").title, "link port2 down for 200ms")
        self.assertEqual(parse_event("20s: link port2 down for 200ms").ends_s, 20.2)

    def test_what_is_none_is_refused_with_the_form(self) -> None:
        for text in (
            "", "20s", "20s:", "20s: link", "20s: link port2", "20s: link port2 sideways", "20s: link p down for 0s",
            "20s: link p down for 2h for", "20: link p down", "soon: run true", "20s: reboot dome-sw-a", "20s: run ",
            "9999999s: run true", "2s: impair a b", "2s: impair a for 0s", "2s: await",
        ):  # fmt: skip
            with self.assertRaises(UsageError, msg=text) as raised:
                parse_event(text)
            self.assertIn("Write it as", raised.exception.hint)

    def test_they_come_in_the_order_of_time(self) -> None:
        self.assertEqual([event.at_s for event in parse_events(["9s: run b", "1s: run a"])], [1.0, 9.0])
        with self.assertRaises(UsageError):
            parse_events(["1s: run true"] * 65)
