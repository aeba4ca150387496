"""A site's schedule: when rounds are due, and which tests may run beside each other."""

import random
import unittest
from datetime import UTC, datetime, timedelta
from itertools import pairwise
from zoneinfo import ZoneInfo

from hypothesis import given, settings
from hypothesis import strategies as st

from harvok.core.site.calendar import cron_expression, due_times, is_within, parse_hours
from harvok.core.site.forecast import Forecast, Stay, forecast
from harvok.core.site.queue import Job, Turns
from harvok.core.site.rounds import Group, Round, jobs_between
from harvok.errors import UsageError

BERLIN = ZoneInfo("Europe/Berlin")


class WhenRoundsAreDue(unittest.TestCase):
    def test_as_people_write_it(self) -> None:
        for text, fields in (
            ("every hour", "0 * * * *"),
            ("every 15min", "*/15 * * * *"),
            ("Every 2 hours", "0 */2 * * *"),
            ("every minute", "* * * * *"),
            ("daily 04:30", "30 4 * * *"),
            ("weekdays 12:00", "0 12 * * 1-5"),
            ("sundays 2:05", "5 2 * * 0"),
            ("0 6 1 * *", "0 6 1 * *"),
        ):
            self.assertEqual(cron_expression(text), fields)

    def test_what_is_no_time_is_refused(self) -> None:
        for text in ("", "soon", "every 7min", "every 0min", "daily 25:00", "60 * * * *", "someday 12:00", "every 5h"):
            with self.assertRaises(UsageError, msg=text) as raised:
                cron_expression(text)
            self.assertTrue(raised.exception.hint)

    def due(self, text: str, after: datetime, until: datetime) -> list[str]:
        return [f"{one:%d %H:%M %z}" for one in due_times(cron_expression(text), BERLIN, after, until)]

    def test_after_one_moment_and_up_to_another_by_the_clocks_of_a_zone(self) -> None:
        noon = datetime(2026, 11, 26, 12, tzinfo=BERLIN)
        self.assertEqual(self.due("every hour", noon, noon + timedelta(hours=2)), ["26 13:00 +0100", "26 14:00 +0100"])
        in_utc = self.due("daily 12:00", datetime(2026, 11, 26, 10, 59, tzinfo=UTC), noon)
        self.assertEqual(in_utc, ["26 12:00 +0100"])

    def test_the_hour_that_is_left_out_and_the_one_that_comes_twice(self) -> None:
        spring, autumn = datetime(2026, 3, 29, tzinfo=BERLIN), datetime(2026, 10, 25, tzinfo=BERLIN)
        self.assertEqual(self.due("daily 02:30", spring, spring + timedelta(hours=20)), ["29 03:00 +0200"])
        self.assertEqual(len(self.due("daily 02:30", autumn, autumn + timedelta(hours=20))), 1)

    def test_quiet_hours_may_go_over_midnight(self) -> None:
        night, lunch = parse_hours("22:00-06:00"), parse_hours("12:00-13:00")
        for hour, at_night, at_lunch in (
            (21, 0, 0),
            (22, 1, 0),
            (0, 1, 0),
            (5, 1, 0),
            (6, 0, 0),
            (12, 0, 1),
            (13, 0, 0),
        ):
            moment = datetime(2026, 11, 26, hour)
            self.assertEqual((is_within(moment, night), is_within(moment, lunch)), (bool(at_night), bool(at_lunch)))
        self.assertTrue(is_within(datetime(2026, 11, 26, 23, 59), parse_hours("22:00-24:00")))
        for text in ("", "22-6", "22:00-22:00", "25:00-06:00", "22:60-06:00"):
            with self.assertRaises(UsageError, msg=text):
                parse_hours(text)

    def test_nothing_is_due_in_quiet_hours(self) -> None:
        group = Group(("dome",), "hall", frozenset({"dome", "hall"}))
        one = Round("hourly", "0 * * * *", (group,), 600.0, (parse_hours("20:00-06:00"),))
        day = datetime(2026, 11, 26, tzinfo=BERLIN)
        jobs = jobs_between([one], BERLIN, day, day + timedelta(days=1))
        self.assertEqual([datetime.fromtimestamp(job.due_s, BERLIN).hour for job in jobs], list(range(6, 20)))


