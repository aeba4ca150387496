"""RFC 2889 and RFC 3918 on modelled switches, whose truth is known to the frame."""

import unittest
from dataclasses import replace
from typing import Any

from harvok.core.figures import Figure, find
from harvok.core.frame_streams import full_mesh
from harvok.core.kinds.table import kind_of
from harvok.core.mixes import frame_sizes
from harvok.core.observer import Observer
from harvok.core.procedure import Findings
from harvok.core.procedures.frames import FrameSettings
from harvok.core.procedures.rfc2889 import SWITCH_TESTS, SwitchTest, SwitchTestName
from harvok.core.procedures.rfc3918 import GROUP_TESTS, GroupTest, GroupTestName
from harvok.core.trials.frames import FrameTrial, FrameTrialResult, TesterHealth
from harvok.errors import TesterLimitError
from harvok.rigs.device import Device
from harvok.rigs.fabric import AddressTable, Fabric, GroupTable
from harvok.rigs.simulated import SimulatedPorts
from harvok.testing.measuring import findings_of

PORTS = ("port1", "port2", "port3", "port4")
LINE_FPS = 1e9 / 8 / 1538
SWITCH = Device(1e9, latency_s=4e-6, buffer_frames=100)


def switch_test(*tests: SwitchTestName, ports: tuple[str, ...] = PORTS, **keys: Any) -> SwitchTest:
    settings = FrameSettings(line_bps=1e9, streams=full_mesh(ports), full_s=30.0)
    return SwitchTest(tests, frame_sizes(["1518"], 4), settings, ports, **keys)


def on(test: SwitchTest, device: Device = SWITCH, *parts: Any) -> Findings:
    return findings_of(test, SimulatedPorts(device, 1, None, *parts))


def value(findings: Findings, quantity: str, **labels: str) -> float:
    found = find(findings.figures, quantity, **labels)
    assert found is not None, (quantity, labels, [figure.key for figure in findings.figures])
    return found


class Patterns(unittest.TestCase):
    def test_a_switch_without_limits_carries_line_rate_at_every_port(self) -> None:
        findings = on(switch_test("mesh", "one-to-many", "many-to-one"))
        for pattern, share in (("mesh", 1.0), ("one-to-many", 1.0), ("many-to-one", 1 / 3)):
            self.assertAlmostEqual(value(findings, "throughput-share", direction=pattern), share, places=6)
        for port in PORTS:
            self.assertEqual(value(findings, "frame-loss", direction=f"mesh to {port}"), 0)
        self.assertEqual(findings.notices, [])

    def test_of_many_to_one_at_line_rate_each_gets_its_part(self) -> None:
        findings = on(switch_test("many-to-one"))
        for port in PORTS[1:]:
            labels = {"direction": f"many-to-one from {port}", "load": "100 %"}
            self.assertAlmostEqual(value(findings, "forwarding-rate", **labels) / LINE_FPS, 1 / 3, places=3)
            self.assertAlmostEqual(value(findings, "frame-loss", **labels), 2 / 3, places=3)

    def test_a_fabric_is_found_in_the_mesh_and_nowhere_else(self) -> None:
        carries = 0.7
        fabric = Fabric(forwards_bps=carries * 4 * LINE_FPS * 1518 * 8)
        findings = on(switch_test("mesh", "one-to-many"), SWITCH, fabric)
        self.assertAlmostEqual(value(findings, "throughput-share", direction="mesh"), carries, delta=0.01)
        self.assertAlmostEqual(value(findings, "throughput-share", direction="one-to-many"), 1)
        at_line = value(findings, "frame-loss", direction="mesh to port2", load="100 %")
        self.assertAlmostEqual(at_line, 1 - carries, places=3)

    def test_head_of_line_blocking_shows_at_the_free_port_alone(self) -> None:
        for blocks, lost in ((False, 0.0), (True, 1 / 3)):
            findings = on(switch_test("congestion"), SWITCH, Fabric(head_of_line=blocks))
            self.assertAlmostEqual(value(findings, "head-of-line-loss"), lost, places=3)
            self.assertAlmostEqual(value(findings, "frame-loss", load="150 %"), 1 / 3, places=3)
            self.assertEqual(value(findings, "back-pressure"), 0)

    def test_back_pressure_is_told_from_a_slow_tester(self) -> None:
        class Pausing(SimulatedPorts):
            """Holds its senders back to three quarters of the load."""

            def run(self, trial: FrameTrial, observer: Observer) -> FrameTrialResult:
                result = super().run(trial, observer)
                for number, one in enumerate(result.directions):
                    sent, held_s = int(one.sent_frames * 0.75), trial.duration_s / 4 if self.paused else 0.0
                    tester = TesterHealth(held_back_s=held_s)
                    result.directions[number] = replace(one, sent_frames=sent, received_frames=sent, tester=tester)
                return result

            paused = True

        findings = findings_of(switch_test("congestion"), Pausing(SWITCH))
        self.assertAlmostEqual(value(findings, "back-pressure"), 0.25, places=3)
        Pausing.paused = False
        with self.assertRaisesRegex(TesterLimitError, "nothing could be measured"):
            findings_of(switch_test("congestion"), Pausing(SWITCH))

    def test_the_forwarding_rate_may_be_highest_below_line_rate(self) -> None:
        slow = replace(SWITCH, forwarding_fps=50_000)
        findings = on(switch_test("max-forwarding-rate"), slow)
        self.assertAlmostEqual(value(findings, "max-forwarding-rate") / 50_000, 1, delta=0.01)
        self.assertAlmostEqual(value(findings, "forwarding-rate", load="100 %") / 50_000, 1, delta=0.01)
        self.assertLess(value(findings, "max-forwarding-load"), 1.001)

    def test_broadcast_frames_load_their_port_once(self) -> None:
        findings = on(switch_test("broadcast"))
        self.assertAlmostEqual(value(findings, "throughput-share", direction="broadcast"), 1)
        for port in PORTS[1:]:
            delay_s = value(findings, "latency-median", direction=f"broadcast to {port}")
            self.assertAlmostEqual(delay_s, 16.1e-6, delta=1e-6)


