"""What follows from what a device counts: totals, rates, how fresh they are, and where frames were lost."""

import unittest
from dataclasses import replace

from hypothesis import given
from hypothesis import strategies as st

from harvok.core.device.counters import PortRates, Refresh, Totals, changes_between, has_restarted
from harvok.core.device.location import Crossing, Loss, locate, together, words_of
from harvok.core.device.model import AgentFaults, ModelAgent
from harvok.core.device.reading import DeviceFacts, DevicePort, DeviceReading, PortCounts, reading_of, told_of
from harvok.core.device.trial import DeviceTrial, figures_of, notices_of
from harvok.core.device.wiring import by_lldp, by_traffic


def reading(at_s: float, uptime_s: float | None = None, **counts: int) -> DeviceReading:
    ports = {"gi1": PortCounts(**counts)}
    return DeviceReading(round(at_s * 1e9), at_s if uptime_s is None else uptime_s, ports)


class Counters(unittest.TestCase):
    @given(st.lists(st.integers(0, 2**31 - 1), max_size=30), st.sampled_from([32, 64]))
    def test_totals_are_what_was_counted_however_often_it_wraps(self, steps: list[int], bits: int) -> None:
        totals, sum_ = Totals(wide=bits == 64), 0
        first = totals.add(reading(0, octets_in=2**32 - 1))
        for number, step in enumerate(steps, 1):
            sum_ += step
            total = totals.add(reading(number, octets_in=(2**32 - 1 + sum_) % 2**bits))
            self.assertEqual(changes_between(first, total)["gi1"].octets_in, sum_)
        self.assertEqual(totals.restarts, 0)

    def test_errors_have_32_bits_in_every_agent(self) -> None:
        totals = Totals(wide=True)
        first = totals.add(reading(0, errors_in=2**32 - 2))
        self.assertEqual(changes_between(first, totals.add(reading(1, errors_in=3)))["gi1"].errors_in, 5)

    def test_a_restart_is_seen_and_counted_on_from_where_it_was(self) -> None:
        totals = Totals(wide=True)
        first = totals.add(reading(0, 5000.0, frames_in=1_000_000))
        totals.add(reading(1, 5001.0, frames_in=1_000_400))
        after = totals.add(reading(9, 3.0, frames_in=250))
        self.assertEqual((totals.restarts, changes_between(first, after)["gi1"].frames_in), (1, 650))
        self.assertFalse(has_restarted(reading(0, 2**32 / 100 - 1), reading(5, 4.0)), "its uptime wrapped")
        self.assertFalse(has_restarted(reading(0, 100.0), reading(1, 99.5)), "told a little late")

    def test_counters_that_somebody_cleared_count_from_there(self) -> None:
        totals = Totals(wide=True)
        first = totals.add(reading(0, frames_in=500, discards_in=7))
        after = totals.add(reading(1, frames_in=20, discards_in=1))
        self.assertEqual(changes_between(first, after)["gi1"], PortCounts(frames_in=20, discards_in=1))

    def test_what_a_device_does_not_tell_stays_unknown(self) -> None:
        totals = Totals(wide=True)
        first = totals.add(reading(0, frames_in=1))
        self.assertIsNone(changes_between(first, totals.add(reading(1, frames_in=2)))["gi1"].discards_in)

    def test_readings_survive_the_way_from_a_worker(self) -> None:
        one = reading(2, frames_in=3, fcs_errors=1)
        self.assertEqual(reading_of(told_of(one)), one)


def told_by(agent: ModelAgent, refresh: Refresh, seconds: float, every_s: float = 0.5) -> list[DeviceReading]:
    """An agent that counts 1000 frames/s of 100 bytes, asked again and again."""
    made, at_s = list[DeviceReading](), 0.0
    while at_s < seconds:
        at_s += every_s
        agent.count("gi1", frames_in=int(1000 * every_s), octets_in=int(100_000 * every_s))
        made.append(agent.reading(at_s))
        refresh.add(made[-1])
    return made


