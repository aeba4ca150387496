"""`harvok app` and `harvok mix`, with a station over loopback."""

import json
import os
import resource
import subprocess
import unittest
from functools import partial
from typing import Any

from tests.whole.program import ProgramTest
from tests.whole.test_udp import NEEDS_ROOT

QUICK = ("--ramp", "0.2s", "--hold", "0.6s", "--interval", "0.2s")
PLAN = """
version = 1
name = "gateway"
station = "{station}"
repeats = 2
min_repeats = 2

[[steps]]
name = "night"
test = "app"
mix = "night.toml"
levels = ["2/0.6s", "6/0.6s"]
ramp = "0.1s"
services = [{{ name = "voice", committed = "200k", frame_size = 218 }}]
delay = true

[[criteria]]
figure = "two-way-delay-p99"
max = "10s"
labels = {{ level = "6 users" }}

[[criteria]]
figure = "datagram-loss"
max = "99%"
labels = {{ service = "voice", direction = "send" }}

[[criteria]]
figure = "transactions-rate"
min = 1000000
labels = {{ application = "control", level = "6 users" }}

[[criteria]]
figure = "failed-transactions"
max = "1%"
"""
MIX = """
format = "harvok-mix"
version = 1
name = "night"

[[applications]]
name = "control"
protocol = "tcp"
actions = [{ name = "point", request = "80B", response = "60B", think = "20ms" }]

[[applications]]
name = "images"
transactions_per_connection = 5
actions = [{ name = "list", response = "2k" }, { name = "fetch", response = "300k", times = 2, think = "10ms" }]
"""

HELD = """
format = "harvok-mix"
version = 1
name = "held"

[[applications]]
name = "page"
actions = [{ name = "fetch", response = "1k", think = "5s" }]
"""


