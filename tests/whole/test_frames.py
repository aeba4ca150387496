"""The installed program on virtual rigs: real frames on real rings, through devices made of this host's kernel."""

import json
import os
import signal
import unittest
import unittest.mock
from pathlib import Path

from harvok.clock import SYSTEM
from tests.whole.program import ProgramTest, until

RIG = """
version = 1
kind = "virtual"
name = "dome-sw-a"
rated = "1G"
device = "switch"
shape = "100M"
"""
PORTS = """
version = 1
kind = "ports"
name = "dome-sw-a"
rated = "1G"
[port1]
interface = "{}"
[port2]
interface = "{}"
"""
QUICK = ("--duration", "1s", "--trial-pause", "0.3s", "--frame-size", "1518")


class RigTest(ProgramTest):
    def rig(self, text: str = RIG) -> str:
        path = self.folder / "rig.toml"
        path.write_text(text)
        return str(path)


class OnAVirtualRig(RigTest):
    def test_throughput_of_a_shaped_switch_is_the_arithmetic(self) -> None:
        slow = RIG.replace("1G", "100M").replace('shape = "100M"', 'shape = "20M"')  # loads that a busy host holds
        record = self.held("rfc2544", self.rig(slow), "throughput", *QUICK, "--resolution", "4%")
        self.assertEqual(record["rig"]["kind"], "virtual")
        found = [figure for figure in record["figures"] if figure["quantity"] == "throughput"]
        self.assertTrue(found)
        for figure in found:
            self.assertTrue(0.88 < figure["value"] / (20e6 / 8 / 1538) < 1.03, figure)

    def test_a_calibration_is_kept_and_used(self) -> None:
        rig = self.rig(RIG.replace("1G", "10M").replace("100M", "5M"))
        kept = self.held("calibrate", rig, "--duration", "1s", "--frame-size", "1518")
        limit = next(f["value"] for f in kept["figures"] if f["quantity"] == "tester-limit")
        record = self.held("ramp", rig, "--loads", "20%", "--hold", "1s", "--frame-size", "1518")
        self.assertEqual(record["calibration"], kept["id"])
        self.assertEqual(record["test"]["settings"]["tester_fps"]["1518"], limit)
        self.assertIn("the tester itself", self.inside("logbook", "show", kept["id"]).stdout)

    def test_a_rig_is_gone_even_after_a_kill(self) -> None:
        process = self.start("rfc2544", self.rig(), "throughput", "--frame-size", "1518", start_new_session=True)
        until(lambda: "trial 1" in (process.stdout.readline() if process.stdout else ""), 60)
        SYSTEM.sleep(0.3)  # into the next trial: a worker that hears then is not waiting for orders
        children = _family(process.pid)
        self.assertGreaterEqual(len(children), 4)
        process.send_signal(signal.SIGKILL)
        process.wait()
        until(lambda: not [pid for pid in children if _lives(pid)])
        self.assertIn("broken", self.inside("logbook", "list").stdout)

    def test_breaking_off_keeps_what_was_measured(self) -> None:
        process = self.start("rfc2544", self.rig(), "throughput", *QUICK, "--frame-size", "512", "--frame-size", "64")
        until(lambda: "trial 2" in (process.stdout.readline() if process.stdout else ""), 60)
        self.interrupt(process)
        process.communicate(timeout=60)
        self.assertEqual(process.returncode, 4)
        record = json.loads(self.inside("logbook", "show", "last", "--json").stdout)
        self.assertEqual((record["state"], record["fault"]["reference"]), ("broken", "broken-off"))
        self.assertTrue(record["trials"][0]["result"]["directions"][0]["sent_frames"])


