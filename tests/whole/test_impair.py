import json
import os
import subprocess
from contextlib import closing
from functools import partial
from pathlib import Path
from typing import Any

from harvok.core.figures import find
from harvok.errors import HarvokError
from harvok.host.namespaces import DeviceSpec
from harvok.host.state import CHANGED_FEATURES
from harvok.logbook.store import Logbook
from harvok.rigs.virtual import VirtualDevice
from tests.whole.program import ProgramTest, until
from tests.whole.test_udp import NEEDS_ROOT, only


def _is_gone(pid: str) -> bool:
    return not Path(f"/proc/{pid}/fd").exists() or not list(Path(f"/proc/{pid}/fd").iterdir())


class Words(ProgramTest):
    def test_those_that_ship_and_a_file(self) -> None:
        listed = json.loads(self.harvok("impair", "list", "--json").stdout)
        self.assertEqual(listed[0]["name"], "clean")
        file = self.folder / "mine.toml"
        later = '[[schedule]]\nat = "20s"\n[schedule.send]\nloss = "1%"\n'
        file.write_text('version = 1\nname = "mine"\n[both]\ndelay = "5ms"\n' + later)
        said = self.harvok("impair", "describe", str(file)).stdout
        self.assertIn("delay 5.000 ms", said)
        self.assertIn("from 20 s on: send → loss 1.0 %", said)
        file.write_text('version = 1\nname = "mine"\n[both]\ndelya = "5ms"\n')
        self.assertIn("line 4: 'both.delya'", self.harvok("impair", "describe", str(file), code=2).stderr)
        self.assertIn("no impairment runs", self.harvok("impair", "show", code=2).stderr)

    def test_a_kernel_without_netem_says_so(self) -> None:
        done = self.start("impair", "kernel", "lo", "metro")
        _, err = done.communicate(timeout=60)
        if done.returncode == 0:  # a kernel that has it
            self.harvok("impair", "kernel", "lo", "--clear")
            return
        self.assertEqual(done.returncode, 4, err)
        self.assertNotIn("Traceback", err)


