"""Two hosts on one machine: network namespaces joined by a veth pair of known properties. Needs root."""

import os
import shutil
import subprocess
import sys
import unittest
from typing import Any

from harvok.core.models.run import RunRecord
from harvok.testing.namespaces import ADDRESSES, ADDRESSES_6, NamespacePair
from tests.whole.program import Contention, ProgramTest

CAN = sys.platform == "linux" and os.geteuid() == 0
FILTER = shutil.which("nft")


@unittest.skipUnless(CAN, "network namespaces need root on Linux")
class Paths(ProgramTest):
    def pair(self, **properties: Any) -> NamespacePair:
        """Two hosts, with a station on the far one."""
        pair = NamespacePair(**properties)
        self.enterContext(pair)
        station = self.start("station", "--name", "hall", room=pair.name("far"))
        self.addCleanup(station.terminate)
        assert station.stdout
        self.assertIn("ready", station.stdout.readline())
        return pair

    def near(self, pair: NamespacePair, *arguments: str, code: int = 0) -> subprocess.CompletedProcess[str]:
        return self.harvok(*arguments, code=code, room=pair.name("near"))

    def measured(self, pair: NamespacePair, *arguments: str) -> RunRecord:  # type: ignore[override]
        return RunRecord.model_validate_json(self.near(pair, "tcp", *arguments, "--json").stdout)

    def test_a_shaped_path_gives_what_the_arithmetic_allows(self) -> None:
        """A token bucket of 9.7 Mb/s counts header and payload: goodput is 9.7 × 1448 / 1514 Mb/s, and never more.
        That is above 97 % of what 10 Mb/s carry, so the link is the limiter, whatever else keeps this host busy."""
        pair = self.pair(rate_bps=9.7e6)
        asked = ("--duration", "3s", "--rated", "10M", "--congestion-control", "cubic")
        wanted_bps = 9.7e6 * 1448 / 1514
        record = self.measured(pair, ADDRESSES["far"], *asked)
        settled = [f.value for f in record.figures if f.quantity == "goodput-settled"]
        self.assertEqual((len(settled), len(record.readings)), (2, 2))
        for value in settled:
            self.assertTrue(0.98 < value / wanted_bps < 1.02, (value, record.notices))
        for reading in record.readings:
            self.assertEqual(reading.limiter.kind, "link", reading.limiter.evidence)
            assert reading.ceiling
            self.assertEqual((reading.ceiling.packet_bytes, reading.ceiling.source), (1500, "rated 10 Mb/s"))

    def test_the_interfaces_really_used_are_found_at_both_ends(self) -> None:
        pair = self.pair(mtu_bytes=9000)
        short = ("--duration", "0.5s", "--direction", "send")
        for more in (("--interface", "near0"), ("--local", ADDRESSES["near"]), ()):
            record = self.measured(pair, ADDRESSES["far"], *short, *more)
            assert record.near.interface and record.far and record.far.interface
            self.assertEqual((record.near.interface.name, record.far.interface.name), ("near0", "far0"))
            self.assertEqual((record.near.interface.kind, record.near.interface.negotiated_bps), ("veth", None))
            self.assertEqual(record.far.interface.mtu_bytes, 9000)
            self.assertIsNone(record.readings[0].ceiling)  # a veth has no speed worth the name
            self.assertEqual(record.near.local_address, ADDRESSES["near"])
        self.assertIn("no-such0", self.near(pair, "tcp", ADDRESSES["far"], "--interface", "no-such0", code=4).stderr)

    def test_ipv6(self) -> None:
        pair = self.pair()
        record = self.measured(pair, f"[{ADDRESSES_6['far']}]", "--duration", "0.5s", "--rated", "10G")
        ceiling = record.readings[0].ceiling
        assert ceiling
        self.assertEqual((ceiling.ip_version, ceiling.segment_bytes), (6, 1428))

    @unittest.skipUnless(FILTER, "nft is not installed")
    def test_a_firewall_that_drops_data(self) -> None:
        self.data_blocked("drop", "no answer")

    @unittest.skipUnless(FILTER, "nft is not installed")
    def test_a_firewall_that_refuses_data(self) -> None:
        self.data_blocked("reject with tcp reset", "refused")

    def data_blocked(self, action: str, words: str) -> None:
        pair = self.pair()
        self.rule(pair, "far", "input", f"tcp dport 26471 {action}")
        said = self.near(pair, "tcp", ADDRESSES["far"], code=4).stderr
        for part in ("control works", words, "TCP port 26471"):
            self.assertIn(part, said)

    @unittest.skipUnless(FILTER, "nft is not installed")
    def test_a_station_behind_a_silent_firewall(self) -> None:
        pair = self.pair()
        self.rule(pair, "far", "input", "tcp dport 26470 drop")
        said = self.near(pair, "tcp", ADDRESSES["far"], code=4).stderr
        self.assertIn("though the host is there: a firewall drops the connection", said)

    def test_nobody_at_an_address_and_no_way_to_one(self) -> None:
        pair = self.pair()
        nobody = f"{ADDRESSES['far'].rpartition('.')[0]}.77"
        self.assertIn("no host answers at that address of this link", self.near(pair, "tcp", nobody, code=4).stderr)
        self.assertIn("this host has no route to 203.0.113.1", self.near(pair, "tcp", "203.0.113.1", code=4).stderr)

    @unittest.skipUnless(FILTER, "nft is not installed")
    def test_everything_dropped_and_a_router_without_a_route(self) -> None:
        pair = self.pair()
        self.rule(
            pair, "far", "input", "meta l4proto { tcp, udp } th dport 26470 reject with icmpx type no-route", "route"
        )
        said = self.near(pair, "tcp", ADDRESSES["far"], code=4).stderr
        self.assertIn(f"the router {ADDRESSES['far']} has no route to it", said)
        self.rule(pair, "far", "input", "ip protocol != 255 drop")
        self.assertIn("in 5 s, nor to a ping", self.near(pair, "tcp", ADDRESSES["far"], code=4).stderr)

    @unittest.skipUnless(FILTER, "nft is not installed")
    def test_a_firewall_that_answers_is_no_cable(self) -> None:
        pair = self.pair()
        self.rule(pair, "far", "input", "udp dport 26471 reject with icmpx type admin-prohibited")
        said = self.near(pair, "udp", ADDRESSES["far"], "--rate", "1M", code=4).stderr
        self.assertIn("are prohibited by a firewall on the way (ICMP)", said)
        self.rule(pair, "far", "input", "tcp dport 26470 reject with icmpx type admin-prohibited", "control")
        said = self.near(pair, "tcp", ADDRESSES["far"], code=4).stderr
        self.assertIn("a firewall there or on the way rejects the connection (ICMP of", said)

    @unittest.skipUnless(FILTER, "nft is not installed")
    def test_random_loss_is_the_limiter(self) -> None:
        pair = self.pair(rate_bps=1e9)
        self.rule(pair, "far", "input", "tcp dport 26471 meta length > 1000 numgen random mod 100 < 3 drop")
        asked = ("--duration", "3s", "--direction", "send", "--rated", "1G", "--congestion-control", "reno")
        contention = Contention()
        reading = self.measured(pair, ADDRESSES["far"], *asked, "--mss", "1000").readings[0]
        if reading.limiter.blame == "tester":
            self.skip_if_busy(contention)
        self.assertEqual(reading.limiter.kind, "loss", reading.limiter.evidence)

    def rule(self, pair: NamespacePair, side: Any, hook: str, rule: str, table: str = "bench") -> None:
        text = f"table inet {table} {{\nchain {hook} {{\ntype filter hook {hook} priority 0;\n{rule}\n}}\n}}\n"
        done = pair.run(side, ["nft", text])
        self.assertEqual(done.returncode, 0, done.stderr)