class Applications(ProgramTest):
    def setUp(self) -> None:
        super().setUp()
        (self.folder / "night.toml").write_text(MIX)

    def test_users_are_measured_shown_kept_and_reported(self) -> None:
        _, station = self.station()
        out = self.harvok(
            "app",
            station,
            "--mix",
            "night.toml",
            "--levels",
            "2/0.6s,6/0.6s",
            "--plot",
            "levels.png",
            *QUICK[:2],
            *QUICK[4:],
        ).stdout
        for words in ("mix night; 2 users for 0.6 s, 6 users for 0.6 s", "transactions/s", "6 users, sustained for",
                      "    fetch", "limiter: ", "next: "):  # fmt: skip
            self.assertIn(words, out)
        record = json.loads(self.inside("logbook", "show", "last", "--json").stdout)
        found = {(f["quantity"], *sorted(f["labels"].values())): f["value"] for f in record["figures"]}
        self.assertGreater(found["transactions-rate", "6 users"], found["transactions-rate", "2 users"] * 0.5)
        self.assertGreater(found["app-goodput", "6 users", "receive"], found["app-goodput", "6 users", "send"])
        self.assertEqual(found["failed-transactions", "2 users", "images"], 0)
        self.assertIn(("response-median", "6 users", "fetch", "images"), {(k[0], *sorted(k[1:])) for k in found})
        self.assertEqual(record["test"]["trial"]["mix"]["applications"][0]["protocol"], "tcp")
        again = self.inside("logbook", "show", "last").stdout
        self.assertIn("6 users, sustained for", again)
        self.assertGreater((self.folder / "levels.png").stat().st_size, 10_000)
        self.inside("report", "make", record["id"], "--to", "r.md")
        self.assertIn("median response time, 6 users, images, fetch", self.text("r.md"))

    def text(self, name: str) -> str:
        return (self.folder / name).read_text()

    def test_users_at_both_ends(self) -> None:
        _, station = self.station()
        out = self.harvok(
            "app", station, "--mix", "night.toml", "--users", "3", "--direction", "both", *QUICK, "--json"
        )
        record = json.loads(out.stdout)
        rates = {
            f["labels"]["users"]: f["value"]
            for f in record["figures"]
            if f["quantity"] == "transactions-rate" and "application" not in f["labels"]
        }
        self.assertEqual(rates.keys(), {"near", "far"})
        self.assertTrue(all(rates.values()))
        self.assertIn("3 users at the far end, sustained", self.inside("logbook", "show", "last").stdout)

    def test_arrivals_and_json(self) -> None:
        _, station = self.station()
        out = self.harvok("app", station, "--mix", "object-1k-new", "--arrivals", "100/s", *QUICK, "--json").stdout
        record = json.loads(out)
        self.assertEqual((record["state"], record["test"]["kind"]), ("complete", "app"))
        rate = next(f["value"] for f in record["figures"] if f["quantity"] == "transactions-rate")
        self.assertAlmostEqual(rate, 100, delta=60)
        levels = {label for figure in record["figures"] if (label := figure["labels"].get("level"))}
        self.assertEqual(levels, {"100 arrivals/s"})

    def test_connections_for_which_one_process_has_too_few_descriptors_are_shared_by_several(self) -> None:
        few: dict[str, Any] = {"preexec_fn": partial(resource.setrlimit, resource.RLIMIT_NOFILE, (200, 200))}
        _, station = self.station(**few)
        (self.folder / "held.toml").write_text(HELD)
        words = ("--mix", "held.toml", "--users", "300", "--ramp", "1s", "--hold", "1s", "--json")
        record = json.loads(self.harvok("app", station, *words, **few).stdout)
        figures = {
            figure["quantity"]: figure["value"]
            for figure in record["figures"]
            if not figure["labels"].get("application")
        }
        self.assertNotIn("failures", figures)
        self.assertGreater(figures["open-connections"], 220, "more than one process may hold, on a busy host too")

    def test_a_calibration_with_a_station_is_kept_and_used(self) -> None:
        _, station = self.station()
        words = ("--mix", "object-1k", "--max-users", "8", "--duration", "1s")
        kept = json.loads(self.harvok("calibrate", station, *words, "--json").stdout)
        (limit,) = kept["figures"]
        self.assertEqual((limit["quantity"], limit["labels"]), ("tester-limit-transactions", {"level": "8 users"}))
        self.assertIn("the tester itself holds", self.inside("logbook", "show", kept["id"]).stdout)
        used = (
            (kept["id"], limit["value"]) if limit["mark"] else (None, None)
        )  # 8 users may ask for less than the limit
        for mix, expected in (("object-1k", used), ("object-2k", (None, None))):
            asked = ("--mix", mix, "--users", "4", "--ramp", "0.1s", "--hold", "0.6s", "--json")
            record = json.loads(self.harvok("app", station, *asked).stdout)
            self.assertEqual((record["calibration"], record["test"]["tester_per_s"]), expected)
        self.assertIn(
            "with a station, not with a rig", self.inside("calibrate", "x.toml", "--mix", "web", code=2).stderr
        )

    def test_a_plan_judges_applications_by_their_labels(self) -> None:
        _, station = self.station()
        (self.folder / "plan.toml").write_text(PLAN.format(station=station))
        run = self.start("run", "plan.toml", "--unattended")
        out, err = run.communicate(timeout=60)
        self.assertIn(run.returncode, (1, 3), err)  # a busy host gives no verdict on some of it, and says so
        self.assertTrue(run.returncode == 1 or "the tester itself was the limit" in out, out)
        self.assertIn("night, 6 users, control", out)
        self.assertIn("p99 two-way delay, 6 users", out)
        self.assertIn(
            "mix night: 2 users for 0.6 s, 6 users for 0.6 s; beside it voice, delay probes",
            self.inside("plan", "check", "plan.toml").stdout,
        )

    def test_what_makes_no_sense_is_refused_before_anything_is_sent(self) -> None:
        for options, words in (
            (("--mix", "nothing"), "there is no mix and no file 'nothing'"),
            (("--users", "5", "--arrivals", "5/s"), "give one of --users and --arrivals"),
            (("--levels", "5"), "'5' is not a level such as 512/60s"),
            (("--levels", "0/10s"), "outside 1 to 100000 users"),
            (("--arrivals", "many"), "'many' is not a number of arrivals"),
            (("--hold", "30"), "is not a time such as"),
            (("--plot", "x.png"), "needs several --levels"),
            (("--plot", "x.gif"), "is neither .png nor .svg"),
        ):
            self.assertIn(words, self.inside("app", "127.0.0.1:9", *options, code=2).stderr)
        for old, new, words in (
            ('"night.toml"', '"day.toml"', "there is no mix and no file 'day.toml'"),
            ('["2/0.6s", "6/0.6s"]', '["2"]', "is not a level such as"),
            ('"6 users"', '"7 users"', "no step measures level 7 users"),
            ('application = "control"', 'application = "mail"', "no step measures application mail"),
            ('service = "voice"', 'service = "radio"', "no step measures service radio"),
            ('committed = "200k"', 'committed = "much"', "line"),
        ):
            (self.folder / "plan.toml").write_text(PLAN.format(station="x").replace(old, new))
            self.assertIn(words, self.inside("plan", "show", "plan.toml", code=2).stderr)

    def test_mixes_are_listed_shown_and_written(self) -> None:
        listed = self.inside("mix", "list").stdout
        for name in ("observatory", "web", "object-1k", "object-256k-new"):
            self.assertIn(name, listed)
        self.assertEqual(len(json.loads(self.inside("mix", "list", "--json").stdout)), len(listed.splitlines()) - 1)
        shown = self.inside("mix", "show", "observatory").stdout
        for words in ("telescope control", "fetch image", "8.400 MB", "11 applications, shared by users"):
            self.assertIn(words, shown)
        self.inside("mix", "new", "mine.toml", "--from", "observatory")
        self.assertEqual(self.inside("mix", "show", "mine.toml").stdout, shown)
        asked = json.loads(self.inside("mix", "check", "mine.toml", "--users", "512", "--json").stdout)
        self.assertEqual((asked["users"], len(asked["applications"])), (512, 11))
        self.assertIn("512 users would ask for", self.inside("mix", "check", "mine.toml", "--users", "512").stdout)
        self.assertIn("no limit", self.inside("mix", "check", "object-1k").stdout)
        self.assertIn("is there already", self.inside("mix", "new", "mine.toml", code=2).stderr)
        self.assertIn("no file ships", self.inside("mix", "new", "x.toml", "--from", "object-1k", code=2).stderr)
        (self.folder / "mine.toml").write_text(self.text("mine.toml").replace("weight = 10", "wait = 10"))
        self.assertIn("line", self.inside("mix", "check", "mine.toml", code=2).stderr)


