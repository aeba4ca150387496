import json
import os
import subprocess
import unittest
from typing import Any

from harvok.host.state import STATE_FOLDER
from harvok.station.keys import KEYS_FOLDER
from harvok.testing.namespaces import ADDRESSES, NamespacePair
from tests.whole.program import HARVOK, ProgramTest, until

NEEDS_ROOT = unittest.skipUnless(hasattr(os, "geteuid") and os.geteuid() == 0, "needs root for network namespaces")


def only(figures: list[dict[str, Any]], quantity: str, **labels: str) -> float:
    (found,) = [f["value"] for f in figures if f["quantity"] == quantity and labels.items() <= f["labels"].items()]
    return float(found)


def samples_of(trial: dict[str, Any], **labels: str) -> dict[str, list[float]]:
    """The values of one source of a trial, with just these labels."""
    (block,) = [block for block in trial["samples"] if block["labels"] | {"source": block["source"]} == labels]
    values: dict[str, list[float]] = block["values"]
    return values


class UdpOverLoopback(ProgramTest):
    def test_a_load_each_way_and_its_record(self) -> None:
        _, address = self.station()
        done = self.harvok("udp", address, "--rate", "20M", "--duration", "1s", "--interval", "500ms", "--json")
        record = json.loads(done.stdout)
        self.assertEqual((record["state"], record["test"]["kind"]), ("complete", "udp-load"))
        for direction in ("send", "receive"):
            received = only(record["figures"], "udp-received", direction=direction)
            loss = only(record["figures"], "datagram-loss", direction=direction)
            offered = only(record["figures"], "udp-offered", direction=direction)
            self.assertAlmostEqual(received, offered * (1 - loss), delta=1)
            self.assertGreater(only(record["figures"], "udp-goodput", direction=direction), 0)
            self.assertEqual(only(record["figures"], "clock-error", direction=direction), 0)
        trial = record["trials"][0]
        sent = samples_of(trial, source="near", direction="send", role="sender")["datagrams"]
        self.assertEqual(sum(sent), trial["result"]["directions"][0]["sender"]["sent"][0]["datagrams"])
        self.assertTrue(any(check["topic"] == "interface, near end" for check in record["preflight"]))
        shown = self.inside("logbook", "show", "last").stdout
        self.assertIn("lost on the path", shown)
        self.assertIn("loopback, no link is tested", shown)
        self.assertIn("udp each", self.inside("logbook", "list").stdout)

    def test_what_makes_no_sense_is_refused_before_anything_is_sent(self) -> None:
        for words, said in (
            ((), "--rate"),
            (("--rate", "1G", "--frame-size", "1518", "--payload", "1472"), "--payload"),
            (("--rate", "1G", "--search", "--steps", "1G"), "--search"),
            (("--rate", "1G", "--group", "239.1.2.3"), "--group"),
            (("--steps", "1G,x"), "--steps"),
        ):
            err = self.inside("udp", "127.0.0.1:9", *words, code=2).stderr
            self.assertIn(said, err)
        self.assertFalse(self.logbook.exists())

    def test_services_from_a_file(self) -> None:
        file = self.folder / "services.toml"
        file.write_text('format = "harvok-services"\nversion = 1\n[[services]]\nname = "voice"\ncommited = "2M"\n')
        err = self.inside("udp", "127.0.0.1:9", "--services", str(file), code=2).stderr
        self.assertIn("line 5", err)
        file.write_text(
            'format = "harvok-services"\nversion = 1\n[[services]]\nname = "voice"\ncommitted = "200k"\n'
            'max_delay = "10ns"\n'
        )
        _, address = self.station()
        words = ("--services", str(file), "--duration", "500ms", "--direction", "send")
        done = self.harvok("udp", address, *words, code=1)
        self.assertIn("REJECT", done.stdout)
        self.assertIn("which misses the 10.00 ns promised", done.stdout)

    def test_delay_by_the_reflector_of_a_station_idle_and_under_load(self) -> None:
        _, address = self.station()
        port = str(int(address.rpartition(":")[2]) + 2)
        done = self.harvok("delay", "127.0.0.1", "--port", port, "--packets", "20", "--gap", "5ms", "--json")
        record = json.loads(done.stdout)
        self.assertEqual(record["trials"][0]["result"]["means"], "stamp")
        self.assertEqual(only(record["figures"], "two-way-loss"), 0)
        loaded = self.harvok("delay", address, "--packets", "10", "--gap", "20ms", "--load", "send").stdout
        self.assertIn("tcp-send", loaded)
        self.assertIn("the load carried", loaded)
        echo = json.loads(self.inside("delay", "127.0.0.1", "--packets", "2", "--gap", "5ms", "--json").stdout)
        self.assertIn("no STAMP reflector answered on UDP port 26472 and 862, so ICMP echo", echo["notices"][0])
        err = self.inside("delay", "127.0.0.1", "--port", "9", "--packets", "2", code=4).stderr
        self.assertIn("no STAMP reflector on UDP port 9", err)

    def test_preflight(self) -> None:
        _, address = self.station()
        checks = {c["topic"]: c["outcome"] for c in json.loads(self.harvok("preflight", address, "--json").stdout)}
        self.assertEqual(checks["control port"], "ok")
        self.assertEqual((checks["data port, TCP"], checks["data port, UDP"]), ("ok", "ok"))
        self.assertEqual((checks["clocks"], checks["interface, near end"]), ("ok", "warning"))
        refused = self.inside("preflight", "127.0.0.1:9", code=4).stdout
        self.assertIn("stop", refused)
        self.assertIn("Start `harvok station` there", refused)
        unknown = self.inside("preflight", "no-such-host.invalid", code=4).stdout
        self.assertIn("does not resolve", unknown)