class BadRigs(RigTest):
    def test_what_cannot_be_used_is_named(self) -> None:
        for text, code, words in (
            (PORTS.format("nosuch0", "lo"), 4, "there is no interface nosuch0"),
            (PORTS.format("lo", "lo"), 2, "port1 and port2 are both lo"),
            (PORTS.format("", "lo"), 2, "line 7: 'port1.interface'"),
            (PORTS.format("a", "b") + 'addresses = ["10.0.0.1"]', 2, "no prefix length"),
            (
                RIG.replace("virtual", "real"),
                2,
                "line 3: 'kind' is to be one of 'simulated', 'ports', 'remote', 'virtual'",
            ),
            (RIG.replace("switch", "wire"), 2, "a wire cannot be shaped"),
            (RIG.replace("100M", "2G"), 2, "at most the rated speed"),
        ):
            said = self.inside("rfc2544", self.rig(text), "throughput", code=code).stderr
            self.assertIn(words, said)
            self.assertIn("try ", said)

    def test_frames_that_do_not_fit_are_refused_before_anything_is_sent(self) -> None:
        said = self.inside("rfc2544", self.rig(), "--frame-size", "9000", code=2).stderr
        self.assertIn("MTU of 1500 B allows 1518 B", said)
        self.assertIn("sends IPv4 frames of 9000 B", said)
        self.assertIn("address pairs", self.inside("rfc2544", self.rig(), "--address-pairs", "20000", code=2).stderr)

    def test_a_simulated_rig_needs_no_calibration(self) -> None:
        self.inside("rig", "new", "a.toml", "--name", "a", "--rated", "1G")
        self.assertIn("needs no calibration", self.inside("calibrate", "a.toml", code=2).stderr)

    def test_rig_files_of_every_kind(self) -> None:
        remote = ("--kind", "remote", "--port1", "eth1", "--port2", "eth2", "--station", "hall")
        self.inside("rig", "new", "b.toml", "--name", "b", "--rated", "1G", *remote)
        self.assertIn("eth2 at hall", self.inside("rig", "show", "b.toml", code=4).stdout)
        self.assertIn("two hosts already", self.inside("rig", "try", "b.toml", "tcp", code=2).stderr)
        new = ("rig", "new", "a.toml", "--name", "dome-rt-a", "--rated", "10G", "--overwrite")
        self.inside(*new, "--kind", "virtual", "--device", "router")
        said = self.inside("rig", "show", "a.toml").stdout
        for words in ("dome-rt-a", "router", "198.18.0.2/16", "nothing leaves this host", "──10 Gb/s──"):
            self.assertIn(words, said)
        self.inside(*new, "--kind", "virtual", "--device", "wire")
        self.assertNotIn("dome-rt-a", self.inside("rig", "show", "a.toml").stdout)
        self.inside(*new, "--kind", "ports", "--device", "router", "--port1", "nosuch0", "--port2", "nosuch1")
        said = self.inside("rig", "show", "a.toml", code=4).stdout
        for words in ("nosuch0", "problem there is no interface nosuch1", "RFC 6815"):
            self.assertIn(words, said)


@unittest.skipIf(os.geteuid(), "only root can become somebody else")
class WithoutRoot(RigTest):
    def test_ports_say_what_they_need_and_virtual_rigs_need_nothing(self) -> None:
        def nobody() -> None:
            os.setgroups([])
            os.setresgid(65534, 65534, 65534)
            os.setresuid(65534, 65534, 65534)

        if not _readable_by_others():
            return self.check_the_message()
        self.folder.chmod(0o777)
        process = self.start("rfc2544", self.rig(), "throughput", *QUICK, preexec_fn=nobody)
        out, err = process.communicate(timeout=120)
        self.assertTrue("throughput, send" in out or "the tester fell short" in err, err)
        return None

    def check_the_message(self) -> None:
        """The interpreter lies where nobody else may read, so that only the words can be checked here."""
        from harvok.traffic.rings import open_packet_socket

        with (
            unittest.mock.patch("socket.socket", side_effect=PermissionError),
            self.assertRaisesRegex(Exception, "right"),
        ):
            open_packet_socket("eth1")


def _readable_by_others() -> bool:
    """Whether another user could run this very interpreter."""
    import sys

    path = Path(sys.executable).resolve()
    return all(folder.stat().st_mode & 0o001 for folder in path.parents)


def _family(pid: int) -> list[int]:
    """A process and all that it has started."""
    found = [pid]
    for parent in found:
        path = Path(f"/proc/{parent}/task/{parent}/children")
        try:
            found += [int(child) for child in path.read_text().split()]
        except OSError:
            continue
    return found


def _lives(pid: int) -> bool:
    """Whether a process still runs; one that waits to be collected by nobody does not."""
    try:
        return Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()[0] != "Z"
    except OSError:
        return False
