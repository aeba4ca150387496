"""`harvok device`, and tests that watch a device or do something to it."""

import json
import os
import signal
import unittest
from typing import Any

from tests.device.agents import NEEDS_SNMPD, PASSWORDS, snmpd
from tests.whole.program import Process, ProgramTest
from tests.whole.test_frames import RigTest

DEVICE = """
format = "harvok-device"
version = 1
name = "dome-sw-a"
[snmp]
address = "127.0.0.1"
port = {port}
{access}
[ports]
near = "{near}"
far = "{far}"
[watch]
every = "200ms"
"""
COMMUNITY = 'community = "file:secret"'
SIMULATED = """
version = 1
kind = "simulated"
name = "dome-sw-b"
rated = "1G"
[device]
loss = "0.1%"
[agent]
refresh = "3s"
bad_lead = "port1"
"""
SWITCH = """
version = 1
kind = "virtual"
name = "dome-sw-a"
rated = "1G"
device = "switch"
"""
PLAN = """
version = 1
name = "failover"
station = "{station}"
repeats = 2
min_repeats = 2

[[steps]]
name = "pull"
test = "udp"
rate = "5M"
direction = "send"
duration = "2s"
events = ["1s: run touch pulled"]

[[criteria]]
figure = "outage-from-loss"
{limit}
labels = {{ event = "run touch pulled" }}
"""
SETUP = """
version = 1
name = "features"
rig = "rig.toml"
repeats = 2
min_repeats = 2

[[steps]]
name = "plain"
test = "ramp"
loads = "10%"
frame_sizes = [1518]
hold = "1s"

[[steps]]
name = "filtered"
test = "ramp"
loads = "10%"
frame_sizes = [1518]
hold = "1s"
setup = ["run touch filter", "run sh -c 'echo set >> said'"]
check = "run ls"
expect = "{expect}"
undo = ["run rm filter", "run sh -c 'echo undone >> said'"]

[[criteria]]
figure = "frame-loss"
max = "1%"
"""


class SettingTheDeviceUp(RigTest):
    def plan(self, expect: str) -> None:
        self.rig(SIMULATED)
        (self.folder / "plan.toml").write_text(SETUP.format(expect=expect))

    def said(self) -> list[str]:
        return (self.folder / "said").read_text().split()

    def test_a_step_sets_it_up_sees_that_it_took_and_puts_it_back(self) -> None:
        self.plan("filter")
        self.harvok("run", "plan.toml")
        self.assertEqual(self.said(), ["set", "undone"])
        self.assertFalse((self.folder / "filter").exists())

    def test_a_setup_that_did_not_take_ends_the_plan_and_is_put_back(self) -> None:
        self.plan("ACCESS-LIST 7")
        said = self.harvok("run", "plan.toml", code=2).stderr
        self.assertIn("'run ls' does not show 'ACCESS-LIST 7'", said)
        self.assertEqual(self.said(), ["set", "undone"])

    def test_what_makes_no_sense_is_refused_with_its_line(self) -> None:
        self.plan("filter")
        whole = (self.folder / "plan.toml").read_text()
        for old, new, words in (
            ('setup = ["run touch', 'setup = ["link port1 down", "run touch', "is none of run, device, set"),
            ('check = "run ls"', 'check = "tell look"', "check is to be 'run COMMAND'"),
            ('setup = ["run touch filter", "run sh -c \'echo set >> said\'"]\n', "", "go with setup"),
        ):
            (self.folder / "plan.toml").write_text(whole.replace(old, new))
            self.assertIn(words, self.inside("plan", "check", "plan.toml", code=2).stderr)


