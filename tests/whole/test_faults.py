import json
import os
import resource
import signal
import socket
import sqlite3
import subprocess
from contextlib import closing
from functools import partial
from pathlib import Path

import psutil

from harvok.clock import SYSTEM
from harvok.host.state import STATE_FOLDER
from tests.whole.program import ProgramTest, free_ports, until

LONG = ("--duration", "300s", "--interval", "0.2s", "--direction", "send")
PACED = (*LONG, "--pacing", "50M")  # leaves the cores to the other tests


def workers() -> set[int]:
    return {p.pid for p in psutil.process_iter(["cmdline"]) if "harvok.traffic.worker" in (p.info["cmdline"] or [])}


class ReachingAStation(ProgramTest):
    def test_wrong_token(self) -> None:
        _, address = self.station()
        self.env["HARVOK_TOKEN"] = "not-the-one"
        said = self.inside("tcp", address, code=4).stderr
        self.assertIn("does not accept this token", said)

    def test_nobody_listens(self) -> None:
        said = self.inside("tcp", f"127.0.0.1:{free_ports()}", code=4).stderr
        self.assertIn("refused", said)
        self.assertIn("harvok station", said)

    def test_nobody_answers(self) -> None:
        with socket.socket() as deaf:
            deaf.bind(("127.0.0.1", 0))
            deaf.listen(0)
            address = deaf.getsockname()
            crowd = [socket.socket() for _ in range(4)]  # fill its queue, so that the kernel drops what comes next
            for sock in crowd:
                sock.setblocking(False)
                sock.connect_ex(address)
            said = self.inside("tcp", f"127.0.0.1:{address[1]}", code=4).stderr
            for sock in crowd:
                sock.close()
        self.assertIn("no answer", said)
        self.assertIn("firewall", said)

    def test_something_else_answers(self) -> None:
        server = ["python3", "-u", "-m", "http.server", "--bind", "127.0.0.1", str(port := free_ports())]
        pipes = {"stdout": subprocess.PIPE, "stderr": subprocess.DEVNULL}
        with subprocess.Popen(server, cwd=self.folder, text=True, **pipes) as other:  # type: ignore[call-overload]
            other.stdout.readline()
            said = self.inside("tcp", f"127.0.0.1:{port}", code=4).stderr
            other.kill()
        self.assertIn("does not talk TLS 1.3", said)

    def test_a_name_that_does_not_resolve(self) -> None:
        self.assertIn("does not resolve", self.inside("tcp", "no-such-host.invalid", code=4).stderr)


def children_of(parent: int) -> list[int]:
    """The worker processes of a process."""
    found = subprocess.run(["pgrep", "-P", str(parent)], capture_output=True, text=True).stdout
    return [int(pid) for pid in found.split()]


def handles_signals(pid: int) -> bool:
    """Whether a process has a handler of its own for SIGTERM (proc(5))."""
    status = Path(f"/proc/{pid}/status").read_text()
    caught = int(next(line for line in status.splitlines() if line.startswith("SigCgt")).split()[1], 16)
    return bool(caught >> signal.SIGTERM - 1 & 1)