def job(name: str, needs: str, due_s: float = 0.0, late_s: float = 1e6) -> Job:
    return Job(name, (needs[0],), needs[-1], due_s, frozenset(needs), late_s)


class WhoseTurnItIs(unittest.TestCase):
    def test_what_shares_nothing_begins_together_and_others_in_their_turn(self) -> None:
        turns = Turns()
        first, beside, second = job("first", "ab"), job("beside", "cd"), job("second", "bc", 1.0)
        turns.add([second, beside, first])
        self.assertEqual(turns.start(1.0), [beside, first])
        self.assertEqual(turns.next_limit_s(), 1.0 + second.late_s, "the others do not wait")
        turns.end(first)
        self.assertEqual(turns.start(2.0), [], "c is still taken")
        turns.end(beside)
        self.assertEqual(turns.start(3.0), [second])

    def test_others_may_pass_until_one_has_waited_for_half_of_what_it_may(self) -> None:
        for now_s, begins in ((49.0, True), (51.0, False)):
            turns = Turns()
            runs, waits, later = job("runs", "ab"), job("waits", "bc", 1.0, 98.0), job("later", "cd", 2.0)
            turns.add([runs])
            turns.start(0.0)
            turns.add([waits, later])
            self.assertEqual(turns.start(now_s), [later] if begins else [])
            turns.end(runs)
            self.assertEqual(turns.start(now_s), [] if begins else [waits])

    def test_who_waited_too_long_is_missed_with_the_reason(self) -> None:
        turns = Turns()
        runs, waits, behind = job("runs", "ab"), job("waits", "bc", 1.0, 10.0), job("behind", "cd", 2.0, 8.0)
        turns.add([runs])
        turns.start(2.0)
        turns.add([waits, behind])
        self.assertEqual(turns.start(6.5), [], "c is kept for who has waited for five seconds")
        self.assertEqual(turns.give_up(10.0), [])
        self.assertEqual(turns.next_limit_s(), 10.0)
        (missed,) = turns.give_up(10.1)
        self.assertEqual((missed.job, missed.waited_for, missed.held_by), (behind, "c", "waits: b to c"))
        (missed,) = turns.give_up(12.0)
        self.assertEqual((missed.waited_for, missed.held_by), ("b", "runs: a to b"))
        self.assertIsNone(turns.next_limit_s())


def drawn(rng: random.Random, names: list[str], late_s: float) -> list[Job]:
    """Jobs of any needs at any times."""
    jobs = []
    for number in range(rng.randrange(1, 60)):
        near, far, *links = rng.sample(names, rng.choice([2, 2, 3, 4]))
        jobs.append(Job(f"r{number}", (near,), far, rng.uniform(0, 500), frozenset({near, far, *links}), late_s))
    return jobs


def everything_is_accounted_for(found: Forecast, jobs: list[Job]) -> bool:
    told = [stay.job for stay in found.stays] + [one.job for one in found.missed]
    return sorted(told, key=lambda one: one.name) == sorted(jobs, key=lambda one: one.name)


def overlaps(found: Forecast) -> list[tuple[Stay, Stay]]:
    """Tests that ran at one time and shared what they needed: there are none."""
    by_need: dict[str, list[Stay]] = {}
    for stay in found.stays:
        for need in stay.job.needs:
            by_need.setdefault(need, []).append(stay)
    by_time = [sorted(stays, key=lambda stay: stay.began_s) for stays in by_need.values()]
    return [pair for stays in by_time for pair in pairwise(stays) if pair[1].began_s < pair[0].ended_s]


