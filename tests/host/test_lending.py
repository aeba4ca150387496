import json
import os
import unittest
from unittest import mock

from harvok.core.models.impairment import ImpairmentFile
from harvok.errors import HarvokError, PortError, UsageError
from harvok.host.netem import is_on, take_off
from harvok.host.offloads import one_frame_at_a_time, restore_features, switch
from harvok.host.pair import restore_lent_ports
from harvok.host.state import CHANGED_FEATURES, LENT_PORTS
from harvok.rigs.impairment_files import read_impairment
from harvok.runner import impair
from tests.own_state import own_state
from tests.whole.test_udp import NEEDS_ROOT

_NOBODY = 2**22 + 1  # no process has a number beyond the kernel's largest


class Notes(unittest.TestCase):
    """What a killed process leaves behind is read with care."""

    def setUp(self) -> None:
        self.notes = own_state(self) / LENT_PORTS

    def test_none_are_nothing_to_do(self) -> None:
        self.assertEqual(restore_lent_ports(LENT_PORTS), ([], []))
        self.assertEqual(restore_features(LENT_PORTS), [])

    def test_those_of_a_living_process_are_left_alone(self) -> None:
        self.notes.write_text(json.dumps({"holder": os.getpid(), "ports": [], "features": {}}))
        self.assertEqual(restore_lent_ports(LENT_PORTS), ([], []))
        self.assertEqual(restore_features(LENT_PORTS), [])
        self.assertTrue(self.notes.exists())

    def test_rubbish_disturbs_nothing(self) -> None:
        for rubbish in ("", "{", "[]", '{"holder": 1e9}', '{"holder": 4194305, "ports": 3, "features": 4}'):
            self.notes.write_text(rubbish)
            self.assertEqual(restore_lent_ports(LENT_PORTS), ([], []))
            self.assertEqual(restore_features(LENT_PORTS), [])

    @NEEDS_ROOT
    def test_ports_that_are_gone_are_named(self) -> None:
        port = {
            "name": "hvgone9",
            "index": 9,
            "up": True,
            "mtu_bytes": 1500,
            "addresses": [["10.0.0.1", 24]],
            "routes": [],
        }
        self.notes.write_text(json.dumps({"holder": _NOBODY, "ports": [port]}))
        self.assertEqual(restore_lent_ports(LENT_PORTS), ([], ["hvgone9"]))
        self.assertFalse(self.notes.exists())


class Offloads(unittest.TestCase):
    def test_a_port_that_is_not_there_changes_nothing(self) -> None:
        self.assertEqual(switch("hvnothing9", {"rx-gro": False}), {})

    @NEEDS_ROOT
    def test_they_are_off_meanwhile_and_back_afterwards(self) -> None:
        notes = own_state(self) / CHANGED_FEATURES
        before = switch("lo", {})
        with one_frame_at_a_time(["lo"], CHANGED_FEATURES):
            self.assertEqual(switch("lo", {"rx-gro": False}), {})  # it is off already
            changed = notes.exists()
        self.assertFalse(notes.exists())
        self.assertEqual(switch("lo", {}), before)
        if changed:
            self.assertEqual(switch("lo", {"rx-gro": True}), {})

    @NEEDS_ROOT
    def test_a_killed_process_is_tidied_up_after(self) -> None:
        notes = own_state(self) / CHANGED_FEATURES
        was = switch("lo", {"rx-gro": False})
        if not was:
            self.skipTest("this kernel does not let go of it")
        notes.write_text(json.dumps({"holder": _NOBODY, "features": {"lo": was}}))
        self.assertEqual(restore_features(CHANGED_FEATURES), ["lo"])
        self.assertEqual(switch("lo", {"rx-gro": True}), {})


class TheKernelsEmulator(unittest.TestCase):
    """This kernel may have no netem: what is asked of it, and what is noted for records, is tested without."""

    def setUp(self) -> None:
        own_state(self)

    def test_what_the_kernel_does_is_known_to_the_records_of_runs(self) -> None:
        file = read_impairment("metro")
        with (
            mock.patch.object(impair, "put_on") as put_on,
            mock.patch.object(impair, "take_off"),
            mock.patch.object(impair, "is_on", side_effect=[True, False]),
        ):
            self.assertIsNone(impair.at_work())
            impair.put_on_kernel("eth1", file)
            put_on.assert_called_once_with("eth1", file.plan().stages[0].send)
            found = impair.at_work()
            assert found
            self.assertEqual((found.carried_out_by, found.ports), ("kernel", ["eth1"]))
            self.assertEqual(found.impairment.plan(), file.plan())
            self.assertIsNone(impair.at_work())  # somebody else has cleared the port
            impair.clear_kernel("eth1")
            self.assertIsNone(impair.at_work())

    def test_a_schedule_is_refused(self) -> None:
        later = {"at": "9s", "both": {"loss": "1%"}}
        with self.assertRaises(UsageError):
            impair.put_on_kernel(
                "eth1", ImpairmentFile.model_validate({"version": 1, "name": "x", "schedule": [later]})
            )

    @NEEDS_ROOT
    def test_a_port_has_none(self) -> None:
        self.assertFalse(is_on("lo"))
        self.assertFalse(is_on("hvnothing9"))

    def test_a_port_that_is_not_there(self) -> None:
        with self.assertRaises(PortError):
            take_off("hvnothing9")

    @NEEDS_ROOT
    def test_nothing_to_take_off_is_said_in_a_sentence(self) -> None:
        with self.assertRaises(HarvokError) as raised:
            take_off("lo")
        self.assertTrue(raised.exception.hint)