@NEEDS_ROOT
class PathsOfKnownProperties(ProgramTest):
    def on(self, pair: NamespacePair, *arguments: str) -> dict[str, Any]:
        done = pair.run("near", [HARVOK, *arguments, "--json"])
        self.assertEqual(done.returncode, 0, done.stderr)
        record: dict[str, Any] = json.loads(done.stdout)
        return record

    def far(self, pair: NamespacePair) -> None:
        os.environ.update(
            {key: self.env[key] for key in ("HARVOK_TOKEN", "HARVOK_LOGBOOK", "HARVOK_CODE", STATE_FOLDER, KEYS_FOLDER)}
        )
        station = pair.popen("far", [HARVOK, "station", "--name", "hall"], stdout=subprocess.PIPE)
        self.addCleanup(self.end, station)
        assert station.stdout
        self.assertIn("ready", station.stdout.readline())

    def test_link_local_addresses_work_with_their_zone(self) -> None:
        with NamespacePair() as pair:
            until(lambda: "tentative" not in pair.run("far", ["ip", "-6", "address"]).stdout)
            self.far(pair)
            found = pair.run("far", ["ip", "-6", "-o", "address", "show", "scope", "link"]).stdout
            station = f"[{found.split()[3].partition('/')[0]}%near0]"
            tcp = self.on(pair, "tcp", station, "--duration", "500ms", "--direction", "both")
            self.assertEqual([tcp[end]["interface"]["name"] for end in ("near", "far")], ["near0", "far0"])
            self.assertEqual(tcp["rig"]["address"], station.strip("[]"))
            udp = self.on(pair, "udp", station, "--rate", "1M", "--duration", "500ms", "--direction", "both")
            self.assertEqual(udp["state"], "complete")
            self.assertEqual(self.on(pair, "delay", station, "--packets", "20")["state"], "complete")

    def test_random_loss_is_found_to_be_as_it_was_set(self) -> None:
        with NamespacePair() as pair:
            self.far(pair)
            rules = (
                "add table netdev h; add chain netdev h c { type filter hook ingress device far0 priority 0; };"
                "add rule netdev h c udp dport 26471 numgen random mod 100 < 5 drop"
            )
            if pair.run("far", ["nft", rules]).returncode:
                self.skipTest("this kernel has no nftables")
            asked = ("--rate", "60M", "--frame-size", "500", "--duration", "2s", "--direction", "send")
            record = self.on(pair, "udp", ADDRESSES["far"], *asked)
            loss, drops = (only(record["figures"], name) for name in ("datagram-loss", "socket-drops"))
            sent = record["trials"][0]["result"]["directions"][0]["sender"]["sent"][0]["datagrams"]
            self.assertEqual(drops, 0)
            self.assertAlmostEqual(loss, 0.05, delta=5 * (0.05 * 0.95 / sent) ** 0.5)
            runs = record["trials"][0]["result"]["directions"][0]["receiver"]["received"][0]["loss_runs"]
            self.assertGreater(runs["1"], runs.get("2", 0))

    def test_a_shaped_interface_is_the_senders_own_limit(self) -> None:
        with NamespacePair(20e6) as pair:
            self.far(pair)
            asked = ("--rate", "40M", "--duration", "2s", "--direction", "send")
            record = self.on(pair, "udp", ADDRESSES["far"], *asked)
            figure = next(f for f in record["figures"] if f["quantity"] == "udp-received")
            self.assertEqual(figure["mark"], "tester-limit")
            self.assertTrue(5e6 < figure["value"] < 22e6, figure)

    def test_multicast_and_ipv6(self) -> None:
        with NamespacePair() as pair:
            self.far(pair)
            for address, group in ((ADDRESSES["far"], "239.1.2.3"), ("2001:2::2", "ff15::77")):
                asked = ("--rate", "5M", "--duration", "500ms", "--direction", "send", "--group", group)
                record = self.on(pair, "udp", address, *asked)
                self.assertGreater(only(record["figures"], "udp-received"), 0)

    def test_a_narrow_path_is_found_by_preflight(self) -> None:
        with NamespacePair() as pair:
            self.far(pair)
            pair.run("far", ["ip", "link", "set", "far0", "mtu", "1400"])
            done = pair.run("near", [HARVOK, "preflight", ADDRESSES["far"], "--json"])
            checks = {check["topic"]: check for check in json.loads(done.stdout)}
            self.assertEqual(checks["path MTU, IPv4"]["outcome"], "warning")
            self.assertEqual(checks["MTU of both ends"]["outcome"], "warning")