@NEEDS_ROOT
class AtWork(ProgramTest):
    """Two hosts in namespaces, and the bridge between them in a third: veth pairs stand in for leads."""

    def setUp(self) -> None:
        super().setUp()
        mark = f"hvi{os.getpid() % 10000}"
        self.near, self.far, self.mid = (f"{mark}{side}" for side in "nfm")
        self.addCleanup(self.take_down)
        for room in (self.near, self.far, self.mid):
            self.ip("netns", "add", room)
        for room, here, there, address in (
            (self.near, f"{mark}a", f"{mark}l", "198.18.0.1/24"),
            (self.far, f"{mark}b", f"{mark}r", "198.18.0.2/24"),
        ):
            self.ip("link", "add", here, "netns", room, "type", "veth", "peer", "name", there, "netns", self.mid)
            self.ip("-n", self.mid, "link", "set", there, "up")
            self.ip("-n", room, "addr", "add", address, "dev", here)
            self.ip("-n", room, "link", "set", here, "up")
            self.ip("-n", room, "link", "set", "lo", "up")
            # what a host behind an impairment has to do on virtual links: one frame at a time
            off = "from harvok.host.offloads import switch; switch('{}', {{'tx-checksum-ip-generic': False}})"
            self.within(room, "python", "-c", off.format(here))
        self.ports = (f"{mark}l", f"{mark}r")

    def take_down(self) -> None:
        for room in (self.near, self.far, self.mid):
            subprocess.run(["ip", "netns", "del", room], capture_output=True)

    def ip(self, *words: str) -> None:
        subprocess.run(["ip", *words], check=True)

    def within(self, room: str, program: str, *words: str) -> subprocess.CompletedProcess[str]:
        from tests.whole.program import HARVOK

        path = HARVOK if program == "harvok" else HARVOK.removesuffix("harvok") + program
        command = ["ip", "netns", "exec", room, path, *words]
        done = subprocess.run(command, capture_output=True, text=True, env=self.env, cwd=self.folder, timeout=150)
        self.assertNotIn("Traceback", done.stderr)
        return done

    def begin(self, room: str, *words: str, ready: str) -> "subprocess.Popen[str]":
        from tests.whole.program import HARVOK

        process = subprocess.Popen(
            ["ip", "netns", "exec", room, HARVOK, *words],
            stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True, env=self.env, cwd=self.folder,
        )  # fmt: skip
        self.addCleanup(self.end, process)
        assert process.stdout
        until(lambda: ready in (process.stdout.readline() if process.stdout else ""))
        return process

    def impairment(self, text: str) -> str:
        file = self.folder / "set.toml"
        file.write_text('version = 1\nname = "set"\n' + text)
        return str(file)

    def delay(self) -> dict[str, Any]:
        done = self.within(self.near, "harvok", "delay", "198.18.0.2", "--packets", "150", "--gap", "4ms", "--json")
        self.assertEqual(done.returncode, 0, done.stderr)
        record: dict[str, Any] = json.loads(done.stdout)
        return record

    def test_delay_there_and_back_is_what_was_set_and_can_be_changed(self) -> None:
        nine_there = self.impairment('[send]\ndelay = "9ms"\n')
        bridge = self.begin(self.mid, "impair", "start", *self.ports, nine_there, ready="ends it")
        self.begin(self.far, "station", "--name", "hall", ready="ready")
        median_s = only(self.delay()["figures"], "two-way-delay-median")
        self.assertTrue(0.009 <= median_s < 0.1, median_s)
        changed = self.harvok("impair", "change", self.impairment('[both]\nloss = "20%"\n'), "--seed", "5").stdout
        self.assertIn("runs from now on", changed)
        record = self.delay()
        self.assertAlmostEqual(only(record["figures"], "two-way-loss"), 1 - 0.8**2, delta=0.17)
        result = record["trials"][0]["result"]
        self.assertGreater(min(result["lost_there"], result["lost_back"]), 5)
        self.harvok("impair", "stop")
        out, _ = bridge.communicate(timeout=20)
        self.assertEqual(bridge.returncode, 0)
        self.assertIn("over ", out)

    def test_kernel_tcp_goes_through_it(self) -> None:
        self.begin(self.mid, "impair", "start", *self.ports, "clean", ready="ends it")
        self.begin(self.far, "station", "--name", "hall", ready="ready")
        done = self.within(
            self.near, "harvok", "tcp", "198.18.0.2", "--amount", "200k", "--direction", "send", "--json"
        )
        self.assertEqual(done.returncode, 0, done.stderr)
        figures = json.loads(done.stdout)["figures"]
        self.assertGreater(only(figures, "goodput-mean", direction="send"), 1e4)
        shown = json.loads(self.inside("impair", "show", "--json").stdout)
        until(lambda: json.loads(self.inside("impair", "show", "--json").stdout)["report"])
        self.assertEqual(shown["name"], "clean")

    def test_a_second_one_is_refused_and_disturbs_nothing(self) -> None:
        first = self.begin(self.mid, "impair", "start", *self.ports, "clean", ready="ends it")
        notes = self.state / CHANGED_FEATURES
        before = notes.read_text() if notes.exists() else None
        second = self.within(self.mid, "harvok", "impair", "start", *self.ports, "metro", "--for", "1s")
        self.assertEqual(second.returncode, 2)
        self.assertIn("runs on this host already", second.stderr)
        self.assertEqual(notes.read_text() if notes.exists() else None, before)
        self.assertEqual(json.loads(self.inside("impair", "show", "--json").stdout)["name"], "clean")
        self.harvok("impair", "stop")
        first.communicate(timeout=20)
        self.assertEqual(first.returncode, 0)
        self.assertFalse(notes.exists())

    def test_one_that_is_killed_leaves_nothing_behind(self) -> None:
        bridge = self.begin(self.mid, "impair", "start", *self.ports, "metro", ready="ends it")
        worker = subprocess.run(["pgrep", "-P", str(bridge.pid), "-f", "impair_worker"], capture_output=True, text=True)
        bridge.kill()
        bridge.wait()
        for pid in worker.stdout.split():
            until(partial(_is_gone, pid))
        again = self.begin(self.mid, "impair", "start", *self.ports, "clean", "--for", "1s", ready="ends it")
        again.communicate(timeout=30)
        self.assertEqual(again.returncode, 0)


