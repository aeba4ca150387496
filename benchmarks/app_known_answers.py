"""Application traffic across gateways of this kernel whose answers are known. Needs root, or user namespaces.

    python benchmarks/app_known_answers.py [--only table path service stall held]

table: a connection table of 10 000 is found by `harvok rfc9411 concurrent`. path: one that is shaped to 200 Mb/s
carries what the arithmetic allows at L2. service: 20 ms of service time are read as such. stall: a service that is
stopped for 300 ms shows in the times of those who arrive. held: 50 000 connections at once, and what they take.
Exit code 1 where an answer is off.
"""

import argparse
import json
import os
import signal
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import psutil

from harvok.testing.own_user import own_user

HARVOK = str(Path(sys.executable).with_name("harvok"))
RIG = 'version = 1\nkind = "virtual"\nname = "gateway"\nrated = "1G"\ndevice = "gateway"\n'
MIX = """
format = "harvok-mix"
version = 1
name = "waiting"
[[applications]]
name = "service"
actions = [{ name = "ask", response = "1k", service_time = "20ms" }]
"""
_RESERVED = 2
"""Connections of a table that the control connection takes."""


def harvok(folder: Path, *words: str) -> dict[str, Any]:
    """The record of a run."""
    done = subprocess.run([HARVOK, *words, "--json"], cwd=folder, capture_output=True, text=True, timeout=900)
    if done.returncode:
        sys.exit(done.stderr)
    record: dict[str, Any] = json.loads(done.stdout)
    return record


def figure(record: dict[str, Any], quantity: str, **labels: str) -> float:
    """One figure of a run, of all applications."""
    return next(
        float(f["value"])
        for f in record["figures"]
        if f["quantity"] == quantity and labels.items() <= f["labels"].items() and "application" not in f["labels"]
    )


def said(what: str, found: float, low: float, high: float, unit: str) -> bool:
    """Prints an answer beside what it should be."""
    good = low <= found <= high
    print(f"{what}: {found:.6g} {unit}, expected {low:.6g} to {high:.6g}{'' if good else '  OFF'}", flush=True)
    return good


def table(folder: Path) -> bool:
    (folder / "rig.toml").write_text(RIG + 'features = ["stateful", "table=10000"]\n')
    words = ("--object", "1k", "--hold", "6s", "--ramp", "5s", "--timeout", "2s", "--max-connections", "12000")
    record = harvok(folder, "rfc9411", "rig.toml", "concurrent", *words, "--resolution", "0.5%")
    return said("table of 10 000", figure(record, "max-open-connections"), 9_900, 10_000, "connections")


def path(folder: Path) -> bool:
    (folder / "rig.toml").write_text(RIG + 'shape = "200M"\nbuffer = "512k"\n')
    record = harvok(folder, "app", "rig.toml", "--mix", "object-64k", "--users", "16", "--ramp", "2s", "--hold", "10s")
    expected = 200e6 * 1518 / 1538
    return said("path of 200 Mb/s at L2", figure(record, "app-throughput-l2", direction="receive"), 0.99 * expected,
                1.01 * expected, "b/s")  # fmt: skip


def service(folder: Path) -> bool:
    (folder / "rig.toml").write_text(RIG)
    (folder / "mix.toml").write_text(MIX)
    record = harvok(folder, "app", "rig.toml", "--mix", "mix.toml", "--users", "4", "--ramp", "1s", "--hold", "10s")
    return said("20 ms of service to the first byte", 1e3 * figure(record, "first-byte-median"), 20.0, 20.5, "ms")


def stall(folder: Path) -> bool:
    (folder / "rig.toml").write_text(RIG)
    stopper = threading.Timer(8.0, _stop_services)
    stopper.start()
    words = ("--arrivals", "500/s", "--ramp", "1s", "--hold", "14s")
    record = harvok(folder, "app", "rig.toml", "--mix", "object-1k-new", *words)
    stopper.join()
    counts = record["trials"][0]["result"]["streams"][0]["users"]["levels"][0]["actions"][0]["response"]
    slow = sum(count for number, count in counts.items() if int(number) >= _BIN_OF_100_MS) / sum(counts.values())
    return said("share of arrivals that waited 0.1 s or more for a stall of 0.3 s in 14", 1e2 * slow, 1.2, 2.6, "%")


_BIN_OF_100_MS = 2622
"""See core.measures.bins."""


def _stop_services() -> None:
    services = [
        p for p in psutil.process_iter(["cmdline"]) if "harvok.traffic.app.service_worker" in (p.info["cmdline"] or [])
    ]
    for word in (signal.SIGSTOP, signal.SIGCONT):
        for process in services:
            process.send_signal(word)
        time.sleep(0.3)


def held(folder: Path) -> bool:
    """More than one process may have files open, at both ends."""
    (folder / "rig.toml").write_text(RIG + 'features = ["stateful"]\nclients = 4\n')  # 28 000 ports each
    (folder / "mix.toml").write_text(MIX.replace(', service_time = "20ms"', ', think = "20s"'))
    taken_bytes, few, many = dict[int, float](), 10_000, 50_000
    for users in (few, many):
        with _watching() as seen:
            record = harvok(
                folder, "app", "rig.toml", "--mix", "mix.toml", "--users", str(users), "--ramp", "30s", "--hold", "5s"
            )
        taken_bytes[users] = max(seen)
        print(f"{users}: {taken_bytes[users] / 1e6:.0f} MB in all, {taken_bytes[users] / users / 1e3:.1f} kB each")
    good = said("connections held", figure(record, "open-connections"), 0.99 * many, many, "connections")
    each_kb = (taken_bytes[many] - taken_bytes[few]) / (many - few) / 1e3
    return said("memory of both ends and the gateway for each more", each_kb, 0, 12, "kB") and good


@contextmanager
def _watching() -> Iterator[list[float]]:
    """Memory that the whole host has taken since, user space and kernel, once a second."""
    before, seen, over = psutil.virtual_memory().available, [0.0], threading.Event()

    def watch() -> None:
        while not over.wait(1.0):
            seen.append(float(before - psutil.virtual_memory().available))

    watcher = threading.Thread(target=watch)
    watcher.start()
    try:
        yield seen
    finally:
        over.set()
        watcher.join()


ANSWERS: dict[str, Callable[[Path], bool]] = {
    "table": table, "path": path, "service": service, "stall": stall, "held": held,
}  # fmt: skip


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--only", nargs="+", choices=[*ANSWERS], default=[*ANSWERS])
    asked = parser.parse_args()
    with tempfile.TemporaryDirectory() as name:
        os.environ |= own_user(Path(name))
        good = [ANSWERS[one](Path(name)) for one in asked.only]
    sys.exit(0 if all(good) else 1)


if __name__ == "__main__":
    main()