class MidTest(ProgramTest):
    def running(self, address: str, *more: str) -> subprocess.Popen[str]:
        """A test that has told some intervals, the first of which are in the journal by now."""
        near = self.start("tcp", address, *PACED, *more)
        assert near.stdout
        for _ in range(4):
            until(lambda: "goodput" in near.stdout.readline())  # type: ignore[union-attr]
        return near

    def only_run(self) -> dict[str, object]:
        runs = json.loads(self.inside("logbook", "list", "--json").stdout)
        self.assertEqual(len(runs), 1)
        record: dict[str, object] = json.loads(self.inside("logbook", "show", "last", "--json").stdout)
        self.assertEqual(record["state"], "broken")
        self.assertGreater(len(record["trials"][0]["samples"]), 0)  # type: ignore[index]
        return record

    def test_the_station_dies(self) -> None:
        station, address = self.station()
        near = self.running(address)
        station.kill()
        _, err = near.communicate(timeout=60)
        self.assertEqual(near.returncode, 4)
        self.assertIn("went away in mid-test", err)
        self.assertNotIn("Traceback", err)
        self.assertEqual(self.only_run()["fault"]["reference"], "station-lost")  # type: ignore[index]
        until(lambda: not workers())

    def test_the_near_end_dies_and_the_station_is_free_again(self) -> None:
        _, address = self.station()
        near = self.running(address)
        near.kill()
        near.wait()
        record = self.measured(address, "--duration", "0.5s", "--direction", "send", "--wait", "30s")
        self.assertEqual(record["state"], "complete")
        self.inside("logbook", "remove", record["id"], "--yes")
        self.assertEqual(self.only_run()["fault"]["reference"], "process-died")  # type: ignore[index]
        until(lambda: not workers())

    def test_ctrl_c_keeps_what_was_measured(self) -> None:
        _, address = self.station()
        near = self.running(address)
        self.interrupt(near)
        out, err = near.communicate(timeout=30)
        self.assertEqual(near.returncode, 4)
        self.assertIn("broken off at the keyboard", err)
        self.assertIn("BROKEN", out)
        self.assertEqual(self.only_run()["fault"]["reference"], "broken-off")  # type: ignore[index]
        self.measured(address, "--duration", "0.5s", "--direction", "send")  # the station was given back at once

    def test_a_signal_at_any_moment(self) -> None:
        """While modules load, while the test runs, while it cleans up, and while the program ends."""
        _, address = self.station()
        for after_s, number in (  # since the program, not the interpreter, hears signals
            (0.0, signal.SIGTERM),
            (0.3, signal.SIGINT),
            (1.2, signal.SIGTERM),
            (2.5, signal.SIGINT),
        ):
            near = self.start("tcp", address, "--duration", "1s", "--interval", "0.2s", cold=True)
            until(partial(handles_signals, near.pid))
            SYSTEM.sleep(after_s)
            near.send_signal(number)
            SYSTEM.sleep(0.02)
            near.send_signal(number)
            _, err = near.communicate(timeout=60)
            self.assertIn(near.returncode, (0, 4), (after_s, err))
            self.assertNotIn("Traceback", err)
            self.assertNotIn("Exception", err)
            if near.returncode:
                self.assertIn("broken off at the keyboard", err)
        lines = json.loads(self.inside("logbook", "list", "--all", "--json").stdout)
        self.assertTrue({line["state"] for line in lines} <= {"broken", "complete"})
        until(lambda: not workers())

    def test_a_worker_that_dies_breaks_the_run_at_either_end(self) -> None:
        """Of TCP and of UDP, whichever part it played: nothing is measured then, and nobody is blamed."""
        station, address = self.station()
        tcp, udp = ("tcp", "--pacing", "50M"), ("udp", "--rate", "2M")
        for (command, *options), direction, end in (
            (tcp, "send", "near"), (tcp, "send", "far"), (udp, "receive", "near"), (udp, "send", "far"),
        ):  # fmt: skip
            near = self.start(command, address, *options, *LONG[:-1], direction)
            assert near.stdout
            for _ in range(4):  # the first is of what was asked for
                until(lambda: "b/s" in near.stdout.readline())  # type: ignore[union-attr]  # noqa: B023
            for worker in children_of(near.pid if end == "near" else station.pid):
                os.kill(worker, signal.SIGKILL)
            out, err = near.communicate(timeout=60)
            self.assertEqual(near.returncode, 4, err)
            self.assertIn(f"a worker process at the {end} end of the tester was killed (SIGKILL)", err)
            self.assertNotIn("Traceback", err + out)
            record = json.loads(self.inside("logbook", "show", "last", "--json").stdout)
            self.assertEqual((record["state"], record["fault"]["reference"]), ("broken", "worker-lost"))

    def test_a_station_stopped_in_mid_test_leaves_no_workers(self) -> None:
        station, address = self.station()
        near = self.running(address)
        station.send_signal(signal.SIGTERM)
        station.communicate(timeout=30)
        self.assertEqual(station.returncode, 0)
        near.communicate(timeout=60)
        self.assertEqual(near.returncode, 4)
        until(lambda: not workers())

    def test_two_near_ends(self) -> None:
        """Another host has a lock of its own; the station tells them apart."""
        _, address = self.station()
        self.running(address, "--name", "dome")
        here = self.harvok("tcp", address, code=4).stderr
        self.assertIn("this host is busy with a test towards", here)
        self.env[STATE_FOLDER] = str(self.folder / "other")
        there = self.harvok("tcp", address, code=4).stderr
        self.assertIn("the station serves dome; it should be free in", there)
        waiting = self.harvok("tcp", address, "--wait", "2s", code=4)
        self.assertIn("waiting up to 2 s for a turn", waiting.stdout)