SLOW = """
format = "harvok-mix"
version = 1
name = "slow"
applications = [{ name = "state", actions = [{ name = "read", response = "1k", think = "100ms" }] }]
"""
GATEWAY = """
version = 1
kind = "virtual"
name = "dome-gw"
rated = "1G"
device = "gateway"
"""
VOICE = """
format = "harvok-services"
version = 1
services = [{ name = "voice", committed = "200k", frame_size = 218, dscp = 46, max_variation = "1ns" }]
"""
POLICY = """
format = "harvok-policy"
version = 1
name = "p"
checks = [
  { name = "telnet", must = "blocked", by = "tcp", port = 2323 },
  { name = "archive", must = "passed", by = "tcp", port = 8443 },
  { name = "time", must = "passed", by = "udp", port = 123 },
  { name = "name", must = "blocked", by = "dns", host = "games.example" },
  { name = "site", must = "passed", by = "tls", host = "archive.example" },
  { name = "virus", must = "blocked", by = "http", content = "test-virus" },
  { name = "upload", must = "passed", by = "http", content = "test-virus", uploads = true },
  { name = "large", must = "passed", by = "http", header = "64k" },
  { name = "lengths", must = "passed", by = "http", malformed = "two-lengths" },
  { name = "zero", must = "passed", by = "http", malformed = "zero-byte" },
  { name = "odd", must = "passed", by = "flags", port = 8443, flags = ["ack", "psh"] },
]
"""
PORTS = """
version = 1
kind = "ports"
name = "dome-fw"
rated = "1G"
port1.interface = "{}"
port2.interface = "{}"
"""


