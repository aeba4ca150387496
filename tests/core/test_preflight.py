import unittest

from harvok.core.conditions import (
    ClockFacts,
    HostConditions,
    InterfaceCounters,
    InterfaceFacts,
    SocketLimits,
)
from harvok.core.judgement.link import judge_link
from harvok.core.link import Link, PortSpeed
from harvok.core.models.preflight import (
    ability_check,
    buffers_check,
    clock_check,
    cpu_checks,
    delay_check,
    interface_checks,
    path_mtu_check,
    quick_checks,
    traffic_check,
)
from harvok.core.procedures.link import figures_of
from harvok.core.samples import Event
from harvok.core.time_axis import ClockOffset
from harvok.core.trials.link import link_event
from harvok.core.wire.lldp import decode_lldp

GIGABIT = Link(1e9, PortSpeed("eth1", 1e9))


def host(**changed: object) -> HostConditions:
    facts: dict[str, object] = {
        "name": "dome", "system": "Linux", "kernel": "6", "machine": "x86_64", "python": "3.11", "harvok": "1",
        "cores": 4, "load_1min": 0.1, "governor": "performance", "clock": ClockFacts(synchronised=True),
        "interface": InterfaceFacts(name="eth1", kind="physical", negotiated_bps=1e9, duplex="full", mtu_bytes=1500),
    }  # fmt: skip
    return HostConditions(**(facts | changed))  # type: ignore[arg-type]


def port(**changed: object) -> InterfaceFacts:
    facts = InterfaceFacts(name="eth1", kind="physical", negotiated_bps=1e9, duplex="full", mtu_bytes=1500)
    return facts.model_copy(update=changed)


class Findings(unittest.TestCase):
    def test_interfaces(self) -> None:
        wanted = {
            "ok": port(),
            "stop": port(negotiated_bps=1e8),
            "warning": port(kind="loopback", negotiated_bps=None),
        }
        for outcome, facts in wanted.items():
            found = next(interface_checks("near", host(interface=facts), GIGABIT))
            self.assertEqual(found.outcome, outcome, found)
            self.assertEqual(bool(found.advice), outcome != "ok")
        half = next(interface_checks("near", host(interface=port(duplex="half")), GIGABIT))
        self.assertEqual(half.outcome, "stop")
        self.assertEqual(next(interface_checks("near", host(interface=None), GIGABIT)).outcome, "unknown")

    def test_cpu(self) -> None:
        for outcome, changed in (("ok", {}), ("warning", {"load_1min": 3.0}), ("warning", {"governor": "powersave"})):
            self.assertEqual(next(cpu_checks("near", host(**changed))).outcome, outcome)

    def test_quick_ones_compare_both_ends(self) -> None:
        far = host(name="hall", interface=port(mtu_bytes=9000))
        outcomes = {check.topic: check.outcome for check in quick_checks(host(), far, GIGABIT)}
        self.assertEqual(outcomes["MTU of both ends"], "warning")
        self.assertNotIn("MTU of both ends", {check.topic for check in quick_checks(host(), host(), GIGABIT)})

    def test_path_mtu(self) -> None:
        self.assertEqual(path_mtu_check(4, 1500, 1500).outcome, "ok")
        self.assertEqual(path_mtu_check(4, 1500, 1400).outcome, "warning")
        self.assertEqual(path_mtu_check(6, 1500, None).outcome, "unknown")

    def test_delay(self) -> None:
        self.assertEqual(delay_check(20, 20, 0.001).outcome, "ok")
        self.assertIn("3 of 20", delay_check(20, 17, 0.001).found)
        self.assertEqual(delay_check(20, 0, None).outcome, "warning")

    def test_clocks(self) -> None:
        self.assertEqual(clock_check(host(), host(), None).outcome, "unknown")
        self.assertEqual(clock_check(host(), host(), ClockOffset(0.0, 0.0)).outcome, "ok")
        self.assertEqual(clock_check(host(), host(), ClockOffset(2.0, 50e-6)).outcome, "ok")
        self.assertEqual(clock_check(host(), host(), ClockOffset(2.0, 0.02)).outcome, "warning")
        loose = host(clock=ClockFacts(synchronised=False))
        self.assertIn("far", clock_check(host(), loose, ClockOffset(2.0, 50e-6)).found)

    def test_other_traffic_and_errors(self) -> None:
        before = InterfaceCounters(name="eth1", at_s=1.0, received_bytes=0, sent_bytes=0, faults=5)
        quiet = before.model_copy(update={"at_s": 2.0, "received_bytes": 10_000})
        busy = before.model_copy(update={"at_s": 2.0, "sent_bytes": 12_500_000})
        bad = quiet.model_copy(update={"faults": 9})
        self.assertEqual([c.outcome for c in traffic_check("near", before, quiet, 1e9)], ["ok"])
        found = list(traffic_check("near", before, busy, 1e9))
        self.assertEqual(found[0].outcome, "warning")
        self.assertIn("100.0 Mb/s", found[0].found)
        self.assertIn("4 more errors", list(traffic_check("near", before, bad, None))[1].found)
        self.assertEqual(next(traffic_check("near", None, quiet, None)).outcome, "unknown")

    def test_buffers_against_the_product(self) -> None:
        small = host(socket_limits=SocketLimits(tcp_send_bytes=(4096, 16384, 4_000_000)))
        self.assertEqual(buffers_check(small, host(), GIGABIT, 0.005).outcome, "ok")
        short = buffers_check(small, host(), GIGABIT, 0.030)
        self.assertEqual((short.outcome, "near end" in short.found), ("warning", True))
        self.assertEqual(buffers_check(small, host(), Link(), 0.03).outcome, "unknown")

    def test_what_these_hosts_have_done_before(self) -> None:
        self.assertEqual(ability_check(None, "", 9.4e8).outcome, "unknown")
        self.assertEqual(ability_check(9.3e8, "r", 9.4e8).outcome, "ok")
        self.assertEqual(ability_check(6e8, "r", 9.4e8).outcome, "warning")