class Addresses(unittest.TestCase):
    def kept(self, table: AddressTable, **keys: Any) -> Figure:
        (figure,) = on(switch_test("address-capacity", **keys), SWITCH, Fabric(), table).figures
        return figure

    def test_tables_of_any_size_are_found_exactly(self) -> None:
        for size in (2, 3, 8, 1000, 1024, 8191, 16384):
            figure = self.kept(AddressTable(size))
            self.assertEqual((figure.value, figure.mark), (size, ""), size)

    def test_a_larger_table_is_the_testers_limit(self) -> None:
        self.assertEqual(self.kept(AddressTable()).mark, "tester-limit")
        figure = self.kept(AddressTable(500), max_addresses=100)
        self.assertEqual((figure.value, figure.mark), (101, "tester-limit"))

    def test_a_table_whose_estimates_mislead_is_found_all_the_same(self) -> None:
        class Colliding(AddressTable):
            """Loses a tenth of what it learns once it is more than half full, as a table that hashes badly."""

            def reaches(self, frames: Any, port: str, at_s: float) -> float:
                flooded = super().reaches(frames, port, at_s)
                return flooded if port == "port1" or frames.addresses <= 300 else max(flooded, 0.1)

        self.assertEqual(self.kept(Colliding(2000)).value, 301)

    def test_a_switch_that_drops_what_it_does_not_know(self) -> None:
        class Dropping(AddressTable):
            def reaches(self, frames: Any, port: str, at_s: float) -> float:
                flooded = super().reaches(frames, "elsewhere", at_s)
                return 1 - flooded if port == "port1" else 0.0

        self.assertEqual(self.kept(Dropping(700)).value, 700)

    def test_few_attempts_do_where_a_table_is_simple(self) -> None:
        trials: list[FrameTrial] = []

        class Counting(SimulatedPorts):
            def run(self, trial: FrameTrial, observer: Observer) -> FrameTrialResult:
                trials.append(trial)
                return super().run(trial, observer)

        findings_of(switch_test("address-capacity"), Counting(SWITCH, 1, None, Fabric(), AddressTable(1024)))
        asked = [trial for trial in trials if trial.frames("addresses: port2 to port3").cast == "learned"]
        self.assertEqual([trial.frames("addresses: port2 to port3").addresses for trial in asked], [16384, 1023, 1024])
        self.assertTrue(all(trial.pause_s > 300 for trial in asked), "the switch forgets in between")
        shown = [trial for trial in trials if trial.frames("addresses: port1 to port2").cast == "learning"]
        for trial in (*asked, *shown):
            self.assertLess(trial.duration_s, 0.36 * 300, "none is forgotten meanwhile")

    def test_a_switch_that_learns_slowly(self) -> None:
        table = AddressTable(learns_per_s=8000)
        (figure,) = on(switch_test("address-rate"), SWITCH, Fabric(), table).figures
        self.assertAlmostEqual(figure.value / 8000, 1, delta=0.011)
        self.assertLessEqual(figure.value, 8000)
        (fast,) = on(switch_test("address-rate"), SWITCH, Fabric(), AddressTable()).figures
        self.assertAlmostEqual(fast.value / LINE_FPS, 1, msg="line rate")
        self.assertEqual(fast.mark, "")