class AcrossAGateway(ProgramTest):
    def gateway(self, *lines: str) -> None:
        (self.folder / "gw.toml").write_text("\n".join([GATEWAY, *lines]))

    def figures(self, *arguments: str) -> tuple[dict[str, Any], dict[tuple[str, ...], float]]:
        record = json.loads(self.harvok(*arguments, "--json").stdout)
        found = {
            (f["quantity"], *(f["labels"][key] for key in ("direction",) if key in f["labels"])): f["value"]
            for f in record["figures"]
            if not f["labels"].keys() & {"application", "action"}
        }
        return record, found

    def test_a_table_that_is_too_small_is_named(self) -> None:
        self.gateway('features = ["stateful", "nat", "rules=20", "table=30"]')
        (self.folder / "slow.toml").write_text(SLOW)
        record, found = self.figures("app", "gw.toml", "--mix", "slow.toml", "--users", "40", "--ramp", "0.2s",
                                     "--hold", "2s", "--timeout", "500ms")  # fmt: skip
        self.assertEqual(record["rig"]["device"]["features"], ["stateful", "nat", "rules=20", "table=30"])
        self.assertEqual(record["command"][:3], ["harvok", "app", "gw.toml"])
        self.assertAlmostEqual(found["open-connections",], 28, delta=3)  # of thirty, two are the control connection's
        shown = self.inside("logbook", "show", "last").stdout
        self.assertIn("connect-timeout", shown)
        self.assertIn("limiter: new connections, which the device does not take", shown)

    def test_services_and_delay_beside_users_share_their_time_axis(self) -> None:
        """Pages fill a path of 10 Mb/s, and voice and delay feel its queue; a limit that nothing can meet is missed."""
        self.gateway('shape = "10M"')
        (self.folder / "voice.toml").write_text(VOICE)
        words = ("--mix", "object-64k", "--users", "4", "--ramp", "0.5s", "--hold", "2s")
        process = self.start("app", "gw.toml", *words, "--with-services", "voice.toml", "--with-delay", "--json")
        out, err = process.communicate(timeout=100)
        self.assertIn(process.returncode, (1, 3), err)  # 3: on a busy host, which could not offer the voice's rate
        record = json.loads(out)
        figures = {(f["quantity"], f["labels"].get("direction", "")): f for f in record["figures"]}
        for direction in ("send", "receive"):
            loss = figures["datagram-loss", direction]
            self.assertEqual(loss["labels"], {"direction": direction, "service": "voice", "level": "4 users"})
        self.assertGreater(figures["two-way-delay-median", ""]["value"], 0.002)  # of a queue; 0.1 ms without
        axis = record["trials"][0]["samples"]
        beside = [block for block in axis if "service" in block["labels"] or "two-way-delay-s" in str(block)]
        self.assertEqual({block["source"] for block in beside}, {"near", "far"})
        shown = self.inside("logbook", "show", "last").stdout
        for part in ("voice    send     4 users", "meanwhile      4 users", "4 users, sustained"):
            self.assertIn(part, shown)

    def test_a_policy_is_tried_while_the_load_runs(self) -> None:
        """Of a gateway that blocks one port, and one name server; what it lets through though it must not is wrong."""
        self.gateway('features = ["stateful", "block=2323", "block=53"]')
        (self.folder / "policy.toml").write_text(POLICY)
        words = ("--mix", "object-1k", "--users", "2", "--ramp", "0.2s", "--hold", "2.5s")
        done = self.harvok("app", "gw.toml", *words, "--with-policy", "policy.toml", "--json", code=1)
        record = json.loads(done.stdout)
        became = {one["check"]["name"]: one for one in record["trials"][0]["result"]["policy"]}
        passed = {name for name, one in became.items() if one["passed"] == one["tried"]}
        blocked = {name for name, one in became.items() if not one["passed"]}
        self.assertEqual(blocked, {"telnet", "name"})
        self.assertEqual(passed, set(became) - blocked)
        self.assertEqual(became["telnet"]["blocked"].keys(), {"no-answer"})
        self.assertTrue(all(one["arrived"] >= one["passed"] for one in became.values()))
        shown = self.inside("logbook", "show", "last").stdout
        for part in ("REJECT policy check virus: passed in 100.0 % of its tries, and must be blocked",
                     "ACCEPT policy check telnet: blocked in every try", "must be  "):  # fmt: skip
            self.assertIn(part, shown)

    def test_a_shaped_path_carries_what_the_arithmetic_allows(self) -> None:
        self.gateway('shape = "20M"')
        _, found = self.figures(
            "app", "gw.toml", "--mix", "object-64k", "--users", "4", "--ramp", "0.5s", "--hold", "3s"
        )
        self.assertAlmostEqual(found["app-throughput-l2", "receive"] / (20e6 * 1518 / 1538), 1, delta=0.03)
        self.assertEqual(found["failed-transactions",], 0)

    def test_users_come_from_as_many_addresses_as_are_asked_for(self) -> None:
        self.gateway('features = ["stateful"]', "clients = 500")
        words = ("--mix", "object-1k-new", "--users", "4", "--ramp", "0.1s", "--hold", "1s")
        record, found = self.figures("app", "gw.toml", *words)
        self.assertEqual((record["rig"]["device"]["clients"], found["failed-transactions",]), (500, 0))
        self.assertGreater(found["connections-rate",], 100)
        record, found = self.figures("app", "gw.toml", *words, "--ip-version", "6")
        self.assertEqual((record["rig"]["address"], found["failed-transactions",]), ("2001:2:0:2::2", 0))
        self.gateway("clients = 20000")
        self.assertIn("clients", self.inside("rig", "show", "gw.toml", code=2).stderr)

    def test_any_test_that_talks_to_a_station_crosses_it(self) -> None:
        self.gateway('shape = "20M"')
        out = self.harvok("rig", "try", "gw.toml", "tcp", "--duration", "1s", "--direction", "send").stdout
        self.assertIn("dome (port1) – hall (port2)", out)
        self.assertIn("recorded as run", out)
        for words, said in (
            (("rig", "try", "gw.toml", "ceiling", "1G"), "talks to no station"),
            (("rig", "try", "gw.toml", "tcp", "--name", "x"), "--name is set already"),
            (("rfc2544", "gw.toml"), "is a gateway between two hosts"),
        ):
            self.assertIn(said, self.inside(*words, code=2).stderr)
        self.gateway('features = ["fast"]')
        self.assertIn("there is no feature 'fast'", self.inside("rig", "show", "gw.toml", code=2).stderr)


