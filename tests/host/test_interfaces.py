"""Interfaces as tester ports, and the cores that a test leaves alone."""

import io
import json
import os
import subprocess
import tempfile
import unittest
from pathlib import Path
from unittest import mock

from rich.console import Console

from harvok.cli.render.ports import show_ports
from harvok.clock import SYSTEM
from harvok.core.conditions import InterfaceFacts
from harvok.core.models.rig import RIG_FILE, PortsRig
from harvok.errors import PortError
from harvok.host.cpu import avoiding_cores, usable_cores
from harvok.host.interfaces import PortState, port_state
from harvok.host.port_counters import PortCounters, read_port_counters, trouble_between
from harvok.host.ports import PortFacts, Slot, all_ports, faults_of, highest_of, remarks_on, slot_of
from harvok.rigs.frame_rigs import open_rig, problems_of, record_of, usable_port
from tests.whole.program import ProgramTest
from tests.whole.test_udp import NEEDS_ROOT


def facts(**changes: object) -> InterfaceFacts:
    return InterfaceFacts(name="eth1", kind="physical", negotiated_bps=1e9, mtu_bytes=1500).model_copy(update=changes)


GOOD = PortState(facts(), up=True, carrier=True, default_route=False)


def ports(rated: str = "1G") -> PortsRig:
    made = RIG_FILE.validate_python(
        {
            "version": 1, "kind": "ports", "name": "dome-sw-a", "rated": rated,
            "port1": {"interface": "eth1"}, "port2": {"interface": "eth2"},
        }
    )  # fmt: skip
    assert isinstance(made, PortsRig)
    return made


class Ports(unittest.TestCase):
    def test_the_kernel_is_asked(self) -> None:
        found = port_state("lo")
        assert found
        self.assertEqual((found.facts.kind, found.facts.mtu_bytes, found.default_route), ("loopback", 65536, False))
        self.assertIsNone(port_state("nosuch0"))

    def test_every_reason_against_a_port_is_named(self) -> None:
        for state, words in (
            (None, "there is no interface eth1"),
            (PortState(facts(kind="loopback"), True, True, False), "is loopback"),
            (PortState(facts(), False, False, False), "is down"),
            (PortState(facts(), True, False, False), "has no link"),
            (PortState(facts(), True, True, True), "default route"),
            (
                PortState(facts(negotiated_bps=1e8), True, True, False),
                "negotiated 100 Mb/s, and the rig is rated 1 Gb/s",
            ),
        ):
            with mock.patch("harvok.host.interfaces.port_state", return_value=state):
                with self.assertRaisesRegex(PortError, words):
                    usable_port("eth1", 1e9)
                self.assertEqual(len(problems_of(ports())), 2)

    def test_good_ports_are_recorded_with_the_run(self) -> None:
        with mock.patch("harvok.host.interfaces.port_state", return_value=GOOD):
            self.assertEqual(problems_of(ports()), [])
            with open_rig(ports(), 0, SYSTEM) as rig:
                record = record_of(ports(), rig)
        self.assertEqual((record.kind, record.name), ("ports", "dome-sw-a"))
        self.assertEqual(record.ports, [facts(), facts()])  # type: ignore[union-attr]

    def test_a_port_without_a_speed_is_taken_at_its_word(self) -> None:
        state = PortState(facts(negotiated_bps=None, kind="veth"), True, True, False)
        with mock.patch("harvok.host.interfaces.port_state", return_value=state):
            self.assertEqual(problems_of(ports("100G")), [])


class Counters(unittest.TestCase):
    """What the kernel counts of a port while frames are sent."""

    def port(self, **files: str) -> PortCounters:
        with tempfile.TemporaryDirectory() as folder:
            sysfs = Path(folder)
            (sysfs / "dome0" / "statistics").mkdir(parents=True)
            for name, text in files.items():
                place = sysfs / "dome0" / ("" if name in ("speed", "carrier_down_count") else "statistics") / name
                place.write_text(f"{text}\n")
            return read_port_counters("dome0", sysfs)

    def test_what_went_wrong_meanwhile(self) -> None:
        before = self.port(carrier_down_count="3", speed="1000", rx_crc_errors="5")
        self.assertIsNone(trouble_between("port1", before, before))
        after = self.port(carrier_down_count="4", speed="100", rx_crc_errors="17")
        found = trouble_between("port1", before, after)
        assert found
        said = "port1 lost its link once and changed its speed from 1000 to 100 Mb/s and counted rx_crc_errors 12"
        self.assertEqual((str(found), found.spoils), (said, True))
        only_counted = trouble_between("port1", before, self.port(carrier_down_count="3", speed="1000", tx_dropped="1"))
        assert only_counted
        self.assertFalse(only_counted.spoils)

    def test_a_port_that_tells_nothing(self) -> None:
        nothing = read_port_counters("nosuch0")
        self.assertEqual((nothing.link_losses, nothing.speed, sum(nothing.counts.values())), (0, "", 0))

    @NEEDS_ROOT
    def test_a_link_that_goes_and_comes_back(self) -> None:
        names = [f"hvc{os.getpid() % 100000}{end}" for end in "ab"]
        subprocess.run(["ip", "link", "add", names[0], "type", "veth", "peer", "name", names[1]], check=True)
        self.addCleanup(subprocess.run, ["ip", "link", "del", names[0]], capture_output=True)
        for name in names:
            subprocess.run(["ip", "link", "set", name, "up"], check=True)
        before = read_port_counters(names[0])
        for state in ("down", "up"):
            subprocess.run(["ip", "link", "set", names[1], state], check=True)
        found = trouble_between(names[0], before, read_port_counters(names[0]))
        assert found
        self.assertEqual((found.link_losses, found.spoils), (1, True))


