import unittest
from collections.abc import Sequence

from harvok.core.observer import Observer
from harvok.core.trials.link import MISSED, SPEED, LinkTrial
from harvok.errors import NothingFoundError
from harvok.rigs.watched import PortSample, WatchedRig
from harvok.testing.clock import ManualClock

UP = PortSample("up", 10e9, "full", 1)
OUT = PortSample("no link", None, None, 1)


class Watching(unittest.TestCase):
    """The looks are scripted; each takes a tenth of a second of a clock that only this test moves."""

    def events(self, looks: Sequence[PortSample], trial: LinkTrial) -> list[tuple[str, float | None, int]]:
        left = iter(looks)
        last = looks[-1]
        rig = WatchedRig(read_state=lambda _: next(left, last), clock=ManualClock())
        result = rig.run(trial, Observer())
        return [(event.name, event.values.get(SPEED), round(event.values.get(MISSED, 0))) for event in result.events]

    def test_plugged_twice(self) -> None:
        slow = PortSample("up", 2.5e9, "full", 2)
        got = self.events([UP, UP, OUT, OUT, slow], LinkTrial("eth1", link_ups=2))
        self.assertEqual(got, [("up", 10e9, 0), ("no link", None, 0), ("up", 2.5e9, 0)])

    def test_a_speed_that_comes_late(self) -> None:
        unknown = PortSample("up", None, None, 1)
        got = self.events([OUT, unknown, unknown, UP], LinkTrial("eth1", link_ups=1))
        self.assertEqual(got, [("no link", None, 0), ("up", 10e9, 0)])

    def test_a_loss_too_short_to_be_seen(self) -> None:
        again = PortSample("up", 1e9, "full", 3)
        got = self.events([UP, again], LinkTrial("eth1", link_ups=2))
        self.assertEqual(got, [("up", 10e9, 0), ("up", 1e9, 2)])

    def test_the_time_is_over(self) -> None:
        self.assertEqual(self.events([OUT], LinkTrial("eth1", duration_s=2.0)), [("no link", None, 0)])

    def test_no_such_port(self) -> None:
        with self.assertRaises(NothingFoundError):
            self.events([PortSample("gone")], LinkTrial("eth9"))