class WhatFeaturesCost(ProgramTest):
    WORDS = ("app", "--mix", "object-1k", "--users", "2", "--ramp", "0.1s", "--hold", "0.6s")

    def test_of_a_gateway_of_this_kernel(self) -> None:
        (self.folder / "gw.toml").write_text(GATEWAY)
        asked = ("--features", "stateful", "--features", "nat,rules=5", "--repeats", "1", "--series", "cost")
        out = self.harvok("rig", "vary", *asked, "gw.toml", *self.WORDS).stdout
        self.assertRegex(out, r"transactions per second +2 users +none +\d.*\n +stateful +\d.* [+-]\d")
        for part in ("nat+rules=5", "recorded as the series cost."):
            self.assertIn(part, out)
        lines = self.inside("logbook", "export", "--series", "cost.nat+rules=5").stdout.splitlines()
        records = [json.loads(line) for line in lines]
        self.assertEqual([record["rig"]["device"]["features"] for record in records], [["nat", "rules=5"]])
        refused: tuple[tuple[tuple[str, ...], str], ...] = (
            (("nat", "--series", "cost", "gw.toml", *self.WORDS), "has a series cost.baseline already"),
            (("fast", "gw.toml", *self.WORDS), "there is no feature 'fast'"),
            (("nat", "--features", "nat", "gw.toml", *self.WORDS), "the same --features twice"),
            (("nat", "--switch", "true", "gw.toml", *self.WORDS), "needs no --switch"),
            (("nat", "gw.toml", "ceiling", "1G"), "are not tried with"),
            (("nat", "gw.toml", "app", "--json"), "--json is not"),
        )
        for words, said in refused:
            self.assertIn(said, self.inside("rig", "vary", "--features", *words, code=2).stderr)

    @NEEDS_ROOT
    def test_of_a_device_that_a_command_switches(self) -> None:
        ports = (f"hvf{os.getpid() % 10000}a", f"hvf{os.getpid() % 10000}b")
        subprocess.run(["ip", "link", "add", ports[0], "type", "veth", "peer", "name", ports[1]], check=True)
        self.addCleanup(subprocess.run, ["ip", "link", "del", ports[0]], capture_output=True)
        for port in ports:
            subprocess.run(["ip", "link", "set", port, "up"], check=True)
        (self.folder / "ports.toml").write_text(PORTS.format(*ports))
        switch = self.folder / "switch"
        switch.write_text(f'#!/bin/sh\necho "$# $@" >> {self.folder}/switched\n[ "$1" != broken ]\n')
        switch.chmod(0o755)
        vary = ("rig", "vary", "--repeats", "1", "--switch", str(switch))
        out = self.harvok(*vary, "--features", "log,inspect", "--json", "ports.toml", *self.WORDS).stdout
        (cost,) = json.loads(out)["costs"]
        self.assertEqual(
            (cost["features"], len(cost["before"]["runs"]), len(cost["after"]["runs"])), ("log+inspect", 1, 1)
        )
        self.assertEqual((self.folder / "switched").read_text().splitlines(), ["0 ", "2 log inspect", "0 "])
        failed = self.harvok(*vary, "--features", "broken", "ports.toml", *self.WORDS, code=4).stderr
        self.assertIn("broken' ended with exit code 1", failed)
        without = self.inside("rig", "vary", "--features", "log", "ports.toml", *self.WORDS, code=2).stderr
        self.assertIn("--switch COMMAND", without)