class InVirtualTime(unittest.TestCase):
    @settings(max_examples=100, deadline=None)
    @given(st.randoms(use_true_random=False), st.integers(3, 12), st.sampled_from([0.0, 30.0, 1e9]))
    def test_no_overlap_no_starvation_and_nobody_is_late(
        self, rng: random.Random, stations: int, late_s: float
    ) -> None:
        jobs = drawn(rng, [f"s{number}" for number in range(stations + 1)], late_s)
        found = forecast(jobs, lambda _: rng.uniform(0.1, 40))
        self.assertTrue(everything_is_accounted_for(found, jobs))
        self.assertEqual(overlaps(found), [])
        self.assertTrue(all(0 <= stay.late_s <= late_s + 0.01 for stay in found.stays))
        if late_s > 1e6:
            self.assertEqual(found.missed, [], "whoever may wait for ever has his turn")

    def test_nobody_is_passed_for_longer_than_his_patience(self) -> None:
        """Either a and b or c are always taken, by tests that follow upon each other for ever."""
        ab = [job(f"ab{number}", "ab", 10.0 * number) for number in range(100)]
        cd = [job(f"cd{number}", "cd", 10.0 * number + 5) for number in range(100)]
        wide = Job("wide", ("a",), "c", 103.0, frozenset("abc"), 400.0)
        found = forecast([*ab, *cd, wide], lambda _: 10.0)
        (stay,) = [stay for stay in found.stays if stay.job is wide]
        self.assertTrue(200.0 <= stay.late_s <= 220.0, stay)

    @settings(max_examples=40, deadline=None)
    @given(st.randoms(use_true_random=False))
    def test_nobody_waits_for_what_nobody_before_him_needs(self, rng: random.Random) -> None:
        jobs = drawn(rng, list("abcdefgh"), 1e9)
        alone = Job("alone", ("x",), "y", 250.0, frozenset("xy"), 1e9)
        found = forecast([*jobs, alone], lambda _: rng.uniform(0.1, 40))
        (stay,) = [stay for stay in found.stays if stay.job is alone]
        self.assertEqual(stay.began_s, 250.0)

    def test_two_hundred_stations_for_a_week(self) -> None:
        """Twenty rooms of ten stations, each room behind an uplink of its own: each station to the hall each hour, and
        each room's first to the first of the next at noon."""
        rooms = [[f"r{room}-{number}" for number in range(10)] for room in range(20)]
        to_hall = tuple(
            Group((name,), f"hall-{room % 4}", frozenset({name, f"hall-{room % 4}", f"uplink-{room}"}))
            for room, names in enumerate(rooms)
            for name in names
        )
        across = tuple(
            Group(
                (names[0],),
                rooms[(room + 1) % 20][0],
                frozenset({names[0], rooms[(room + 1) % 20][0], f"uplink-{room}", f"uplink-{(room + 1) % 20}"}),
            )
            for room, names in enumerate(rooms)
        )
        rounds = [
            Round("hourly", "0 * * * *", to_hall, 3600.0),
            Round("noon", "5 12 * * 1-5", across, 3600.0),
        ]
        monday = datetime(2026, 11, 23, tzinfo=BERLIN)
        jobs = jobs_between(
            rounds, BERLIN, monday - timedelta(seconds=1), monday + timedelta(days=7) - timedelta(seconds=1)
        )
        self.assertEqual(len(jobs), 200 * 24 * 7 + 20 * 5)
        rng = random.Random(1)
        found = forecast(jobs, lambda _: rng.uniform(20, 40))
        self.assertTrue(everything_is_accounted_for(found, jobs))
        self.assertEqual((overlaps(found), found.missed), ([], []))
        self.assertLess(found.longest_wait_s()["hourly"], 50 * 40)
        busy_s = found.busy_s()
        self.assertAlmostEqual(busy_s["hall-0"] / (50 * 24 * 7 * 30), 1.0, delta=0.02)