class Freshness(unittest.TestCase):
    def test_how_often_counters_really_change_is_found_out(self) -> None:
        for refresh_s, period_s, is_late in ((0.0, 0.5, False), (3.0, 3.0, True), (1.0, 1.0, True)):
            refresh = Refresh(0.5, flows=True)
            told_by(ModelAgent("dome-sw-a", ["gi1"], 1e9, AgentFaults(refresh_s)), refresh, 20)
            assert refresh.period_s
            self.assertAlmostEqual(refresh.period_s, period_s)
            self.assertEqual((refresh.is_late, refresh.is_fresh), (is_late, not is_late))

    def test_what_is_over_before_the_second_change_may_be_late(self) -> None:
        for refresh_s, may_be_late in ((3.0, True), (0.0, False)):
            refresh = Refresh(0.5)
            self.assertFalse(refresh.may_be_late, "nothing flowed yet")
            refresh.flows()
            told_by(ModelAgent("dome-sw-a", ["gi1"], 1e9, AgentFaults(refresh_s)), refresh, 1.5)
            self.assertEqual(refresh.may_be_late, may_be_late)

    def test_pauses_and_a_frame_now_and_then_are_not_taken_for_the_agents(self) -> None:
        refresh = Refresh(0.5)
        refresh.flows()
        for number in range(10):
            refresh.add(reading(number * 4, frames_in=number * 3))
        refresh.quiet()
        for number in range(10, 20):
            refresh.add(reading(number * 4, frames_in=number * 3000))
        self.assertIsNone(refresh.period_s)

    def test_rates_belong_to_the_time_between_two_refreshes(self) -> None:
        for refresh_s in (0.0, 3.0):
            refresh = Refresh(0.5, flows=True)
            told_by(ModelAgent("dome-sw-a", ["gi1"], 1e9, AgentFaults(refresh_s)), refresh, 20)
            agent = ModelAgent("dome-sw-a", ["gi1"], 1e9, AgentFaults(refresh_s))
            rates = PortRates(0, refresh)
            rates.add(agent.reading(0.0))
            samples = [one for told in told_by(agent, Refresh(0.5), 30) for one in rates.add(told)]
            found = [one.value for one in samples if one.quantity == "port-rate-fps" and one.labels["way"] == "in"]
            self.assertTrue(found)
            for value in found[2:]:
                self.assertAlmostEqual(value, 1000.0)

    def test_errors_are_told_when_they_move_and_since_the_start(self) -> None:
        refresh = Refresh(0.5, flows=True)
        told_by(ModelAgent("dome-sw-a", ["gi1"], 1e9), refresh, 5)
        rates = PortRates(0, refresh)
        rates.add(reading(0, octets_in=5, errors_in=100))
        self.assertFalse([one for one in rates.add(reading(1, octets_in=9, errors_in=100)) if "errors" in one.quantity])
        (error,) = [one for one in rates.add(reading(2, octets_in=9, errors_in=103)) if one.quantity == "port-errors"]
        self.assertEqual((error.value, error.at_s, error.source), (3.0, 2.0, "device"))


WHOLE = Crossing(
    "send", 1000, 1000, 1010, 1010, 0, 0, "gi1", PortCounts(frames_in=1010), "gi2", PortCounts(frames_out=1010)
)