class Rfc9411(ProgramTest):
    def test_a_modelled_gateway_is_found_out(self) -> None:
        rig = GATEWAY.replace("virtual", "simulated").replace(
            'device = "gateway"', "[gateway]\nconnections_per_s = 1234"
        )
        (self.folder / "model.toml").write_text(rig)
        out = self.inside("rfc9411", "model.toml", "connections", "--object", "1k").stdout
        self.assertRegex(out, r"1000 B +1 2\d\d /s")
        words = ("all", "--object", "1k", "--object", "16k", "--plot", "objects.png", "--json")
        record = json.loads(self.inside("rfc9411", "model.toml", *words).stdout)
        self.assertGreater((self.folder / "objects.png").stat().st_size, 10_000)
        quantities = {figure["quantity"] for figure in record["figures"]}
        self.assertLessEqual({"max-connections-rate", "max-app-throughput", "max-open-connections"}, quantities)
        self.assertIn("highest connections per second", self.inside("logbook", "show", "last").stdout)
        self.assertIn("there is no case 'speed'", self.inside("rfc9411", "model.toml", "speed", code=2).stderr)
        (self.folder / "model.toml").write_text(rig.partition("[gateway]")[0])
        self.assertIn("models no gateway", self.inside("rfc9411", "model.toml", code=2).stderr)

    def test_a_search_between_stations(self) -> None:
        _, station = self.station()
        record = json.loads(
            self.harvok("rfc9411", station, "connections", "concurrent", "--object", "1k", "--hold", "1s", "--ramp",
                        "0.2s", "--max-connections-per-s", "50", "--max-connections", "40", "--json").stdout
        )  # fmt: skip
        found = {figure["quantity"]: figure["value"] for figure in record["figures"]}
        self.assertEqual(record["state"], "complete")
        self.assertTrue(38 <= found["max-open-connections"] <= 40, found)  # the mean of looks at a busy host
        self.assertTrue(20 < found["max-connections-rate"] <= 50, found)  # a busy host may stall in a trial of a second
        self.assertIn("all that was asked for", record["notices"][-1])


if __name__ == "__main__":
    unittest.main()