class TheDevice(ProgramTest):
    def stand_in(self, *arguments: str) -> int:
        """The stand-in, answering; its port."""
        process: Process = self.start("device", "stand-in", *arguments)
        assert process.stdout
        line = process.stdout.readline()
        self.assertIn("dome-sw-a answers SNMPv2c at 127.0.0.1 port", line)
        return int(line.split()[-1])

    def describe(self, port: int, access: str = COMMUNITY, near: str = "gi1", far: str = "gi2") -> str:
        (self.folder / "secret").write_text("harvok\n")
        (self.folder / "device.toml").write_text(DEVICE.format(port=port, access=access, near=near, far=far))
        return "device.toml"

    def test_it_is_shown_and_followed(self) -> None:
        file = self.describe(self.stand_in())
        shown = self.harvok("device", "show", file).stdout
        for words in ("dome-sw-a  SNMPv2c at 127.0.0.1", "firmware     1.0", "64 bits", "41.5 °C", "gi1   near    up"):
            self.assertIn(words, shown)
        told = json.loads(self.harvok("device", "show", file, "--json").stdout)
        self.assertEqual((told["facts"]["name"], len(told["facts"]["ports"])), ("dome-sw-a", 4))
        lines = self.harvok("device", "watch", file, "--for", "1s").stdout.splitlines()
        self.assertRegex(lines[-1], r"gi1 in [\d.]+ Mb/s")
        samples = self.harvok("device", "watch", file, "--for", "1s", "--every", "100ms", "--json").stdout
        self.assertIn("port-rate-bps", {json.loads(line)["quantity"] for line in samples.splitlines()})

    def test_a_new_description_is_complete_and_not_written_over(self) -> None:
        for version in ("2c", "3"):
            self.inside("device", "new", "new.toml", "--snmp", version, "--overwrite")
            said = self.inside("device", "show", "new.toml", code=2).stderr
            self.assertIn("DOME_SNMP", said)
        self.assertIn("--overwrite", self.inside("device", "new", "new.toml", code=2).stderr)

    def test_what_makes_no_sense_is_refused_with_its_line(self) -> None:
        for access, words in (
            ("", "needs either community (SNMPv2c) or user (SNMPv3)"),
            ('community = "public"', "letters, digits"),
            ('user = "x"\nprivacy = "aes128"', "privacy and privacy_password go together"),
            (f'{COMMUNITY}\nauthentication = "sha"\nauthentication_password = "env:A"', "SNMPv3"),
        ):
            said = self.inside("device", "show", self.describe(9, access), code=2).stderr
            self.assertIn("device.toml", said)
            self.assertIn(words, said) if words != "letters, digits" else self.assertIn("community", said)
        said = self.inside("device", "show", "nosuch.toml", code=2).stderr
        self.assertIn("nosuch.toml cannot be read", said)

    def test_silence_is_one_sentence(self) -> None:
        file = self.describe(9, f'{COMMUNITY}\ntimeout = "100ms"\nretries = 0')
        said = self.inside("device", "show", file, code=4).stderr
        self.assertIn("the device at 127.0.0.1 port 9 does not answer SNMPv2c", said)

    def test_any_test_watches_it_and_compares_what_it_is(self) -> None:
        port = self.stand_in()
        _, station = self.station()
        for series, near in (("before", "gi1"), ("after", "gi3")):
            file = self.describe(port, near=near)
            words = ("--duration", "1s", "--direction", "send", "--device", file, "--series", series)
            record = self.measured(station, *words)
            self.assertEqual((record["device"]["name"], record["device"]["asked_by"]), ("dome-sw-a", "SNMPv2c"))
            self.assertIn("device", {block["source"] for block in record["trials"][0]["samples"]})
            self.assertTrue(record["trials"][0]["device"]["ports"])
        self.assertIn("CPU of dome-sw-a", self.inside("logbook", "show", record["id"]).stdout)
        said = self.inside("compare", "before", "after", "--min-repeats", "2", code=3).stdout
        self.assertIn("device.ports", said)

    def test_a_sweep_and_a_plan_watch_it_as_well(self) -> None:
        file = self.describe(self.stand_in())
        _, station = self.station()
        words = ("--over", "flows=1,2", "--repeats", "1", "--duration", "500ms", "--series", "flows")
        self.harvok("sweep", station, *words, "--device", file)
        plan = f'version = 1\nname = "lead"\nstation = "{station}"\nrepeats = 2\nmin_repeats = 2\ndevice = "{file}"\n'
        step = '[[steps]]\nname = "before"\ntest = "tcp"\nduration = "500ms"\ndirection = "send"\n'
        (self.folder / "plan.toml").write_text(plan + step)
        self.harvok("run", "plan.toml", code=3)
        for series in ("flows.flows-1", "flows.flows-2", "lead.before"):
            shown = json.loads(self.inside("logbook", "list", "--series", series, "--json").stdout)
            record = json.loads(self.inside("logbook", "show", shown[0]["id"], "--json").stdout)
            self.assertEqual(record["device"]["name"], "dome-sw-a", series)

    def test_a_device_that_is_gone_costs_a_remark(self) -> None:
        process = self.start("device", "stand-in")
        assert process.stdout
        port = int(process.stdout.readline().split()[-1])
        _, station = self.station()
        file = self.describe(port, f'{COMMUNITY}\ntimeout = "100ms"\nretries = 0')
        near = self.start("tcp", station, "--duration", "3s", "--direction", "send", "--device", file, "--json")
        assert near.stdout
        self.wait_for_a_run()
        process.send_signal(signal.SIGKILL)
        out, err = near.communicate(timeout=60)
        self.assertEqual(near.returncode, 0, err)
        record = json.loads(out)
        self.assertGreater(record["trials"][0]["device"]["unanswered"], 0)
        self.assertIn("unanswered", self.inside("logbook", "show", record["id"]).stdout)

    def wait_for_a_run(self) -> None:
        """Until the journal of a run has begun to grow."""
        from tests.whole.program import until

        until(lambda: "running" in self.inside("logbook", "list", code=0).stdout if self.logbook.exists() else False)

    def test_a_modelled_one_is_found_out_in_virtual_time(self) -> None:
        (self.folder / "rig.toml").write_text(SIMULATED)
        words = ("ramp", "rig.toml", "--loads", "50%", "--hold", "20s", "--frame-size", "64")
        out = self.harvok(*words).stdout
        self.assertIn("were lost on the lead to device1 of dome-sw-b (FCS errors of device1", out)
        record = json.loads(self.harvok(*words, "--json").stdout)
        places = {
            figure["labels"]["place"]: figure["value"]
            for figure in record["figures"]
            if figure["quantity"] == "frames-lost-at"
        }
        self.assertGreater(places.pop("entry lead"), 1000)
        self.assertEqual(set(places.values()), {0})

    @NEEDS_SNMPD
    def test_debians_agent_as_a_user(self) -> None:
        self.env |= {"DOME_AUTH": PASSWORDS["authentication_password"], "DOME_PRIV": PASSWORDS["privacy_password"]}
        access = (
            'user = "watcher"\nauthentication = "sha256"\nauthentication_password = "env:DOME_AUTH"\n'
            'privacy = "aes128"\nprivacy_password = "env:DOME_PRIV"'
        )
        with snmpd() as port:
            file = self.describe(port, access, "lo", "lo")
            self.assertIn("SNMPv3 at 127.0.0.1", self.harvok("device", "show", file).stdout)
            _, station = self.station()
            record = self.measured(station, "--duration", "1s", "--direction", "send", "--device", file)
            self.assertEqual(record["device"]["asked_by"], "SNMPv3")
            self.assertIsNotNone(record["trials"][0]["device"]["ports"]["lo"]["octets_in"])


