"""Changes of level: found where there is one, and not made of noise."""

import random
import unittest
from datetime import UTC, datetime
from itertools import pairwise

from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from harvok.core.measures.changes import find_changes
from harvok.core.site.alarms import SiteAlarm, alarm_of, new_change, standing
from harvok.core.site.history import Seen, history_of
from harvok.core.site.outcome import SiteTest, TestState

LEVEL = 940e6


def noisy(count: int, share: float = 0.01, seed: int = 1) -> list[float]:
    chance = random.Random(seed)
    return [LEVEL * (1 + chance.gauss(0, share)) for _ in range(count)]


class Finding(unittest.TestCase):
    def test_a_step_is_found_where_it_is_with_both_levels(self) -> None:
        for drop in (0.03, 0.1, 0.5):
            values = noisy(200)
            values[150:] = [value * (1 - drop) for value in values[150:]]
            (change,) = find_changes(values)
            self.assertLessEqual(abs(change.index - 150), 3)
            self.assertAlmostEqual(change.share, -drop, delta=0.005)

    def test_down_and_up_again_are_two(self) -> None:
        values = noisy(300)
        values[100:140] = [value * 0.9 for value in values[100:140]]
        self.assertEqual([round(change.share, 1) for change in find_changes(values)], [-0.1, 0.1])

    def test_noise_of_several_kinds_is_no_change(self) -> None:
        for seed in range(20):
            chance = random.Random(seed)
            outliers = [value * (0.5 if chance.random() < 0.05 else 1) for value in noisy(300, seed=seed)]
            self.assertEqual(find_changes(outliers), [], f"seed {seed}")

    def test_what_is_too_small_to_act_upon_is_left_out(self) -> None:
        values = [*[LEVEL] * 50, *[LEVEL * 0.985] * 50]
        self.assertEqual(find_changes(values), [])
        self.assertEqual(len(find_changes(values, smallest_share=0.01)), 1)

    def test_a_rhythm_of_the_day_is_no_change_and_hides_none(self) -> None:
        hours = [float(hour) for hour in range(24 * 21)]
        busy = [0.8 if 8 <= hour % 24 < 18 else 1.0 for hour in hours]
        values = [value * share for value, share in zip(noisy(len(hours)), busy, strict=True)]
        self.assertEqual(find_changes(values, hours), [])
        values[400:] = [value * 0.9 for value in values[400:]]
        (change,) = find_changes(values, hours)
        self.assertLessEqual(abs(change.index - 400), 5)

    def test_few_and_equal_values_have_no_change(self) -> None:
        for values in ([], [1.0], [0.0] * 50, [5.0] * 9, [1.0] * 4 + [2.0] * 4):
            self.assertEqual(find_changes(values), [])
        (change,) = find_changes([*[0.0] * 10, *[0.5] * 10])
        self.assertEqual((change.index, change.share), (10, float("inf")))

    @settings(suppress_health_check=[HealthCheck.too_slow], deadline=None)
    @given(st.lists(st.floats(0, 1e12), max_size=60))
    def test_changes_are_in_order_and_apart(self, values: list[float]) -> None:
        places = [0, *(change.index for change in find_changes(values)), len(values)]
        self.assertTrue(all(b - a >= 5 for a, b in pairwise(places)) or len(places) == 2)

    def test_a_history_has_the_band_of_its_first_level(self) -> None:
        values = noisy(100)
        values[60:] = [value / 2 for value in values[60:]]
        history = history_of([Seen(3600.0 * number, value, str(number)) for number, value in enumerate(values)])
        self.assertAlmostEqual(history.level, LEVEL, delta=LEVEL / 100)
        self.assertTrue(history.low < LEVEL * 0.99 and LEVEL * 1.01 < history.high < LEVEL * 1.05)
        self.assertEqual([end for _, end, _ in history.levels][-1], 100)
        self.assertEqual(len(history.levels), 2)


class Telling(unittest.TestCase):
    def tests(self, *states: str) -> list[SiteTest]:
        found = []
        for number, state in enumerate(states):
            failure = state if state not in ("ACCEPT", "REJECT", "RETEST", "done", "missed") else ""
            kind: TestState = "failed" if failure else "missed" if state == "missed" else "done"
            verdict = state if state.isupper() else ""
            due = datetime(2026, 11, 26, number, tzinfo=UTC)
            found.append(SiteTest("hourly", ("dome",), "hall", due, kind, verdict=verdict, failure=failure))
        return found

    def alarms(self, *states: str, in_a_row: int = 2) -> list[SiteAlarm]:
        tests = self.tests(*states)
        found = (alarm_of(tests[:number], in_a_row) for number in range(1, len(tests) + 1))
        return [alarm for alarm in found if alarm]

    def test_one_bad_test_is_no_alarm_and_two_are_one(self) -> None:
        self.assertEqual(self.alarms("ACCEPT", "ACCEPT", "REJECT", "ACCEPT", "REJECT", "ACCEPT"), [])
        (alarm,) = self.alarms("ACCEPT", "ACCEPT", "REJECT", "REJECT", "REJECT", "RETEST", "REJECT")
        self.assertEqual((alarm.kind, alarm.was, alarm.now), ("verdict", "good", "rejected"))

    def test_failing_and_working_again(self) -> None:
        kinds = [one.kind for one in self.alarms("done", "done", "host-down", "refused", "refused", "done", "done")]
        self.assertEqual(kinds, ["failure", "recovered"])
        self.assertEqual([one.kind for one in self.alarms("host-down", in_a_row=1)], ["failure"])

    def test_no_news_changes_nothing(self) -> None:
        self.assertEqual(standing(self.tests("REJECT", "missed", "busy", "RETEST", "REJECT"), 2), "rejected")
        self.assertEqual(self.alarms("done", "done", "busy", "busy", "missed", "missed", "RETEST", "RETEST"), [])

    def test_a_change_is_told_once(self) -> None:
        values = noisy(120)
        values[80:] = [value * 0.9 for value in values[80:]]
        hours = [float(number) for number in range(len(values))]
        told = [number for number in range(20, 121) if new_change(values[:number], hours[:number])]
        self.assertEqual(len(told), 1)
        self.assertTrue(85 <= told[0] <= 95, told)
