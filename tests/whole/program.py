"""Runs the installed program as a user does: separate processes, files in a temporary folder.

What measures, waits or can be interrupted runs as a process, most often one that need not load the program once more
(warm.py). What only reads or refuses may run inside the process of
the test, through the same entry: the start would be nearly all of its time, and there are hundreds of those.
"""

import atexit
import contextlib
import functools
import io
import json
import os
import random
import signal
import socket
import subprocess
import sys
import tempfile
import unittest
from collections.abc import Callable
from pathlib import Path
from typing import Any
from unittest import mock

import psutil

from harvok.cli.main import main
from harvok.clock import SYSTEM
from harvok.host.state import STATE_FOLDER
from harvok.station.keys import KEYS_FOLDER, Keys
from tests.second_try import BUSY
from tests.whole.warm import WarmProcess

HARVOK = str(Path(sys.executable).with_name("harvok"))
TOKEN = "spectro-lead"
Process = subprocess.Popen[str]


def free_ports() -> int:
    """A port whose upper neighbour is free as well, below those that the system gives to connections."""
    while True:
        port = random.randrange(10_000, 32_000, 4)
        with socket.socket() as lower, socket.socket() as upper:
            try:
                lower.bind(("127.0.0.1", port))
                upper.bind(("127.0.0.1", port + 1))
            except OSError:
                continue
            return port


def until(what: Callable[[], Any], seconds: float = 30) -> Any:
    """Asks again and again until the answer is true; fails when it never is."""
    deadline_ns = SYSTEM.now_ns() + int(seconds * 1e9)
    while not (answer := what()):
        if SYSTEM.now_ns() > deadline_ns:
            raise AssertionError(f"still not so after {seconds} s")
        SYSTEM.sleep(0.05)
    return answer


_PRESSURE = Path("/proc/pressure/cpu")
_CONTENDED, _BUSY = 0.25, 0.9
"""A test of frames keeps one core busy by itself, for its pace, and never all of them."""


class Contention:
    """Whether others had this host's cores since it was made: how much of the time some process waited for one (Linux
    PSI), and how much of their time the cores were not idle."""

    def __init__(self) -> None:
        self._since_ns, self._waited_us, self._cores = SYSTEM.now_ns(), self._total_us(), psutil.cpu_times()

    @property
    def waited(self) -> float:
        passed_us = (SYSTEM.now_ns() - self._since_ns) / 1e3
        return (self._total_us() - self._waited_us) / passed_us

    @property
    def busy(self) -> float:
        now = psutil.cpu_times()
        passed_s = (SYSTEM.now_ns() - self._since_ns) / 1e9 * (psutil.cpu_count() or 1)
        return 1 - (now.idle + now.iowait - self._cores.idle - self._cores.iowait) / passed_s

    def _total_us(self) -> int:
        """0 where the kernel does not say."""
        return int(_PRESSURE.read_text().split("total=")[1].split()[0]) if _PRESSURE.exists() else 0


@functools.cache
def keys() -> Keys:
    """A key for all tests of this process, which is station and near end."""
    folder = tempfile.TemporaryDirectory()
    atexit.register(folder.cleanup)
    return Keys(Path(folder.name))