class WatchedLinks(unittest.TestCase):
    UP = link_event(1.0, "up", "eth1", 10e9, "full")

    def verdict(self, events: list[Event], rated: float | None = 10e9) -> list[str]:
        return [finding.verdict for finding in judge_link("eth1", events, rated, 5)]

    def test_one_slow_link_up_rejects(self) -> None:
        events = [link_event(1.0, "up", "eth1", 5e9)] * 5 + [link_event(1.0, "up", "eth1", 2.5e9)]
        self.assertEqual(self.verdict(events), ["REJECT"])
        counts = {f.labels["speed"]: f.value for f in figures_of(events) if f.quantity == "link-ups"}
        self.assertEqual(counts, {"5 Gb/s": 5, "2.5 Gb/s": 1})
        self.assertIn("2.5 Gb/s, 5 Gb/s", judge_link("eth1", events, 10e9, 5)[0].reason)

    def test_the_other_verdicts(self) -> None:
        self.assertEqual(self.verdict([self.UP] * 5), ["ACCEPT"])
        self.assertEqual(self.verdict([self.UP] * 4), ["RETEST"])
        self.assertEqual(self.verdict([link_event(1.0, "up", "eth1")] * 5), ["RETEST"])
        self.assertEqual(self.verdict([link_event(1.0, "up", "eth1", 10e9, "half")] * 5), ["REJECT"])
        self.assertEqual(self.verdict([*[self.UP] * 4, link_event(1.0, "up", "eth1", 10e9, missed=2)]), ["REJECT"])
        self.assertEqual(self.verdict([self.UP], None), [])


def tlv(kind: int, value: bytes) -> bytes:
    return (kind << 9 | len(value)).to_bytes(2) + value


class Lldp(unittest.TestCase):
    HEAD = bytes.fromhex("0180c200000e02000000000188cc")
    WHO = tlv(1, b"\x04" + bytes.fromhex("0200000000ff")) + tlv(2, b"\x05gi0/7")

    def test_who_it_is(self) -> None:
        frame = self.HEAD + self.WHO + tlv(3, b"\0\x78") + tlv(5, b"dome-sw-a") + tlv(4, b"to the hall") + tlv(0, b"")
        found = decode_lldp(frame)
        assert found
        self.assertEqual((found.chassis, found.port), ("02:00:00:00:00:ff", "gi0/7"))
        self.assertEqual(found.words, "dome-sw-a, to the hall")
        tagged = frame[:12] + bytes.fromhex("81000064") + frame[12:]
        self.assertEqual(decode_lldp(tagged), found)

    def test_addresses_and_hostile_names(self) -> None:
        who = tlv(1, b"\x05\x01\xc6\x12\x00\x01") + tlv(2, b"\x04\x01\xc6\x12\x00\x02")
        found = decode_lldp(self.HEAD + who + tlv(5, b"\x1b[31mred\x07"))
        assert found
        self.assertEqual((found.chassis, found.port, found.name), ("198.18.0.1", "198.18.0.2", "?[31mred?"))

    def test_cut_short_or_something_else(self) -> None:
        frame = self.HEAD + self.WHO
        for length in range(len(frame)):
            self.assertIsNone(decode_lldp(frame[:length]))
        self.assertIsNone(decode_lldp(bytes(200)))