class Cores(unittest.TestCase):
    def test_a_test_keeps_its_cores_to_itself_for_a_while(self) -> None:
        before = usable_cores()
        with avoiding_cores(before[:1]):
            left = usable_cores()
        self.assertEqual(left, before[1:] or before)
        self.assertEqual(usable_cores(), before)
        with avoiding_cores(before):
            self.assertEqual(usable_cores(), before, "there has to be one core left")
        self.assertLessEqual(len(before), os.cpu_count() or 1)


class AllPorts(unittest.TestCase):
    def test_loopback_is_among_them(self) -> None:
        found = {port.name: port for port in all_ports()}
        self.assertEqual((found["lo"].kind, found["lo"].state, found["lo"].slot), ("loopback", "up", None))
        self.assertIn("127.0.0.1", found["lo"].addresses)

    def test_the_fastest_mode(self) -> None:
        self.assertEqual(highest_of(["10baseT/Half", "1000baseT/Full", "2500baseT/Full", "Autoneg"]), 2.5e9)
        self.assertEqual(highest_of(["100000baseCR4/Full", "10000baseT/Full"]), 100e9)
        self.assertIsNone(highest_of(["TP"]))

    def test_slots_are_read_and_reckoned(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            device = Path(folder)
            self.assertIsNone(slot_of(device))
            for name, text in (
                ("current_link_speed", "5.0 GT/s PCIe"), ("current_link_width", "4"),
                ("max_link_speed", "8.0 GT/s PCIe"), ("max_link_width", "8"),
            ):  # fmt: skip
                (device / name).write_text(text + "\n")
            found = slot_of(device)
        self.assertEqual(found, Slot(5.0, 4, 8.0, 8))
        assert found
        self.assertAlmostEqual(found.data_bps, 0.86 * 16e9)
        self.assertAlmostEqual(Slot(8.0, 8, 8.0, 8).data_bps, 0.86 * 64e9 * 128 / 130, delta=1)

    def test_faults_above_zero_are_counted(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            (Path(folder) / "rx_errors").write_text("0\n")
            (Path(folder) / "rx_crc_errors").write_text("17\n")
            (Path(folder) / "tx_dropped").write_text("rubbish")
            self.assertEqual(faults_of(Path(folder)), {"CRC errors": 17})

    def test_what_may_hold_a_port_down_is_said(self) -> None:
        good = PortFacts("eth1", "physical", "up", 10e9, "full", 10e9, slot=Slot(8.0, 8, 8.0, 8))
        self.assertEqual(remarks_on(good), [])
        bad = PortFacts(
            "eth1", "physical", "up", 1e8, "half", 10e9, slot=Slot(2.5, 4, 8.0, 8), faults={"CRC errors": 3}
        )
        said = " ".join(remarks_on(bad))
        for words in (
            "runs at 100 Mb/s and offers 10 Gb/s", "half duplex",
            "carries about 6.9 Gb/s, less than the port's 10 Gb/s",
            "could be PCIe 8 GT/s × 8", "3 CRC errors since",
        ):  # fmt: skip
            self.assertIn(words, said)

    def test_the_table(self) -> None:
        out = io.StringIO()
        port = PortFacts("eth1", "physical", "no link", None, None, 1e9, 1500, "igb", faults={"CRC errors": 3})
        show_ports(Console(file=out, width=120), [port])
        self.assertRegex(out.getvalue(), r"eth1 +no link +– +1 Gb/s +1500 +igb +– +–")
        self.assertIn("look at eth1: 3 CRC errors", out.getvalue())


class Program(ProgramTest):
    def test_ports_as_a_table_and_as_json(self) -> None:
        self.assertIn("127.0.0.1", self.harvok("ports").stdout)
        found = json.loads(self.harvok("ports", "--json").stdout)
        self.assertIn("loopback", {port["kind"] for port in found})