class Trying(ProgramTest):
    """Two hosts made of this one, with the bridge between them."""

    def setUp(self) -> None:
        super().setUp()
        try:
            VirtualDevice(DeviceSpec("hosts")).__exit__(None, None, None)
        except HarvokError as error:
            self.skipTest(error.message)

    def test_tcp_across_an_impairment_and_what_the_record_keeps(self) -> None:
        file = self.folder / "mine.toml"
        file.write_text('version = 1\nname = "mine"\n[both]\ndelay = "4ms"\n')
        words = ("tcp", "--direction", "send", "--duration", "500ms", "--json")
        done = self.harvok("impair", "try", str(file), *words)
        record = json.loads(done.stdout)
        self.assertGreaterEqual(only(record["figures"], "rtt-min", direction="send"), 0.008)
        put = record["impairment"]
        self.assertEqual((put["carried_out_by"], put["ports"]), ("bridge", ["device1", "device2"]))
        self.assertEqual(put["impairment"]["both"]["delay"], 0.004)
        self.assertEqual(record["command"][:4], ["harvok", "impair", "try", str(file)])
        self.assertIn("the impairment 'mine' is active", " ".join(record["notices"]))
        self.assertIn("receive ←", done.stderr)
        self.assertIn("mine, by the bridge", self.inside("logbook", "show", record["id"]).stdout)

    def test_a_sweep_of_delay_changes_it_and_puts_it_back(self) -> None:
        words = ("sweep", "--over", "delay=0,3ms", "--repeats", "1", "--duration", "500ms", "--series", "far")
        done = self.harvok("impair", "try", "clean", *words)
        self.assertIn("against baseline", done.stdout)
        with closing(Logbook(str(self.logbook))) as logbook:
            kept = {record.series: record for record in logbook.records([line.id for line in logbook.lines()])}
        rtts = {name: find(record.figures, "rtt-min", direction="send") or 0.0 for name, record in kept.items()}
        self.assertGreaterEqual(rtts["far.delay-3ms"], 0.006)
        self.assertLess(rtts["far.baseline-after"], 0.006)
        put = kept["far.delay-3ms"].impairment
        assert put and put.impairment.send
        self.assertEqual(put.impairment.send.delay, 0.003)

    def test_a_plan_names_one_for_each_of_its_steps(self) -> None:
        far = self.folder / "far.toml"
        far.write_text('version = 1\nname = "far"\n[both]\ndelay = "4ms"\n')
        step = '[[steps]]\nname = "{0}"\ntest = "tcp"\ndirection = "send"\nduration = "500ms"\n{1}\n'
        plan = self.folder / "plan.toml"
        plan.write_text(
            'version = 1\nname = "cause"\nstation = "hall"\nrepeats = 1\n'
            + step.format("clean", "")
            + step.format("delayed", f'impairment = "{far}"')
            + step.format("clean-again", "")
        )
        self.harvok("impair", "try", "clean", "run", str(plan), "--unattended", code=3)
        with closing(Logbook(str(self.logbook))) as logbook:
            kept = {record.series: record for record in logbook.records([line.id for line in logbook.lines()])}
        rtts = {name: find(record.figures, "rtt-min", direction="send") or 0.0 for name, record in kept.items()}
        self.assertGreaterEqual(rtts["cause.delayed"], 0.008)
        self.assertLess(max(rtts["cause.clean"], rtts["cause.clean-again"]), 0.008)
        said = self.harvok("run", str(plan), "--unattended", "--name", "other", code=2).stderr
        self.assertIn("no impairment runs on this host", said)

    def test_what_it_cannot_try(self) -> None:
        said = self.inside("impair", "try", "clean", "rfc2544", "x.toml", code=2).stderr
        self.assertIn("talks to no station", said)
        said = self.inside("impair", "try", "clean", "tcp", "--name=x", code=2).stderr
        self.assertIn("is set already", said)


