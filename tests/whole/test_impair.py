import json
import os
import subprocess
from functools import partial
from pathlib import Path
from typing import Any

from tests.whole.program import ProgramTest, one_good_try, until
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

        def nine() -> None:
            median_s = only(self.delay()["figures"], "two-way-delay-median")
            self.assertTrue(0.009 <= median_s < 0.02, median_s)

        one_good_try(nine)
        changed = self.harvok("impair", "change", self.impairment('[both]\nloss = "20%"\n'), "--seed", "5").stdout
        self.assertIn("runs from now on", changed)

        def lossy() -> None:
            record = self.delay()
            self.assertAlmostEqual(only(record["figures"], "two-way-loss"), 1 - 0.8**2, delta=0.17)
            result = record["trials"][0]["result"]
            self.assertGreater(min(result["lost_there"], result["lost_back"]), 5)

        one_good_try(lossy)
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
        shown = json.loads(self.harvok("impair", "show", "--json").stdout)
        until(lambda: json.loads(self.harvok("impair", "show", "--json").stdout)["report"])
        self.assertEqual(shown["name"], "clean")

    def test_a_second_one_is_refused_and_disturbs_nothing(self) -> None:
        first = self.begin(self.mid, "impair", "start", *self.ports, "clean", ready="ends it")
        notes = Path(self.env["TMPDIR"]) / "harvok-changed-ports.json"
        before = notes.read_text() if notes.exists() else None
        second = self.within(self.mid, "harvok", "impair", "start", *self.ports, "metro", "--for", "1s")
        self.assertEqual(second.returncode, 2)
        self.assertIn("runs on this host already", second.stderr)
        self.assertEqual(notes.read_text() if notes.exists() else None, before)
        self.assertEqual(json.loads(self.harvok("impair", "show", "--json").stdout)["name"], "clean")
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


class Sweeping(ProgramTest):
    def test_a_sweep_of_flows_is_read_and_drawn(self) -> None:
        _, address = self.station()
        plot = self.folder / "sweep.png"
        words = ("--over", "flows=1,2", "--duration", "500ms", "--repeats", "1", "--series", "path")
        done = self.harvok("sweep", address, *words, "--plot", str(plot))
        self.assertIn("against baseline", done.stdout)
        self.assertGreater(plot.stat().st_size, 10_000)
        listed = self.harvok("logbook", "list").stdout
        for name in ("path.baseline-before", "path.flows-1", "path.flows-2", "path.baseline-after"):
            self.assertIn(name, listed)
        self.assertIn("varies nothing known", self.harvok("sweep", address, "--over", "colour=1,2", code=2).stderr)
