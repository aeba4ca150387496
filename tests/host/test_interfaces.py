"""Interfaces as tester ports, and the cores that a test leaves alone."""

import os
import unittest
from unittest import mock

from harvok.core.models.conditions import InterfaceFacts
from harvok.core.models.rig import RIG_FILE, PortsRig
from harvok.errors import PortError
from harvok.host.cpu import keeping_off, usable_cores
from harvok.host.interfaces import PortState, port_state
from harvok.rigs.frame_rigs import port_facts, problems_of, record_of


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
                    port_facts(ports())
                self.assertEqual(len(problems_of(ports())), 2)

    def test_good_ports_are_recorded_with_the_run(self) -> None:
        with mock.patch("harvok.host.interfaces.port_state", return_value=GOOD):
            self.assertEqual(problems_of(ports()), [])
            record = record_of(ports())
        self.assertEqual((record.kind, record.name), ("ports", "dome-sw-a"))
        self.assertEqual(record.ports, [facts(), facts()])  # type: ignore[union-attr]

    def test_a_port_without_a_speed_is_taken_at_its_word(self) -> None:
        state = PortState(facts(negotiated_bps=None, kind="veth"), True, True, False)
        with mock.patch("harvok.host.interfaces.port_state", return_value=state):
            self.assertEqual(problems_of(ports("100G")), [])


class Cores(unittest.TestCase):
    def test_a_test_keeps_its_cores_to_itself_for_a_while(self) -> None:
        before = usable_cores()
        with keeping_off(before[:1]):
            left = usable_cores()
        self.assertEqual(left, before[1:] or before)
        self.assertEqual(usable_cores(), before)
        with keeping_off(before):
            self.assertEqual(usable_cores(), before, "there has to be one core left")
        self.assertLessEqual(len(before), os.cpu_count() or 1)