class WhereFramesWereLost(unittest.TestCase):
    """The rest of the suite has real frames lost at known places; here are the conventions of devices."""

    def places(self, crossing: Crossing) -> dict[str, int]:
        found = locate(crossing)
        self.assertEqual((found.certainty, found.why), ("exact", ""))
        return {place: count for place, count in found.places if count}

    def test_nothing_was(self) -> None:
        self.assertEqual(self.places(WHOLE), {})
        self.assertIn("the device counted as many", words_of(locate(WHOLE), "dome-sw-a"))

    def test_inside_whether_or_not_what_is_discarded_counts_among_what_came(self) -> None:
        lossy = replace(WHOLE, received=983, arrived=993)
        for entry in (PortCounts(frames_in=1010, discards_in=17), PortCounts(frames_in=993, discards_in=17)):
            crossing = replace(lossy, entry=entry, exit=PortCounts(frames_out=993))
            self.assertEqual(self.places(crossing), {"device": 17})
            said = words_of(locate(crossing), "dome-sw-a")
            self.assertEqual(
                said,
                "17 of 1 000 frames (send) were lost inside dome-sw-a (inDiscards of gi1: 17); none on the leads",
            )

    def test_inside_whether_or_not_what_is_discarded_counts_among_what_left(self) -> None:
        lossy = replace(WHOLE, received=983, arrived=993)
        for exit_ in (PortCounts(frames_out=1010, discards_out=17), PortCounts(frames_out=993, discards_out=17)):
            self.assertEqual(self.places(replace(lossy, exit=exit_)), {"device": 17})

    def test_on_either_lead(self) -> None:
        entry = replace(WHOLE, received=988, arrived=998, entry=PortCounts(frames_in=998, errors_in=12, fcs_errors=12))
        entry = replace(entry, exit=PortCounts(frames_out=998))
        self.assertEqual(self.places(entry), {"entry lead": 12})
        self.assertIn("on the lead to gi1 of dome-sw-a (FCS errors of gi1: 12)", words_of(locate(entry), "dome-sw-a"))
        exit_ = replace(WHOLE, received=995, arrived=1005, arrived_bad=5)
        self.assertEqual(self.places(exit_), {"exit lead": 5})
        self.assertIn("receive errors of the tester's port: 5", words_of(locate(exit_), "dome-sw-a"))

    def test_in_the_testers_own_host(self) -> None:
        crossing = replace(
            WHOLE, received=990, left=1000, arrived=1000, dropped_here=10, entry=PortCounts(frames_in=1000)
        )
        self.assertEqual(self.places(replace(crossing, exit=PortCounts(frames_out=1000))), {"tester": 10})

    def test_at_several_places_at_once(self) -> None:
        crossing = replace(
            WHOLE,
            received=940,
            arrived=950,
            entry=PortCounts(frames_in=1000, fcs_errors=10),
            exit=PortCounts(frames_out=960),
        )
        self.assertEqual(self.places(crossing), {"entry lead": 10, "device": 40, "exit lead": 10})
        said = words_of(locate(crossing), "dome-sw-a")
        self.assertIn("60 of 1 000 frames (send) were lost: 10 on the lead to gi1", said)
        self.assertIn("and 10 on the lead from gi2", said)

    def test_counts_that_cannot_agree_are_said_and_not_guessed(self) -> None:
        for crossing, why in (
            (replace(WHOLE, entry=PortCounts(frames_in=1013)), "gi1 counted 3 frames more than left the tester"),
            (replace(WHOLE, arrived=1013), "3 frames more reached the tester than gi2 counted"),
            (replace(WHOLE, entry=PortCounts()), "does not count frames at gi1"),
            (replace(WHOLE, exit=PortCounts()), "does not count frames at gi2"),
            (replace(WHOLE, entry=PortCounts(frames_in=1013, discards_in=2)), "more than left the tester"),
            (replace(WHOLE, entry=PortCounts(frames_in=1007)), "other traffic is among them"),
            (
                replace(WHOLE, received=940, arrived=950, exit=PortCounts(frames_out=965, discards_out=5)),
                "can be read in more than one way",
            ),
        ):
            found = locate(crossing)
            self.assertEqual((found.certainty, found.places), ("unclear", []))
            self.assertIn(why, words_of(found, "dome-sw-a"))

    def test_other_traffic_beside_is_said_and_does_not_hide_where(self) -> None:
        lossy = replace(WHOLE, received=990, arrived=1003, exit=PortCounts(frames_out=1003))
        found = locate(lossy)
        self.assertEqual((found.certainty, dict(found.places)["device"]), ("other-traffic", 10))
        self.assertIn("other traffic came or went", words_of(found, "dome-sw-a"))

    @given(st.integers(0, 40), st.integers(0, 40), st.integers(0, 40), st.booleans(), st.booleans(), st.integers(0, 9))
    def test_any_three_losses_are_found_again_whatever_is_counted_as_discarded(
        self, entry: int, inside: int, exit_: int, in_counts_them: bool, counted: bool, others: int
    ) -> None:
        """Whatever the device counts as discards, and whether or not it counts them among what came."""
        left = 1000 + others
        whole = left - entry
        discards_in = inside if counted else 0
        crossing = Crossing(
            "send", 1000, 1000 - entry - inside - exit_, left, whole - inside - exit_, 0, 0,
            "gi1", PortCounts(frames_in=whole - (0 if in_counts_them else discards_in), discards_in=discards_in),
            "gi2", PortCounts(frames_out=whole - inside, discards_out=0),
        )  # fmt: skip
        found = locate(crossing)
        self.assertEqual([count for _, count in found.places], [0, entry, inside, exit_], words_of(found, "dome-sw-a"))

    def test_trials_are_added_up_and_no_more_certain_than_the_worst(self) -> None:
        lossy = replace(WHOLE, received=983, arrived=993, exit=PortCounts(frames_out=993, discards_out=17))
        whole = together([locate(WHOLE), locate(lossy), locate(lossy)])
        self.assertEqual((whole.sent, whole.lost, whole.inside, whole.certainty), (3000, 34, 34, "exact"))
        self.assertIn("(outDiscards of gi2: 34)", words_of(whole, "dome-sw-a"))
        unclear = together([locate(lossy), locate(replace(WHOLE, entry=PortCounts()))])
        self.assertFalse(unclear.is_located)