@NEEDS_ROOT
class PortsOfThisHost(ProgramTest):
    """veth stands in for the cards."""

    def setUp(self) -> None:
        super().setUp()
        self.ports = (f"hvp{os.getpid() % 10000}a", f"hvp{os.getpid() % 10000}b")
        self.ip("link", "add", self.ports[0], "type", "veth", "peer", "name", self.ports[1])
        self.addCleanup(subprocess.run, ["ip", "link", "del", self.ports[0]], capture_output=True)
        self.ip("addr", "add", "10.213.7.1/24", "dev", self.ports[0])
        self.ip("link", "set", self.ports[0], "up")
        self.ip("link", "set", self.ports[1], "up", "mtu", "1400")

    def ip(self, *words: str) -> None:
        subprocess.run(["ip", *words], check=True)

    def there(self) -> bool:
        """Whether both ports are home, with what they had."""
        said = subprocess.run(["ip", "-o", "addr", "show", self.ports[0]], capture_output=True, text=True).stdout
        link = subprocess.run(["ip", "-o", "link", "show", self.ports[1]], capture_output=True, text=True).stdout
        return "10.213.7.1/24" in said and "mtu 1400" in link and ",UP" in link

    def test_a_pair_is_measured_and_put_back(self) -> None:
        words = ("--duration", "500ms", "--direction", "send", "--series", "lead-07")
        done = self.harvok("ports", "pair", *self.ports, *words, "--json")
        record = json.loads(done.stdout)
        self.assertEqual((record["near"]["name"], record["far"]["name"]), self.ports)
        self.assertEqual(record["command"][1:3], ["ports", "pair"])
        self.assertGreater(only(record["figures"], "goodput-mean"), 0)
        self.assertTrue(self.there())
        self.assertIn("lead-07", self.inside("logbook", "list").stdout)

    def test_a_killed_test_leaves_the_ports_as_they_were(self) -> None:
        process = self.start("ports", "pair", *self.ports, "--duration", "30s")
        until(lambda: not self.there())
        process.kill()
        until(self.there)

    def test_ports_that_may_not_be_lent(self) -> None:
        self.assertIn("loopback", self.harvok("ports", "pair", "lo", self.ports[0], code=4).stderr)
        self.assertIn("no interface nothing9", self.harvok("ports", "pair", "nothing9", self.ports[0], code=4).stderr)
        self.assertIn("itself", self.harvok("ports", "pair", self.ports[0], self.ports[0], code=2).stderr)

    def test_watching(self) -> None:
        process = self.start("ports", "watch", self.ports[0], "--link-ups", "2", "--rated", "1G", "--series", "lead-07")
        assert process.stdout
        self.assertIn(self.ports[0], process.stdout.readline())
        self.assertIn("up at unknown speed", process.stdout.readline())
        self.ip("link", "set", self.ports[1], "down")
        self.assertIn("no link", process.stdout.readline())
        self.ip("link", "set", self.ports[1], "up")
        out, err = process.communicate(timeout=30)
        self.assertEqual((process.returncode, err), (3, ""))
        self.assertIn("2 × unknown speed", out)
        self.assertIn("RETEST", out)
        self.assertIn("does not report its speed", self.inside("logbook", "show", "last").stdout)
