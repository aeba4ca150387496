"""Two hosts as one frame tester: a rig of kind `remote`, between namespaces with a switch between them."""

import json
import signal
import subprocess
import unittest
from typing import Any

from harvok.core.models.rig import RIG_FILE
from harvok.testing.namespaces import ADDRESSES, Side
from harvok.testing.two_testers import TEST_PORTS, TwoTesters
from tests.whole.program import HARVOK, Contention, ProgramTest, until
from tests.whole.test_udp import NEEDS_ROOT

RIG = """
version = 1
kind = "remote"
name = "two-rooms"
rated = "10M"
device = "switch"
isolated = true
[ports.dome]
interface = "{0}"
[ports.hall]
interface = "{1}"
station = "{address}"
"""
SITE = """
format = "harvok-site"
version = 1
name = "rooms"
zone = "UTC"
[[stations]]
name = "dome"
address = "{near}"
frame_port = "{0}"
[[stations]]
name = "hall"
address = "{far}"
frame_port = "{1}"
[[links]]
name = "uplink"
rated = "10M"
behind = ["dome"]
[[rounds]]
name = "frames"
at = "every hour"
between = ["dome > hall"]
max_duration = "4min"
[rounds.step]
name = "frames"
test = "rfc2544"
tests = ["throughput"]
frame_sizes = [1518]
duration = "1s"
trial_pause = "500ms"
resolution = "3%"
"""
_SHAPE_BPS = 5e6
"""A slow switch: few frames, which a busy machine can send, too."""
SHORT = ("throughput", "--frame-size", "1518", "--duration", "1s", "--pause", "500ms", "--resolution", "3%", "--json")


class Files(unittest.TestCase):
    def test_stations_and_the_kind_go_together(self) -> None:
        ports = {"a": {"interface": "eth1"}, "b": {"interface": "eth1", "station": "hall"}}
        rig = {"version": 1, "name": "rooms", "rated": "1G", "ports": ports}
        RIG_FILE.validate_python({**rig, "kind": "remote"})
        for wrong in (
            {"kind": "ports"},
            {"kind": "remote", "ports": {"a": {"interface": "eth1"}, "b": {"interface": "eth2"}}},
            {"kind": "remote", "ports": {**ports, "c": {"interface": "eth3", "code": "AAAA"}}},
            {"kind": "remote", "ports": {**ports, "c": {"interface": "eth1", "station": "hall"}}},
            {"kind": "remote", "watched": "sw.toml"},
        ):
            with self.subTest(wrong), self.assertRaises(ValueError):
                RIG_FILE.validate_python({**rig, **wrong})