class TheWhole(unittest.TestCase):
    def test_all_of_it_says_what_it_left_out(self) -> None:
        findings = on(switch_test(*SWITCH_TESTS, ports=PORTS[:2]))
        for needing in ("congestion", "address-capacity", "address-rate"):
            self.assertTrue(any(notice.startswith(f"{needing} is left out: it needs") for notice in findings.notices))
        self.assertTrue(any("their size was not given" in notice for notice in findings.notices))

    def test_frames_that_are_too_long(self) -> None:
        test = switch_test("errored-frames", oversize_bytes=2000)
        for limit, forwarded in ((1518, 0.0), (None, 1.0)):
            findings = on(test, SWITCH, Fabric(), None, limit)
            self.assertEqual(value(findings, "errored-forwarded", direction="oversize"), forwarded)
            self.assertTrue(any("appends their FCS itself" in notice for notice in findings.notices))

    def test_what_ports_have_to_carry(self) -> None:
        test = switch_test("address-capacity", "errored-frames", oversize_bytes=2000)
        sent = kind_of(test).frames_sent(test)
        self.assertEqual((sorted(sent.sizes), sent.pairs), ([1518, 2000], 16384))
        plain = switch_test("mesh", oversize_bytes=2000)
        self.assertEqual(kind_of(plain).frames_sent(plain).sizes, [1518])

    def test_every_figure_is_one_that_the_kind_knows(self) -> None:
        test = switch_test(*SWITCH_TESTS, oversize_bytes=2000)
        findings = on(test, SWITCH, Fabric(), AddressTable(100), 1518)
        self.assertLessEqual({figure.quantity for figure in findings.figures}, set(kind_of(test).quantities))
        keys = [figure.key for figure in findings.figures]
        self.assertEqual(len(keys), len(set(keys)), "each figure once")
        self.assertGreater(test.expected_s, 1000)


def group_test(*tests: GroupTestName, **keys: Any) -> GroupTest:
    settings = FrameSettings(line_bps=1e9, streams=full_mesh(PORTS), full_s=30.0)
    return GroupTest(tests, frame_sizes(["1518"], 4), settings, PORTS, **keys)


class Groups(unittest.TestCase):
    def on(self, test: GroupTest, groups: GroupTable, device: Device = SWITCH) -> Findings:
        return findings_of(test, SimulatedPorts(device, 1, None, Fabric(), None, None, groups))

    def test_every_port_gets_all_at_line_rate(self) -> None:
        findings = self.on(group_test("throughput", "mixed"), GroupTable())
        for direction in ("multicast", "mixed, 50.0 % multicast"):
            self.assertAlmostEqual(value(findings, "throughput-share", direction=direction), 1)
        self.assertGreater(value(findings, "latency-median", direction="multicast to port4"), 0)

    def test_a_slow_way_out_is_found(self) -> None:
        findings = self.on(group_test("throughput"), GroupTable(), replace(SWITCH, forwarding_fps=20_000))
        self.assertAlmostEqual(value(findings, "throughput", direction="multicast") / 20_000, 1, delta=0.01)

    def test_joining_and_leaving_take_what_they_take(self) -> None:
        findings = self.on(group_test("join-delay", "leave-delay"), GroupTable(None, 0.012, 1.5))
        for port in PORTS[1:]:
            self.assertAlmostEqual(value(findings, "group-join-delay", direction=f"join to {port}"), 0.012, places=6)
            self.assertAlmostEqual(value(findings, "group-leave-delay", direction=f"leave to {port}"), 1.5, places=6)

    def test_a_switch_that_does_not_look_floods(self) -> None:
        findings = Findings()
        test = group_test("throughput", "join-delay", "leave-delay", "capacity")
        findings_of(test, SimulatedPorts(SWITCH, 1, None, Fabric(), None, None, GroupTable(0)), findings=findings)
        self.assertTrue(any("before joining: the device floods them" in notice for notice in findings.notices))
        self.assertTrue(any("frames still came 10 s after" in notice for notice in findings.notices))
        self.assertIsNone(find(findings.figures, "group-join-delay"))
        self.assertEqual(value(findings, "group-capacity"), 0)

    def test_the_number_of_groups_that_are_kept(self) -> None:
        for size in (1, 7, 64, 100):
            self.assertEqual(value(self.on(group_test("capacity"), GroupTable(size)), "group-capacity"), size)
        found = value(self.on(group_test("capacity"), GroupTable(1000)), "group-capacity")
        self.assertTrue(990 <= found <= 1000, found)
        (figure,) = self.on(group_test("capacity", max_groups=50), GroupTable()).figures
        self.assertEqual((figure.value, figure.mark), (50, "tester-limit"))

    def test_more_and_more_groups(self) -> None:
        findings = self.on(group_test("scaled", groups=200), GroupTable(100))
        loss = [value(findings, "frame-loss", direction="scaled to port2", load=f"{n} groups") for n in (10, 100, 200)]
        self.assertEqual([round(one, 3) for one in loss], [0, 0, 0.5])

    def test_every_figure_is_one_that_the_kind_knows(self) -> None:
        test = group_test(*GROUP_TESTS)
        findings = self.on(test, GroupTable(100, 0.01, 0.02))
        self.assertLessEqual({figure.quantity for figure in findings.figures}, set(kind_of(test).quantities))
        keys = [figure.key for figure in findings.figures]
        self.assertEqual(len(keys), len(set(keys)), "each figure once")
        self.assertEqual(kind_of(test).frames_sent(test).pairs, 4096)
        self.assertGreater(test.expected_s, 100)
