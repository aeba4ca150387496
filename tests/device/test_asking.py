"""Asking devices: our own stand-in, Debian's snmpd, and agents that misbehave."""

import contextlib
import os
import random
import unittest
from dataclasses import replace

from harvok.clock import SYSTEM
from harvok.core.device import mib
from harvok.core.device.model import AgentFaults
from harvok.core.device.reading import DeviceReading
from harvok.core.wire.snmp import GET, RESPONSE, TOO_BIG, Binding, SnmpMessage, make_message, read_message
from harvok.device.asking import Poll, open_session, read_facts
from harvok.device.orders import SnmpAccess, WatchOrders
from harvok.device.session import SnmpSession, read_table
from harvok.device.stand_in import StandIn
from harvok.device.watch import DeviceWatch, facts_once
from harvok.errors import DeviceFileError, DeviceRefusedError, DeviceSilentError
from harvok.testing.clock import ManualClock
from tests.device.agents import NEEDS_SNMPD, PASSWORDS, USER, answering, snmpd


def by_stand_in(stand_in: StandIn, request: bytes) -> list[bytes]:
    answer = stand_in.answer(request)
    return [answer] if answer else []


class TheStandIn(unittest.TestCase):
    def test_what_it_is_and_what_it_counts(self) -> None:
        clock = ManualClock()
        stand_in = StandIn(AgentFaults(), clock)
        with answering(lambda request: by_stand_in(stand_in, request)) as access:
            session = open_session(access)
            self.addCleanup(session.close)
            facts = read_facts(session)
            self.assertEqual((facts.name, facts.firmware, facts.wide), ("dome-sw-a", "1.0", True))
            self.assertEqual([port.name for port in facts.ports], ["gi1", "gi2", "gi3", "gi4"])
            self.assertEqual([port.up for port in facts.ports], [True, True, True, False])
            self.assertEqual(facts.ports[0].speed_bps, 1e9)
            poll = Poll(session, facts, WatchOrders(access, 0.5, ("gi1", "gi2", "gi3")))
            before = poll.read()
            clock.sleep(30)
            after = poll.read()
        sent = (after.ports["gi1"].frames_in or 0) - (before.ports["gi1"].frames_in or 0)
        self.assertGreater(sent, 100_000)
        self.assertEqual(after.ports["gi2"].frames_out, after.ports["gi1"].frames_in)
        self.assertIn(after.ports["gi3"].fcs_errors, (14, 15))
        self.assertEqual((after.temperatures_c, after.memory), ([41.5], None))
        self.assertAlmostEqual(after.cpu[0], 0.4)

    def test_a_watch_reads_on_demand_and_by_itself(self) -> None:
        stand_in = StandIn(AgentFaults())
        heard = list[DeviceReading]()
        with answering(lambda request: by_stand_in(stand_in, request)) as access:
            with DeviceWatch(WatchOrders(access, 0.1, ("gi1",))) as watch:
                watch.on_reading = heard.append
                first = watch.read_now()
                assert first
                while len(heard) < 3:
                    SYSTEM.sleep(0.02)
                self.assertEqual((watch.watched, watch.unanswered), (["gi1"], 0))
            facts, reading = facts_once(WatchOrders(access, 0.1))
        self.assertEqual(len({one.at_ns for one in heard}), len(heard))
        self.assertTrue(reading and "gi3" in reading.ports and "gi4" not in reading.ports, "down ports are not watched")
        self.assertEqual(facts.name, "dome-sw-a")

    def test_a_port_that_it_does_not_have_is_refused_with_those_that_it_has(self) -> None:
        stand_in = StandIn(AgentFaults())
        with answering(lambda request: by_stand_in(stand_in, request)) as access, session_of(access) as session:
            facts = read_facts(session)
            with self.assertRaises(DeviceFileError) as raised:
                Poll(session, facts, WatchOrders(access, 0.5, ("gi9",)))
        self.assertIn("has no port gi9", raised.exception.message)
        self.assertIn("gi1, gi2", raised.exception.hint)