class ProgramTest(unittest.TestCase):
    """A folder, a logbook and a lock of its own for each test."""

    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self.logbook, self.state = self.folder / "book.sqlite", self.folder / "state"
        self.env = os.environ | {
            "HARVOK_TOKEN": TOKEN,
            "HARVOK_LOGBOOK": str(self.logbook),
            "TMPDIR": str(self.folder),
            STATE_FOLDER: str(self.state),
            KEYS_FOLDER: str(keys().folder),
            "HARVOK_CODE": keys().code,
            "COLUMNS": "120",
        }

    def start(self, *arguments: str, cold: bool = False, **options: Any) -> Process:
        """Starts the program; it is ended with the test. A `cold` start loads it, as a user's does."""
        pipes = {"stdout": subprocess.PIPE, "stderr": subprocess.PIPE, "stdin": subprocess.DEVNULL}
        settings: dict[str, Any] = pipes | {"env": self.env, "cwd": self.folder, "text": True} | options
        warm = not cold and options.keys() <= {"env", "stdin", "room"}
        process: Process = (WarmProcess if warm else subprocess.Popen)([HARVOK, *arguments], **settings)
        self.addCleanup(self.end, process)
        return process

    def end(self, process: Process) -> None:
        if process.poll() is None:
            process.kill()
        process.wait()
        for pipe in (process.stdout, process.stderr):
            if pipe:
                pipe.close()

    def harvok(self, *arguments: str, code: int = 0, **options: Any) -> subprocess.CompletedProcess[str]:
        """Runs the program to its end and checks its exit code; a traceback is a failure whatever the code."""
        process = self.start(*arguments, **options)
        out, err = process.communicate(timeout=300)
        self.assertNotIn("Traceback", err)
        self.assertEqual(process.returncode, code, f"{arguments}\n{out}\n{err}")
        return subprocess.CompletedProcess(arguments, process.returncode, out, err)

    def inside(self, *arguments: str, code: int = 0) -> subprocess.CompletedProcess[str]:
        """The same as `harvok`, inside this process."""
        out, err, got = io.StringIO(), io.StringIO(), 0
        with (
            mock.patch.dict(os.environ, self.env),
            mock.patch.object(sys, "argv", ["harvok", *arguments]),
            mock.patch.object(tempfile, "tempdir", str(self.folder)),  # which it looks up only once in a process
            contextlib.chdir(self.folder),
            contextlib.redirect_stdout(out),
            contextlib.redirect_stderr(err),
        ):
            try:
                main()
            except SystemExit as ended:
                got = int(ended.code or 0)
        self.assertEqual(got, code, f"{arguments}\n{out.getvalue()}\n{err.getvalue()}")
        return subprocess.CompletedProcess(arguments, got, out.getvalue(), err.getvalue())

    def station(
        self, *arguments: str, port: int | None = None, cold: bool = False, **options: Any
    ) -> tuple[Process, str]:
        """A station on loopback that is ready, and its address."""
        port = port or free_ports()
        process = self.start(
            "station", "--host", "127.0.0.1", "--port", str(port), "--name", "hall", *arguments, cold=cold, **options
        )
        assert process.stdout
        self.assertIn("hall is ready", process.stdout.readline())
        return process, f"127.0.0.1:{port}"

    def measured(self, *arguments: str, code: int = 0) -> dict[str, Any]:
        """The record that `harvok tcp … --json` prints."""
        done = self.harvok("tcp", *arguments, "--json", code=code)
        record: dict[str, Any] = json.loads(done.stdout)
        return record

    def held(self, *arguments: str) -> dict[str, Any]:
        """The record of a test on a rig, which has figures. Skips where this host was provably too busy to hold a
        load."""
        contention, process = Contention(), self.start(*arguments, "--json")
        out, err = process.communicate(timeout=200)
        record: dict[str, Any] = json.loads(out)
        short = record["fault"] and record["fault"]["reference"] == "tester-limit"
        if short:
            self.skip_if_busy(contention)
        self.assertEqual((process.returncode, record["state"]), (0, "complete"), err)
        self.assertTrue(record["figures"])
        return record

    def skip_if_busy(self, contention: Contention) -> None:
        """Skips where others provably had this host's cores. For tests in which the tester said that it fell short."""
        waited, busy = contention.waited, contention.busy
        if waited > _CONTENDED or busy > _BUSY:
            said = f"processes waited for a core in {waited:.0%} of the time, and the cores were busy in {busy:.0%}"
            self.skipTest(f"{BUSY}: {said}")

    def interrupt(self, process: Process) -> None:
        process.send_signal(signal.SIGINT)
