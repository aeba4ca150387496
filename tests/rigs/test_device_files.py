"""Descriptions of devices: in files of their own, and in plans and rig files."""

import tempfile
import unittest
from pathlib import Path
from unittest import mock

from harvok.core.models.rig import PortsRig
from harvok.errors import DeviceFileError, PlanError, RigFileError
from harvok.rigs.device_files import OUTSIDE, read_device, settings_of
from harvok.rigs.rig_files import read_rig
from harvok.runner.plan_files import device_of_plan, read_plan

TABLES = """
name = "dome-sw-a"
[{at}snmp]
address = "192.0.2.7"
community = "file:secret"
[{at}ports]
port1 = "gi1"
port2 = "gi2"
[{at}ssh]
address = "192.0.2.7"
user = "bench"
host_key = "ssh-ed25519 AAAA"
key_file = "key"
"""
DEVICE = f"""format = "harvok-device"
version = 1
{TABLES.format(at="")}"""
RIG = """
version = 1
kind = "ports"
name = "dome-sw-a"
rated = "1G"
{named}
[port1]
interface = "eth1"
[port2]
interface = "eth2"
{tables}"""
PLAN = """
version = 1
name = "lead"
station = "hall"
{named}
[[steps]]
name = "before"
test = "udp"
{rate}
{events}
{tables}"""


class Described(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        (self.folder / "devices").mkdir()
        for name in ("secret", "key"):
            (self.folder / name).write_text("of the plan")
            (self.folder / "devices" / name).write_text("of the device")
        (self.folder / "devices" / "dome.toml").write_text(DEVICE)

    def rig(self, named: str = "", tables: str = "") -> PortsRig:
        (self.folder / "rig.toml").write_text(RIG.format(named=named, tables=tables))
        rig = read_rig(self.folder / "rig.toml")
        assert isinstance(rig, PortsRig)
        return rig

    def test_a_rig_describes_its_device_or_names_the_file(self) -> None:
        self.assertIsNone(self.rig().watched)
        tables = f"[watched]{TABLES.format(at='watched.')}"
        for rig, secret in (
            (self.rig(tables=tables), "of the plan"),
            (self.rig(named='watched = "devices/dome.toml"'), "of the device"),
        ):
            assert rig.watched and rig.watched.ssh and rig.watched.ssh.key_file
            settings = settings_of(rig.watched)
            self.assertEqual(settings.orders.access.community, secret)
            self.assertEqual(settings.ports, {"port1": "gi1", "port2": "gi2"})
            self.assertEqual(Path(rig.watched.ssh.key_file).read_text(), secret)
            again = PortsRig.model_validate_json(rig.model_dump_json())
            self.assertEqual(again, rig, "another process has it from the environment")

    def test_what_is_wrong_with_it_is_said_with_its_place(self) -> None:
        for named, tables, words in (
            ('watched = "nosuch.toml"', "", "nosuch.toml cannot be read"),
            ("", '[watched]\nname = "a"\n[watched.snmp]\naddress = "192.0.2.7"', "needs either community"),
            ("watched = 7", "", "line 6"),
        ):
            with self.assertRaises(RigFileError) as raised:
                self.rig(named, tables)
            self.assertIn(words, raised.exception.message)

    def plan(self, named: str = "", tables: str = "", events: str = "", rate: str = 'rate = "5M"') -> Path:
        text = PLAN.format(named=named, tables=tables, events=events, rate=rate)
        (self.folder / "plan.toml").write_text(text)
        return self.folder / "plan.toml"

    def test_a_plan_does_too_and_its_series_stay_the_same_when_the_polling_changes(self) -> None:
        tables = f"[device]{TABLES.format(at='device.')}"
        digests = set()
        for named, text, secret in (
            ("", tables, "of the plan"),
            ("", f'{tables}[device.watch]\nevery = "100ms"', "of the plan"),
            ('device = "devices/dome.toml"', "", "of the device"),
        ):
            file = read_plan(self.plan(named, text))
            settings = device_of_plan(file)
            assert settings
            self.assertEqual(settings.orders.access.community, secret)
            digests.add(file.digest)
        self.assertEqual(len(digests), 1)
        self.assertNotIn(read_plan(self.plan()).digest, digests)

    def test_events_in_a_step_that_searches_are_refused_when_the_plan_is_read(self) -> None:
        events = 'events = ["1s: run true"]'
        self.assertEqual(read_plan(self.plan(events=events)).plan.steps[0].events, ["1s: run true"])
        with self.assertRaises(PlanError) as raised:
            read_plan(self.plan(events=events, rate='rate = "5M"\nsearch = true'))
        self.assertIn("'events' of step before: udp-search is a search", raised.exception.message)

    def test_where_it_is_reached_from_another_network_both_doors_are(self) -> None:
        device = read_device(self.folder / "devices" / "dome.toml")
        with mock.patch.dict("os.environ", {OUTSIDE: "/proc/7/ns/net"}):
            settings = settings_of(device, self.folder / "devices")
        assert settings.ssh
        self.assertEqual(settings.orders.access.namespaces, ("/proc/7/ns/net",))
        self.assertEqual(settings.ssh.namespaces, ("/proc/7/ns/net",))
        self.assertEqual(settings_of(device, self.folder / "devices").orders.access.namespaces, ())

    def test_a_secret_that_is_not_there(self) -> None:
        (self.folder / "devices" / "secret").unlink()
        with self.assertRaises(DeviceFileError):
            settings_of(read_device(self.folder / "devices" / "dome.toml"), self.folder / "devices")
