"""Kills each kind of Harvok's processes at random moments: is anything left behind, and does the next command work?

    python benchmarks/kills.py [--each 50] [--seed 1] [--only KIND]

Kinds: near end, station, worker (of a TCP test), bridge (`impair try`), pair (`ports pair`, on a veth pair for it).
After each SIGKILL waits until every process of that run is gone, then looks for processes, namespaces, interfaces and
temporary files that were not there before, and runs the same command again to its end. Needs root.
"""

import argparse
import contextlib
import os
import random
import subprocess
import sys
import tempfile
import time
from collections import Counter
from collections.abc import Iterator
from pathlib import Path

import psutil

from harvok.testing.own_user import own_user

HARVOK = str(Path(sys.executable).with_name("harvok"))
HOST, PORT = "127.0.0.1", 27480
_PORTS = ("hvkill0", "hvkill1")
_QUICK = ("--amount", "2M", "--direction", "both")
_GONE_S = 40.0
_MARK = "HARVOK_KILLS"


def processes() -> set[int]:
    """Those that this benchmark started, whatever else of Harvok's runs on this host."""
    found = set()
    for one in psutil.process_iter(["pid", "environ", "status"]):
        marked = (one.info["environ"] or {}).get(_MARK) == str(os.getpid())
        if marked and one.info["status"] != psutil.STATUS_ZOMBIE:
            found.add(one.info["pid"])
    return found


def left_over(folder: Path) -> set[str]:
    """Everything that a killed run may leave on a host."""
    links = {f"interface {path.name}" for path in Path("/sys/class/net").iterdir()}
    names = Path("/run/netns")
    spaces = {f"namespace {path.name}" for path in names.iterdir()} if names.exists() else set()
    files = {f"file {path.relative_to(folder)}" for path in folder.rglob("*") if path.is_file()}
    kept = ("keys/", "book.sqlite", "state/test.lock", "state/lent-ports.json", "state/changed-ports.json")
    return links | spaces | {one for one in files if not one.startswith(tuple(f"file {name}" for name in kept))}


@contextlib.contextmanager
def station(environment: dict[str, str]) -> Iterator[subprocess.Popen[str]]:
    command = [HARVOK, "station", "--host", HOST, "--port", str(PORT), "--name", "hall"]
    with subprocess.Popen(command, env=environment, stdout=subprocess.PIPE, text=True) as process:
        assert process.stdout
        process.stdout.readline()
        try:
            yield process
        finally:
            process.terminate()


class Kills:
    """Kills of one kind."""

    def __init__(self, kind: str, environment: dict[str, str], folder: Path, chance: random.Random) -> None:
        self._kind, self._environment, self._folder, self._chance = kind, environment, folder, chance
        self._command = {
            "bridge": ["impair", "try", "clean", "tcp", *_QUICK],
            "pair": ["ports", "pair", *_PORTS, "--duration", "500ms"],
        }.get(kind, ["tcp", f"{HOST}:{PORT}", *_QUICK, "--wait", "15s"])

    def once(self) -> str:
        """Kills once; what is wrong afterwards, empty where nothing is."""
        needs_station = self._kind not in ("bridge", "pair")
        context = station(self._environment) if needs_station else contextlib.nullcontext(None)
        with context as far:
            before, running = left_over(self._folder), processes()
            near = self._start()
            time.sleep(self._chance.uniform(0.2, 1.8))
            self._kill(near, far, running)
            near.communicate(timeout=120)
            left = self._wait_until_gone(running, far)
        if left:
            return f"still running after {_GONE_S:.0f} s: {left}"
        with station(self._environment) if needs_station else contextlib.nullcontext(None):
            again = self._start()
            _, said = again.communicate(timeout=120)
        new = left_over(self._folder) - before
        if again.returncode != 0:
            return f"the next command ended with {again.returncode}: {said.strip()}"
        return f"left behind: {sorted(new)}" if new else ""

    def _start(self) -> subprocess.Popen[str]:
        return subprocess.Popen(
            [HARVOK, *self._command],
            env=self._environment,
            stdout=subprocess.DEVNULL,
            stderr=subprocess.PIPE,
            text=True,
        )

    def _kill(self, near: subprocess.Popen[str], far: subprocess.Popen[str] | None, running: set[int]) -> None:
        if self._kind == "station" and far:
            far.kill()
        elif self._kind == "worker":
            mine = sorted(processes() - running - {near.pid})
            with contextlib.suppress(ProcessLookupError, IndexError):
                os.kill(self._chance.choice(mine), 9)
        else:
            near.kill()

    def _wait_until_gone(self, running: set[int], far: subprocess.Popen[str] | None) -> set[int]:
        deadline = time.monotonic() + _GONE_S
        while time.monotonic() < deadline:
            left = processes() - running - ({far.pid} if far else set())
            if not left:
                return set()
            time.sleep(0.2)
        return left


@contextlib.contextmanager
def veth() -> Iterator[None]:
    """Two ports that a lead joins, for `ports pair`."""
    subprocess.run(["ip", "link", "add", _PORTS[0], "type", "veth", "peer", "name", _PORTS[1]], check=True)
    try:
        for port in _PORTS:
            subprocess.run(["ip", "link", "set", port, "up"], check=True)
        yield
    finally:
        subprocess.run(["ip", "link", "del", _PORTS[0]], check=False)


def main() -> None:
    options = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    options.add_argument("--each", type=int, default=50)
    options.add_argument("--seed", type=int, default=1)
    options.add_argument("--only", choices=["near end", "station", "worker", "bridge", "pair"])
    asked = options.parse_args()
    wrong: Counter[str] = Counter()
    with tempfile.TemporaryDirectory() as name, veth():
        folder = Path(name)
        environment = os.environ | own_user(folder) | {"TMPDIR": name, _MARK: str(os.getpid())}
        for kind in [asked.only] if asked.only else ["near end", "station", "worker", "bridge", "pair"]:
            kills = Kills(kind, environment, folder, random.Random(asked.seed))
            for number in range(asked.each):
                found = kills.once()
                if found:
                    wrong[kind] += 1
                    print(f"{kind} {number}: {found}", flush=True)
            print(f"{kind}: {asked.each} kills, {wrong[kind]} with something wrong after them", flush=True)
    sys.exit(1 if wrong else 0)


if __name__ == "__main__":
    main()