class Logbooks(ProgramTest):
    def test_a_place_that_cannot_be_written_is_refused_before_the_test(self) -> None:
        _, address = self.station()
        for place in ("/proc/no/book.sqlite", str(self.folder)):
            said = self.inside("tcp", address, "--logbook", place, code=4).stderr
            self.assertIn("--logbook", said)

    def test_a_newer_logbook(self) -> None:
        self.inside("logbook", "list")
        with closing(sqlite3.connect(self.logbook)) as db, db:
            db.execute("update alembic_version set version_num = '99'")
        for command in (("logbook", "list"), ("tcp", "127.0.0.1:1"), ("compare", "a", "b")):
            self.assertIn("newer Harvok", self.inside(*command, code=4).stderr)

    def test_a_full_disk_in_mid_test_loses_nothing(self) -> None:
        _, address = self.station()
        self.inside("logbook", "list")
        with closing(sqlite3.connect(self.logbook)) as db, db:
            db.execute("create table ballast (stuff blob)")
            db.execute("insert into ballast values (zeroblob(2000000))")
        room = self.logbook.stat().st_size + 20_000

        def limit() -> None:
            resource.setrlimit(resource.RLIMIT_FSIZE, (room, room))

        done = self.harvok(
            "tcp", address, "--duration", "1s", "--interval", "0.1s", "--flows", "8", code=4, preexec_fn=limit
        )  # fmt: skip
        self.assertIn("not kept in the logbook; kept in", done.stdout)
        self.assertIn("harvok logbook import", done.stderr)
        (saved,) = self.folder.glob("harvok-run-*.jsonl")
        self.assertIn("1 runs added", self.inside("logbook", "import", str(saved), "--logbook", "other.sqlite").stdout)
        shown = json.loads(self.inside("logbook", "show", "--json", "--logbook", "other.sqlite").stdout)
        self.assertEqual((shown["state"], len(shown["trials"])), ("complete", 2))

    def test_a_database_url(self) -> None:
        place = f"sqlite:///{Path(self.folder / 'by-url.sqlite')}"
        self.assertIn("No runs here yet", self.inside("logbook", "list", "--logbook", place).stdout)
        self.assertTrue((self.folder / "by-url.sqlite").exists())


class Silence(ProgramTest):
    def test_idle_and_malformed_connections_do_not_stop_the_station(self) -> None:
        _, address = self.station()
        host, _, port = address.rpartition(":")
        crowd = [socket.create_connection((host, int(port))) for _ in range(30)]
        for number, sock in enumerate(crowd):
            sock.sendall(
                (b"", b"GET /", b"\0" * 5000, b"POST /v1/sessions HTTP/1.1\r\nContent-Length: 9\r\n\r\n")[number % 4]
            )
        record = self.measured(address, "--duration", "0.5s", "--direction", "send")
        self.assertEqual(record["state"], "complete")
        for sock in crowd:
            sock.close()