class WhatARunComesTo(unittest.TestCase):
    def test_figures_and_words(self) -> None:
        loss = locate(replace(WHOLE, received=983, arrived=993, exit=PortCounts(frames_out=993, discards_out=17)))
        trials = [
            DeviceTrial({"gi2": PortCounts(discards_out=17, errors_in=0)}, cpu_max=0.4, losses=[loss]),
            DeviceTrial({"gi2": PortCounts(discards_out=3)}, cpu_max=0.9, memory_max=0.5, refresh_s=3.0, restarts=1,
                        unanswered=2),
        ]  # fmt: skip
        figures = {(one.quantity, *one.labels.values()): one.value for one in figures_of(trials)}
        self.assertEqual(figures["device-discards", "gi2", "out"], 20)
        self.assertEqual((figures["device-cpu-max",], figures["device-memory-max",]), (0.9, 0.5))
        self.assertEqual(figures["frames-lost-at", "send", "device"], 17)
        self.assertNotIn(("device-errors", "gi2", "in"), figures)
        said = " / ".join(notices_of(trials, "dome-sw-a"))
        for words in ("inside dome-sw-a", "restarted once", "2 questions unanswered", "change every 3.0 s"):
            self.assertIn(words, said)

    def test_a_run_without_loss_says_nothing(self) -> None:
        self.assertEqual(notices_of([DeviceTrial(losses=[locate(WHOLE)])], "dome-sw-a"), [])
        self.assertIsInstance(locate(WHOLE), Loss)


class Wiring(unittest.TestCase):
    def test_lldp_knows_the_ends_by_their_hardware_addresses(self) -> None:
        ports = [DevicePort(1, "gi1", neighbour_mac="02:00:00:00:00:0a"), DevicePort(2, "gi2")]
        facts = DeviceFacts("", "dome-sw-a", "", 1.0, ports=ports)
        self.assertEqual(by_lldp(facts, {"near": "02:00:00:00:00:0A", "far": "02:00:00:00:00:0b"}), {"near": "gi1"})

    def test_known_traffic_finds_the_only_ports_that_counted_it(self) -> None:
        changes = {
            "gi1": PortCounts(frames_in=10_040, frames_out=12),
            "gi2": PortCounts(frames_in=3, frames_out=9_900),
            "gi3": PortCounts(frames_in=500, frames_out=500),
            "gi4": PortCounts(),
        }
        self.assertEqual(by_traffic(changes, "near", "far", 10_000, 9_890), {"near": "gi1", "far": "gi2"})
        changes["gi3"] = PortCounts(frames_in=10_000, frames_out=500)
        self.assertEqual(by_traffic(changes, "near", "far", 10_000, 9_890), {}, "two ports counted as many")
        self.assertEqual(by_traffic(changes, "near", "far", 30, 30), {}, "so few come together by chance")