class Events(RigTest):
    def test_what_is_none_is_refused_before_anything_is_sent(self) -> None:
        rig = self.rig(SWITCH)
        for words, said in (
            (("ramp", rig, "--event", "soon: run true"), "is no event"),
            (("rfc2544", rig, "--event", "1s: run true"), "is a search"),
            (("ramp", rig, "--event", "1s: device reload"), "needs a device that takes commands"),
            (("ramp", rig, "--event", "1s: set sysContact.0 me"), "lets itself be changed"),
            (("ramp", rig, "--event", "1s: link nosuch0 down"), "nosuch0"),
        ):
            self.assertIn(said, self.harvok(*words, code=4 if "nosuch0" in said else 2).stderr)

    def test_what_needs_a_person_or_an_impairment_is_refused_without(self) -> None:
        rig = self.rig(SWITCH)
        for event, said in (
            ("1s: await reset the switch", "needs somebody at a terminal"),
            ("1s: impair metro", "no bridge impairs this path"),
            ("1s: impair nosuch", "there is no impairment and no file 'nosuch'"),
        ):
            self.assertIn(said, self.harvok("ramp", rig, "--loads", "1%", "--event", event, code=2).stderr)

    def test_at_a_terminal_a_person_says_when_it_is_done(self) -> None:
        _, station = self.station()
        keyboard, terminal = os.openpty()
        self.addCleanup(os.close, keyboard)
        words = ("--duration", "4s", "--direction", "send", "--event", "500ms: await reset the switch", "--json")
        near = self.start("tcp", station, *words, stdin=terminal)
        os.close(terminal)
        assert near.stderr
        while "Press Enter when it is done" not in near.stderr.readline():
            self.assertIsNone(near.poll())
        os.write(keyboard, b"\n")
        out, err = near.communicate(timeout=60)
        self.assertEqual(near.returncode, 0, err)
        (mark,) = [event for event in json.loads(out)["trials"][0]["events"] if event["name"] == "event"]
        self.assertEqual(mark["labels"], {"what": "await reset the switch"})
        asked_s = mark["at_s"] - mark["values"]["took-s"]
        self.assertGreaterEqual(asked_s, mark["values"]["intended-s"] - 1e-5)

    @unittest.skipIf(os.geteuid() != 0, "needs root for network namespaces")
    def test_an_impairment_changes_in_mid_test_and_back(self) -> None:
        (self.folder / "half.toml").write_text('version = 1\nname = "half"\n[both]\nloss = "50%"\n')
        rig = SWITCH.replace('"switch"', '"impairment"\nimpairment = "clean"')
        words = ("ramp", self.rig(rig), "--loads", "1%", "--hold", "3s", "--frame-size", "1518", "--trial-pause", "0s")
        record = self.held(*words, "--event", "1s: impair half.toml for 1s")
        (change, back) = [event for event in record["trials"][-1]["events"] if event["name"].startswith("event")]
        really_s = back["at_s"] - change["at_s"]
        figures = {figure["quantity"]: figure["value"] for figure in record["figures"]}
        self.assertAlmostEqual(figures["outage-from-loss"], really_s / 2, delta=0.15 * really_s)
        self.assertEqual(change["labels"]["what"], "impair half.toml for 1s")

    def test_commands_here_are_run_on_time_and_told(self) -> None:
        _, station = self.station()
        words = ("--duration", "1.5s", "--direction", "send", "--interval", "0.5s")
        events = (
            "--event",
            "500ms: run touch here",
            "--event",
            "800ms: tell look at the lights",
            "--event",
            "9s: run false",
        )
        done = self.harvok("tcp", station, *words, *events, "--json")
        record: dict[str, Any] = json.loads(done.stdout)
        self.assertTrue((self.folder / "here").exists())
        marks = [event for event in record["trials"][0]["events"] if event["name"] == "event"]
        self.assertEqual([mark["labels"]["what"] for mark in marks], ["run touch here", "tell look at the lights"])
        for mark in marks:
            self.assertGreaterEqual(mark["at_s"], mark["values"]["intended-s"])
        self.assertIn("now: look at the lights", done.stderr)
        self.assertIn("run false was not done: the trial was over before", done.stderr)
        outages = [figure for figure in record["figures"] if figure["quantity"] == "outage-from-rate"]
        self.assertEqual(
            {figure["labels"]["event"] for figure in outages}, {"run touch here", "tell look at the lights"}
        )

    def test_a_command_that_fails_is_said_and_costs_nothing_else(self) -> None:
        _, station = self.station()
        done = self.harvok(
            "tcp", station, "--duration", "1s", "--direction", "send", "--event", "300ms: run false", "--json"
        )
        self.assertIn("'false' ended with code 1", done.stderr)
        (mark,) = [event for event in json.loads(done.stdout)["trials"][0]["events"] if event["name"] == "event"]
        self.assertIn("ended with code 1", mark["labels"]["fault"])

    @unittest.skipIf(os.geteuid() != 0, "needs root for network namespaces")
    def test_a_path_that_is_cut_costs_what_it_was_cut(self) -> None:
        words = (
            "ramp",
            self.rig(SWITCH),
            "--loads",
            "1%",
            "--hold",
            "2s",
            "--frame-size",
            "1518",
            "--trial-pause",
            "0s",
        )
        record = self.held(*words, "--event", "1s: link port2 cut for 300ms")
        (down, up) = [event for event in record["trials"][-1]["events"] if event["name"].startswith("event")]
        really_s = up["at_s"] - down["at_s"]
        figures = {figure["quantity"]: figure["value"] for figure in record["figures"]}
        self.assertAlmostEqual(figures["outage-from-loss"], really_s, delta=0.1 * really_s)
        self.assertGreater(figures["time-to-recover"], 0)
        losses = record["trials"][-1]["device"]["losses"]
        self.assertGreater(losses[0]["lost"], 100)

    def test_a_plan_judges_an_outage(self) -> None:
        _, station = self.station()
        for limit, code in (('max = "60s"', 0), ('min = "60s"', 1)):
            (self.folder / "plan.toml").write_text(PLAN.format(station=station, limit=limit))
            out = self.harvok("run", "plan.toml", code=code).stdout
            self.assertIn("outage by loss", out)
        self.assertTrue((self.folder / "pulled").exists())
