"""One station through many tests, some of them killed, among hostile strangers: does anything pile up or get lost?

    python benchmarks/soak.py [--tests 1000] [--killed 200] [--hostile 100] [--seed 1]

Over loopback. A test is the installed program with --amount; killed ones get SIGKILL after a random time. A hostile
client does one of: many silent connections, half a TLS handshake, a header that never ends, a wrong token, rubbish on
the data port, forged hellos and STAMP packets. Prints every test that a legitimate near end lost, and descriptors,
threads, memory, children and files of the station over time. Exit code 1 where a test was lost or anything grew.
"""

import argparse
import contextlib
import os
import random
import signal
import socket
import ssl
import statistics
import subprocess
import sys
import tempfile
import threading
import time
from dataclasses import dataclass
from pathlib import Path

import psutil

from harvok.testing.own_user import own_user

HARVOK = str(Path(sys.executable).with_name("harvok"))
HOST, PORT = "127.0.0.1", 27470
_FREE_AGAIN = ("--wait", "10s")  # a killed near end holds the station for the 5 s of its lease
_GROWTH_BYTES = 16 * 1024**2


@dataclass(frozen=True, slots=True)
class Footprint:
    """What a process has of a host."""

    descriptors: int
    threads: int
    children: int
    memory_bytes: int
    files: int


def footprint(station: psutil.Process, folder: Path) -> Footprint:
    children = station.children(recursive=True)
    memory = station.memory_info().rss
    return Footprint(station.num_fds(), station.num_threads(), len(children), memory, sum(1 for _ in folder.rglob("*")))


class Hostile:
    """One client after another in a thread of its own, until stopped."""

    def __init__(self, count: int, seed: int) -> None:
        self.made, self._count, self._random = 0, count, random.Random(seed)
        self._stop = threading.Event()
        self._thread = threading.Thread(target=self._run, daemon=True)
        self._thread.start()

    def stop(self) -> None:
        self._stop.set()
        self._thread.join()

    def _run(self) -> None:
        kinds = (
            self._silent,
            self._half_handshake,
            self._endless_header,
            self._wrong_token,
            self._data,
            self._datagrams,
        )
        while self.made < self._count and not self._stop.wait(self._random.uniform(0.5, 4)):
            with contextlib.suppress(OSError):
                self._random.choice(kinds)()
            self.made += 1

    def _connect(self, port: int = PORT) -> socket.socket:
        return socket.create_connection((HOST, port), 2, source_address=(f"127.0.0.{self._random.randint(2, 250)}", 0))

    def _tls(self) -> ssl.SSLSocket:
        context = ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)
        context.check_hostname, context.verify_mode = False, ssl.CERT_NONE
        return context.wrap_socket(self._connect())

    def _silent(self) -> None:
        with contextlib.ExitStack() as stack:
            for _ in range(100):
                stack.enter_context(self._connect())
            self._stop.wait(3)

    def _half_handshake(self) -> None:
        with self._connect() as sock:
            sock.sendall(b"\x16\x03\x01\x02\x00\x01" + self._random.randbytes(200))
            self._stop.wait(2)

    def _endless_header(self) -> None:
        with self._tls() as sock:
            sock.sendall(b"GET /v1/station HTTP/1.1\r\nx: ")
            for _ in range(40):
                sock.sendall(b"x")
                self._stop.wait(0.1)

    def _wrong_token(self) -> None:
        with self._tls() as sock:
            sock.sendall(
                b"POST /v1/sessions HTTP/1.1\r\nhost: x\r\nauthorization: Bearer x\r\ncontent-length: 9\r\n\r\n"
            )
            sock.recv(4096)

    def _data(self) -> None:
        with contextlib.ExitStack() as stack:
            for _ in range(40):
                sock = stack.enter_context(self._connect(PORT + 1))
                sock.sendall(b"HVOK" + self._random.randbytes(self._random.randint(0, 60)))
            self._stop.wait(1)

    def _datagrams(self) -> None:
        with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as sock:
            for _ in range(500):
                sock.sendto(
                    self._random.randbytes(self._random.randint(1, 200)), (HOST, PORT + self._random.randint(1, 2))
                )


def run_test(environment: dict[str, str], kill_after_s: float | None) -> str:
    """One test; what went wrong with it, empty where nothing did."""
    command = [HARVOK, "tcp", f"{HOST}:{PORT}", "--amount", "200k", "--direction", "both", *_FREE_AGAIN, "--json"]
    near = subprocess.Popen(command, env=environment, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)
    if kill_after_s is not None:
        with contextlib.suppress(subprocess.TimeoutExpired):
            near.wait(kill_after_s)
        near.send_signal(signal.SIGKILL)
        near.communicate()
        return ""
    _, said = near.communicate(timeout=120)
    return "" if near.returncode == 0 else f"exit code {near.returncode}: {said.strip()}"


def main() -> None:
    options = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    for name, default in (("tests", 1000), ("killed", 200), ("hostile", 100), ("seed", 1)):
        options.add_argument(f"--{name}", type=int, default=default)
    asked = options.parse_args()
    chance = random.Random(asked.seed)
    killed = set(chance.sample(range(asked.tests), asked.killed))
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        environment = os.environ | own_user(folder) | {"TMPDIR": name}
        command = [HARVOK, "station", "--host", HOST, "--port", str(PORT), "--name", "hall"]
        station = subprocess.Popen(command, env=environment, stdout=subprocess.DEVNULL)
        try:
            sys.exit(
                soak(asked.tests, killed, Hostile(asked.hostile, asked.seed), environment, station.pid, folder, chance)
            )
        finally:
            station.terminate()
            station.wait()


def soak(
    tests: int,
    killed: set[int],
    hostile: Hostile,
    environment: dict[str, str],
    station: int,
    folder: Path,
    chance: random.Random,
) -> int:
    time.sleep(3)
    process, lost, seen = psutil.Process(station), 0, list[Footprint]()
    for number in range(tests):
        wrong = run_test(environment, chance.uniform(0.1, 1.5) if number in killed else None)
        if wrong:
            lost += 1
            print(f"test {number}: {wrong}", flush=True)
        if number % max(tests // 20, 1) == 0:
            seen.append(footprint(process, folder))
            print(f"after {number + 1} tests, {hostile.made} hostile clients: {seen[-1]}", flush=True)
    hostile.stop()
    time.sleep(8)  # what strangers held, and the lease of the last killed near end
    seen.append(footprint(process, folder))
    print(f"at the end, {hostile.made} hostile clients: {seen[-1]}")
    print(f"{lost} of {tests - len(killed)} tests of legitimate near ends lost, {len(killed)} killed")
    return 1 if lost or _grew(seen) else 0


def _grew(seen: list[Footprint]) -> bool:
    """Whether the end is above the early median by more than noise."""
    early, end = seen[1 : len(seen) // 2] or seen[:1], seen[-1]
    return (
        end.descriptors > statistics.median(one.descriptors for one in early) + 5
        or end.threads > statistics.median(one.threads for one in early) + 3
        or end.children > 0
        or end.memory_bytes > statistics.median(one.memory_bytes for one in early) + _GROWTH_BYTES
    )


if __name__ == "__main__":
    main()