class AgentsThatMisbehave(unittest.TestCase):
    def test_silence_and_rubbish_are_the_same_and_end_in_time(self) -> None:
        rng = random.Random(7)
        for answer in (
            lambda _: [],
            lambda _: [rng.randbytes(200)],
            lambda request: [request],
            lambda request: [request[:-1], b"", request + request],
        ):
            with answering(answer) as access, session_of(access) as session:
                began_ns = SYSTEM.now_ns()
                with self.assertRaises(DeviceSilentError) as raised:
                    session.get([mib.SYS_NAME])
                self.assertLess((SYSTEM.now_ns() - began_ns) / 1e9, 10)
            self.assertIn("does not answer SNMPv2c", raised.exception.message)

    def test_the_answer_counts_among_whatever_else_comes(self) -> None:
        def answer(request: bytes) -> list[bytes]:
            asked = read_message(request)
            right = SnmpMessage(asked.community, RESPONSE, asked.request_id, [Binding(mib.SYS_NAME, b"right")])
            wrong = [
                replace(right, request_id=asked.request_id + 1, bindings=[Binding(mib.SYS_NAME, b"old")]),
                replace(right, community=b"other", bindings=[Binding(mib.SYS_NAME, b"other")]),
                replace(right, kind=GET, bindings=[Binding(mib.SYS_NAME, b"asking")]),
            ]
            return [*map(make_message, wrong), b"\x30\x03abc", make_message(right)]

        with answering(answer) as access, session_of(access) as session:
            self.assertEqual(session.get([mib.SYS_NAME]), [b"right"])

    def test_a_question_that_was_lost_is_asked_again(self) -> None:
        asked = list[bytes]()
        stand_in = StandIn(AgentFaults())

        def answer(request: bytes) -> list[bytes]:
            asked.append(request)
            return by_stand_in(stand_in, request) if len(asked) > 1 else []

        with answering(answer) as access, session_of(access) as session:
            self.assertEqual(session.get([mib.SYS_NAME]), [b"dome-sw-a"])
        self.assertEqual(len(asked), 2)

    def test_a_request_that_is_too_big_is_asked_in_parts(self) -> None:
        def answer(request: bytes) -> list[bytes]:
            asked = read_message(request)
            if len(asked.bindings) > 5:
                return [make_message(SnmpMessage(asked.community, RESPONSE, asked.request_id, [], TOO_BIG, 0))]
            found = [Binding(one.name, one.name[-1]) for one in asked.bindings]
            return [make_message(SnmpMessage(asked.community, RESPONSE, asked.request_id, found))]

        with answering(answer) as access, session_of(access) as session:
            self.assertEqual(session.get([(1, 3, number) for number in range(60)]), list(range(60)))

    def test_an_agent_that_goes_round_in_circles_is_not_followed(self) -> None:
        asked = list[bytes]()

        def answer(request: bytes) -> list[bytes]:
            asked.append(request)
            one = read_message(request)
            found = [Binding((*mib.IF_NAME, 1), b"gi1"), Binding((*mib.IF_NAME, 1), b"gi1")] * 10
            return [make_message(SnmpMessage(one.community, RESPONSE, one.request_id, found))]

        with answering(answer) as access, session_of(access) as session:
            (row,) = read_table(session, [mib.IF_NAME])
        self.assertEqual((row.index, row.values[mib.IF_NAME], len(asked)), ((1,), b"gi1", 1))

    def test_an_error_is_told_in_words(self) -> None:
        def answer(request: bytes) -> list[bytes]:
            one = read_message(request)
            return [make_message(SnmpMessage(one.community, RESPONSE, one.request_id, [], 16, 1))]

        with (
            answering(answer) as access,
            session_of(access) as session,
            self.assertRaises(DeviceRefusedError) as raised,
        ):
            session.get([mib.SYS_NAME])
        self.assertIn("refuses: authorisation error", raised.exception.message)

    def test_a_device_that_stops_answering_costs_readings_and_nothing_else(self) -> None:
        stand_in, silent = StandIn(AgentFaults()), list[bool]()

        def answer(request: bytes) -> list[bytes]:
            return [] if silent else by_stand_in(stand_in, request)

        with answering(answer) as access:
            orders = WatchOrders(replace(access, timeout_s=0.5, retries=0), 0.1, ("gi1",))
            with DeviceWatch(orders) as watch:
                self.assertTrue(watch.read_now())
                silent.append(True)
                self.assertIsNone(watch.read_now())
                self.assertGreater(watch.unanswered, 0)
                silent.clear()
                self.assertTrue(watch.read_now())


@NEEDS_SNMPD
class AgainstDebiansAgent(unittest.TestCase):
    """snmpd, with a community and as a user with authentication and privacy."""

    def test_both_versions_tell_the_same(self) -> None:
        with snmpd() as port:
            plain = SnmpAccess("127.0.0.1", port, "dome")
            secret = SnmpAccess("127.0.0.1", port, user="watcher", **USER, **PASSWORDS)  # type: ignore[arg-type]
            found = []
            for access in (plain, secret):
                with session_of(access) as session:
                    facts = read_facts(session)
                    reading = Poll(session, facts, WatchOrders(access, 1.0, ("lo",))).read()
                    found.append((facts.name, facts.object_id, facts.description, facts.port("lo"), facts.wide))
                    self.assertEqual(access.version, "SNMPv2c" if access is plain else "SNMPv3")
                    self.assertGreater(reading.ports["lo"].octets_in or 0, 0)
                    self.assertTrue(0 < (reading.memory or 0) < 1)
            self.assertEqual(found[0], found[1])
            self.assertEqual((found[0][0], found[0][2].split()[0]), ("dome-sw-a", os.uname().sysname))

    def test_wrong_secrets_are_told_apart_as_far_as_agents_do(self) -> None:
        with snmpd() as port:
            right = SnmpAccess("127.0.0.1", port, user="watcher", **USER, **PASSWORDS, timeout_s=0.3, retries=0)  # type: ignore[arg-type]
            for access, error, words in (
                (SnmpAccess("127.0.0.1", port, "wrong", timeout_s=0.3, retries=0), DeviceSilentError, "the community"),
                (replace(right, authentication_password="aperture-rings"), DeviceRefusedError, "watcher"),
                (replace(right, user="nobody"), DeviceRefusedError, "nobody"),
                (replace(right, privacy=None, privacy_password=""), DeviceRefusedError, "refuses"),
            ):
                with session_of(access) as session, self.assertRaises(error) as raised:
                    session.get([mib.SYS_NAME])
                self.assertIn(words, f"{raised.exception.message} {raised.exception.hint}")

    def test_a_name_is_set_and_one_that_may_not_be_is_refused(self) -> None:
        with snmpd() as port, session_of(SnmpAccess("127.0.0.1", port, "domew")) as session:
            contact = (1, 3, 6, 1, 2, 1, 1, 4, 0)
            session.set([Binding(contact, b"the night shift")])
            self.assertEqual(session.get([contact]), [b"the night shift"])
            with self.assertRaises(DeviceRefusedError):
                session.set([Binding(mib.SYS_UPTIME, 5)])


def session_of(access: SnmpAccess) -> contextlib.closing[SnmpSession]:
    """A session that is closed at the end."""
    return contextlib.closing(open_session(access))