@NEEDS_ROOT
class Remote(ProgramTest):
    def setUp(self) -> None:
        super().setUp()
        self.pair = self.enterContext(TwoTesters(_SHAPE_BPS, 16_384, burst_bytes=16_384))
        (self.folder / "rig.toml").write_text(RIG.format(*TEST_PORTS, address=ADDRESSES["far"]))

    def on(self, side: Side, *words: str) -> "subprocess.Popen[str]":
        options: dict[str, Any] = {"stdout": subprocess.PIPE, "stderr": subprocess.PIPE, "env": self.env}
        process = self.pair.popen(side, [HARVOK, *words], cwd=self.folder, **options)
        self.addCleanup(self.end, process)
        return process

    def lending(self, *words: str, side: Side = "far") -> "subprocess.Popen[str]":
        process = self.on(side, "station", *words)
        assert process.stdout
        while "Ctrl-C" not in (line := process.stdout.readline()):
            if not line:
                self.fail(process.communicate()[1])
        return process

    def ran(self, *words: str, code: int = 0) -> str:
        process = self.on("near", "rfc2544", "rig.toml", *words)
        out, err = process.communicate(timeout=280)
        self.assertNotIn("Traceback", err)
        self.assertEqual(process.returncode, code, err)
        return out if code == 0 else err

    def test_a_switch_between_two_hosts_is_found_to_be_what_it_is(self) -> None:
        self.lending("--frames", TEST_PORTS[1])
        record = json.loads(self.ran(*SHORT, "--direction", "receive"))
        (found,) = (f["value"] for f in record["figures"] if f["quantity"] == "throughput")
        arithmetic = _SHAPE_BPS / 8 / 1514  # the kernel counts no FCS
        self.assertAlmostEqual(found / arithmetic, 1, delta=0.1)
        self.assertEqual(record["rig"]["file"]["ports"]["hall"]["station"], ADDRESSES["far"])
        self.assertEqual([port["name"] for port in record["rig"]["ports"]], [*TEST_PORTS])
        last = record["trials"][-1]["result"]["directions"][0]
        self.assertEqual(last["clock_error_s"], 0.0)  # both are one machine
        self.assertGreater(last["delay"]["median_s"], 1e-6)

    def test_a_port_that_sends_back_and_loads_without_a_pause(self) -> None:
        lending = self.lending("--frames", TEST_PORTS[1])
        ramp = ("ramp", "rig.toml", "--frame-size", "1518", "--hold", "1s", "--trial-pause", "300ms", "--json")
        one_way = self.record_of(*ramp, "--loads", "2%,5%,10%", "--continuous")
        received = {f["labels"]["load"]: f for f in one_way["figures"] if f["quantity"] == "forwarding-rate"}
        shares = {"2 %": 0.02, "5 %": 0.05, "10 %": 0.1}
        for load, share in shares.items() & {(load, shares[load]) for load in received}:
            self.assertAlmostEqual(received[load]["value"] / (share * 10e6 / 8 / 1538), 1, delta=0.1)
        losses = {f["labels"]["load"]: f["value"] for f in one_way["figures"] if f["quantity"] == "frame-loss"}
        self.assertEqual(losses, dict.fromkeys(received, 0), "each frame is counted in the step that sent it")
        left_out = [load for load in shares if load not in received]  # which a busy host did not hold
        self.assertTrue(all(any(f"at {load} is left out" in note for note in one_way["notices"]) for load in left_out))
        self.end(lending)
        self.lending("--frames", TEST_PORTS[1], "--reflect")
        self.assertIn("send back what they get, and do nothing else", self.ran(*SHORT, code=2))
        rig = self.folder / "rig.toml"
        rig.write_text(rig.read_text() + "reflect = true\n")
        both_ways = self.record_of(*ramp, "--loads", "10%")
        (loss,) = (f for f in both_ways["figures"] if f["quantity"] == "frame-loss")
        self.assertEqual((loss["value"], loss["labels"]["direction"]), (0, "send and back"))
        delays = [
            next(f["value"] for f in record["figures"] if f["quantity"] == "latency-median")
            for record in (one_way, both_ways)
        ]
        self.assertGreater(delays[1], 1.5 * delays[0], "there and back")
        self.assertIn("loss and delay are of both ways together", " ".join(both_ways["notices"]))
        process = self.on("near", "rfc2544", "rig.toml", *SHORT, "--direction", "receive")
        self.assertIn("sends back what it gets, and nothing else", process.communicate(timeout=60)[1])
        refused = self.on("far", "station", "--port", "27000", "--reflect").communicate(timeout=60)[1]
        self.assertIn("--reflect is about lent ports", refused)

    def record_of(self, *words: str) -> "dict[str, Any]":
        contention, process = Contention(), self.on("near", *words)
        out, err = process.communicate(timeout=280)
        record: dict[str, Any] = json.loads(out)
        if record["fault"] and record["fault"]["reference"] == "tester-limit":
            self.skip_if_busy(contention)
        self.assertEqual(process.returncode, 0, err)
        return record

    def test_a_round_of_a_site_between_two_stations_that_lend_ports(self) -> None:
        self.lending("--frames", TEST_PORTS[1])
        self.lending("--frames", TEST_PORTS[0], side="near")
        (self.folder / "site.toml").write_text(SITE.format(*TEST_PORTS, near=ADDRESSES["near"], far=ADDRESSES["far"]))
        contention, process = Contention(), self.on("near", "site", "run", "site.toml", "--once")
        out, err = process.communicate(timeout=280)
        if "the tester fell short" in out:
            self.skip_if_busy(contention)
        self.assertEqual(process.returncode, 0, out + err)
        self.assertIn("dome to hall  done", out)
        (line,) = json.loads(self.inside("logbook", "list", "--json").stdout)
        self.assertEqual((line["series"], line["state"]), ("rooms.frames.dome.hall", "complete"))
        wrong = (self.folder / "site.toml").read_text().replace('frame_port = "test1"', "")
        (self.folder / "wrong.toml").write_text(wrong)
        self.assertIn("hall has no frame_port", self.inside("site", "check", "wrong.toml", code=2).stderr)

    def test_what_a_station_lends_is_its_operators_choice(self) -> None:
        station = self.lending()
        self.assertIn("the station lends no ports", self.ran(*SHORT, code=2))
        station.terminate()
        station.wait()
        self.lending("--frames", TEST_PORTS[1])
        rig = self.folder / "rig.toml"
        rig.write_text(rig.read_text().replace('"test1"', '"lo"'))
        self.assertIn("does not lend the port lo", self.ran(*SHORT, code=2))
        self.env |= {"DOME_SNMP": "public"}
        watched = ("rfc2544", "rig.toml", *SHORT, "--device", "sw.toml")
        self.inside("device", "new", "sw.toml", "--snmp", "2c")
        self.assertIn("is not watched", self.inside(*watched, code=2).stderr)
        refused = self.on("far", "station", "--port", "27000", "--frames", "nosuch0")
        self.assertIn("there is no interface nosuch0", refused.communicate(timeout=60)[1])

    def test_when_either_end_is_killed_the_port_is_as_it_was(self) -> None:
        station = self.lending("--frames", TEST_PORTS[1])
        before = self.port_state()
        near = self.on("near", "rfc2544", "rig.toml", *SHORT[:-1])
        until(lambda: "promiscuity 1" in self.port_state())
        near.send_signal(signal.SIGKILL)
        near.wait()
        until(lambda: self.port_state() == before)
        near = self.on("near", "rfc2544", "rig.toml", *SHORT[:-1])
        until(lambda: "promiscuity 1" in self.port_state())
        station.send_signal(signal.SIGKILL)
        station.wait()
        until(lambda: self.port_state() == before)
        _, err = near.communicate(timeout=60)
        self.assertEqual(near.returncode, 4, err)
        self.assertIn("the station", err)
        self.assertNotIn("Traceback", err)

    def port_state(self) -> str:
        """The lent port as the kernel tells it, without its counters."""
        return self.pair.run("far", ["ip", "-d", "link", "show", TEST_PORTS[1]]).stdout