class Sweeping(ProgramTest):
    def rig(self, **keys: str) -> str:
        path = self.folder / "box.toml"
        lines = {"version": "1", "kind": '"simulated"', "name": '"box"', "rated": '"1G"'} | keys
        path.write_text("\n".join(f"{key} = {value}" for key, value in lines.items()))
        return str(path)

    def test_loads_on_a_model_and_where_loss_begins(self) -> None:
        rig = self.rig(device="{ forwarding = '600M', buffer_frames = 50 }")
        words = ("--over", "load=30%..90%/5", "--set", "frame-size=512", "--series", "box", "--repeats", "2")
        plot = self.folder / "box.svg"
        done = self.harvok("sweep", rig, *words, "--plot", str(plot))
        self.assertIn("knee: from load 75% on, nothing is gained", done.stdout)
        self.assertIn("loss begins at load 75%", done.stdout)
        self.assertIn("forwarding rate, L2 over load", plot.read_text())
        again = self.inside("sweep", rig, *words, code=2).stderr
        self.assertIn("box.baseline-before already", again)
        listed = json.loads(self.inside("logbook", "list", "--series", "box.load-90%", "--json").stdout)
        self.inside("logbook", "remove", "--yes", listed[0]["id"])
        resumed = self.inside("sweep", rig, *words, "--plot", str(plot), "--resume").stdout
        self.assertIn("  load-90% ", resumed)
        self.assertEqual(resumed.count("  load-"), 1)
        self.assertIn("loss begins at load 75%", resumed)
        self.assertIn("begun as: harvok sweep", self.inside("sweep", rig, *words, "--resume", code=2).stderr)
        self.assertIn("--series", self.inside("sweep", rig, *words[:4], "--resume", code=2).stderr)
        reported = json.loads(self.inside("sweep", rig, *words[:4], "--direction", "both", "--json").stdout)
        self.assertEqual([one["direction"] for one in reported["readings"]], ["send", "receive"])
        self.assertEqual(reported["readings"][0]["knee"]["point"]["settings"][0]["text"], "75%")

    def test_delay_and_loss_on_a_model(self) -> None:
        rig = self.rig()
        words = ("--over", "delay=0,5ms", "--over", "loss=0,10%", "--repeats", "2", "--json")
        reported = json.loads(self.inside("sweep", rig, *words).stdout)
        points = {tuple(s["text"] for s in one["settings"]): one for one in reported["readings"][0]["points"]}
        self.assertAlmostEqual(points["5ms", "10%"]["beside"]["frame-loss"], 0.1, delta=0.005)
        self.assertAlmostEqual(points["5ms", "0"]["beside"]["latency-median"], 0.005012, delta=1e-5)
        self.assertIn("both directions alike", self.inside("sweep", rig, "--over", "send.loss=0,1%", code=2).stderr)
        self.assertNotIn("baseline-before", self.inside("logbook", "list", "--series", "nothing").stdout)

    def test_a_search_at_every_point(self) -> None:
        rig = self.rig(device="{ forwarding_fps = 500000, buffer_frames = 50 }")
        words = ("--search", "--over", "frame-size=64,512", "--repeats", "1", "--json")
        reported = json.loads(self.inside("sweep", rig, *words).stdout)
        small, large = reported["readings"][0]["points"]
        self.assertAlmostEqual(small["summary"]["mean"], 500_000 * 512, delta=1e6)
        self.assertAlmostEqual(large["beside"]["throughput-share"], 1.0, delta=0.01)

    def test_what_is_refused_before_anything_is_sent(self) -> None:
        rig = self.rig()
        for words, why in (
            ((rig, "--over", "load=1,2"), "not a percentage"),
            ((rig, "--over", "load=10%,20%", "--set", "frame-size=64,65"), "several values"),
            ((rig, "--over", "load=10%,20%", "--direction", "each"), "one way, or both at once"),
            ((rig, "--over", "load=10%,20%", "--search"), "no load of its own"),
            ((rig, "--over", "load=10%,20%", "--plot", "x.pdf"), "neither .png nor .svg"),
            (("127.0.0.1", "--by", "udp", "--over", "flows=1,2"), "UDP needs a load"),
            (("127.0.0.1", "--search", "--over", "flows=1,2"), "TCP finds its rate"),
            (("127.0.0.1", "--over", "flows=1,2", "--over", "dscp=0,1", "--over", "mss=500,600"), "one or two"),
            (("127.0.0.1", "--over", "delay=0,1ms"), "no impairment runs on this host"),
        ):
            self.assertIn(why, self.inside("sweep", *words, code=2).stderr.replace("\n", " "), words)
        self.assertIn("No runs here yet", self.inside("logbook", "list", "--all").stdout)

    def test_a_ramp_up_and_down(self) -> None:
        rig = self.rig(device="{ forwarding = '600M', buffer_frames = 50 }")
        plot = self.folder / "ramp.png"
        words = ("--loads", "20%..80%/3,50%", "--frame-size", "512", "--plot", str(plot), "--json")
        figures = json.loads(self.harvok("ramp", rig, *words).stdout)["figures"]
        losses = {f["labels"]["load"]: f["value"] for f in figures if f["quantity"] == "frame-loss"}
        self.assertEqual(list(losses), ["20 %", "50 %", "80 %", "50 % (2)"])
        self.assertGreater(losses["80 %"], 0.2)
        self.assertEqual((losses["20 %"], losses["50 % (2)"]), (0.0, 0.0))
        self.assertGreater(plot.stat().st_size, 10_000)
        shown = self.inside("ramp", rig, "--hold", "1s", "--continuous").stdout
        self.assertIn("1518 B, send", shown)
        self.assertIn("1 s at each load, one after another without a pause", shown)
        self.assertIn("load ramp, continuous", self.inside("logbook", "list").stdout)
        self.assertIn("64 loads", self.inside("ramp", rig, "--loads", "1%..65%/65", "--continuous", code=2).stderr)
        self.assertIn("load: 0% is not possible", self.inside("ramp", rig, "--loads", "0%..50%/2", code=2).stderr)

    def test_udp_in_steps_is_drawn(self) -> None:
        _, address = self.station()
        plot = self.folder / "udp.png"
        words = ("--steps", "5M..20M/2", "--duration", "500ms", "--direction", "send")
        done = self.harvok("udp", address, *words, "--plot", str(plot))
        self.assertIn("20.00 Mb/s", done.stdout)
        self.assertGreater(plot.stat().st_size, 10_000)
        without = ("--steps", "2M,5M,2M", "--duration", "500ms", "--direction", "send", "--continuous", "--json")
        record = json.loads(self.harvok("udp", address, *without).stdout)
        received = [f["labels"]["load"] for f in record["figures"] if f["quantity"] == "udp-received"]
        self.assertEqual(received, ["2.000 Mb/s", "5.000 Mb/s", "2.000 Mb/s (2)"])
        sent = [flow["datagrams"] for flow in record["trials"][-1]["result"]["directions"][0]["sender"]["sent"]]
        self.assertEqual(len(sent), 3)
        self.assertGreater(min(sent), 0)
        self.assertIn("between what", self.inside("udp", address, "--rate", "5M", "--continuous", code=2).stderr)
        self.assertIn("need --steps", self.inside("udp", address, "--rate", "5M", "--plot", "x.png", code=2).stderr)

    def test_a_sweep_of_flows_is_read_and_drawn(self) -> None:
        _, address = self.station()
        plot = self.folder / "sweep.png"
        words = ("--over", "flows=1,2", "--duration", "500ms", "--repeats", "1", "--series", "path")
        done = self.harvok("sweep", address, *words, "--plot", str(plot))
        self.assertIn("against baseline", done.stdout)
        self.assertGreater(plot.stat().st_size, 10_000)
        listed = self.inside("logbook", "list").stdout
        for name in ("path.baseline-before", "path.flows-1", "path.flows-2", "path.baseline-after"):
            self.assertIn(name, listed)
        self.assertIn(
            "names nothing that can be varied", self.inside("sweep", address, "--over", "colour=1,2", code=2).stderr
        )
