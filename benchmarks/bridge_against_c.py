"""Harvok's impairment bridge against a bare C forwarder on the same rings, alternated, between two virtual ports.

    python benchmarks/bridge_against_c.py [--sizes 64 1518] [--delay-ms 0 5 35] [--rounds 3] [--seconds 2]

For each frame size and delay, climbs a ladder of loads, and prints the highest that either carried whole, as it was
really offered; then the delay given at a load that both carry. Needs cc, and root or user namespaces.
"""

import argparse
import contextlib
import os
import statistics
import subprocess
import tempfile
from collections.abc import Callable, Iterator
from pathlib import Path

from harvok.core.impairment import Impairment, ImpairmentPlan, Stage
from harvok.core.models.rig import SIDE_1, SIDE_2
from harvok.core.observer import Observer
from harvok.core.trials.frames import FrameDirectionResult, FrameTrial, LoadStep
from harvok.host.namespaces import DEVICE_PORTS, TESTER_PORTS, DeviceSpec
from harvok.rigs.impaired import ImpairedPath
from harvok.rigs.ports import FramePorts, Wiring
from harvok.rigs.virtual import VirtualDevice
from harvok.worker.child import enter_namespaces

_SOURCE = Path(__file__).with_name("bridge_reference.c")
_LADDER_KFPS = (50, 100, 200, 300, 400, 500, 600, 700, 800, 1000, 1500)
_DELAY_LOAD_FPS = 20_000.0
_TRIES = 3
_A_WHILE_S = "600"

Carrier = Callable[[], contextlib.AbstractContextManager[int]]
"""Carries frames meanwhile; yields its process."""


def carriers(program: Path, namespaces: list[str], delay_s: float) -> dict[str, Carrier]:
    """What carries frames between the device's ports: the C program, and Harvok's bridge."""
    direction = Impairment(delay_s=delay_s)
    plan = ImpairmentPlan("benchmark", (Stage(0.0, direction, direction),))

    @contextlib.contextmanager
    def reference() -> Iterator[int]:
        words = [str(program), *DEVICE_PORTS, str(round(delay_s * 1e9)), _A_WHILE_S]
        process = subprocess.Popen(words, stdout=subprocess.PIPE, preexec_fn=lambda: enter_namespaces(namespaces))
        try:
            assert process.stdout
            process.stdout.readline()
            yield process.pid
        finally:
            process.kill()
            process.communicate()

    @contextlib.contextmanager
    def bridge() -> Iterator[int]:
        with ImpairedPath(DEVICE_PORTS, plan, namespaces) as path:
            yield path.pid

    return {"C": reference, "Harvok": bridge}


def trial(ports: FramePorts, size: int, load_fps: float, seconds: float) -> FrameDirectionResult:
    """One trial, from the first port to the second."""
    wanted = FrameTrial((size,), (LoadStep(load_fps, seconds),), ip_version=None, pause_s=1.0)
    return ports.run(wanted, Observer()).directions[0]


def highest_whole_fps(ports: FramePorts, carrier: Carrier, size: int, seconds: float) -> tuple[float, str]:
    """The highest load that arrived whole, and what was lost above it. A rung counts by what was really offered; one on
    which all tries lost frames ends the climb."""
    best = 0.0
    with carrier() as pid:
        ports.beside = [pid]
        for load in _LADDER_KFPS:
            results = [trial(ports, size, load * 1e3, seconds) for _ in range(_TRIES)]
            whole = [one.offered_load_fps for one in results if not one.lost_frames]
            if not whole:
                minimum = min(results, key=lambda one: one.loss)
                return best, f"lost {minimum.loss * 100:.2g} % at {minimum.offered_load_fps / 1e3:.0f} k"
            best = max(best, *whole)
    return best, "all the sender offered"


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--sizes", type=int, nargs="+", default=[64, 1518])
    parser.add_argument("--delay-ms", type=float, nargs="+", default=[0.0, 5.0, 35.0])
    parser.add_argument("--rounds", type=int, default=3)
    parser.add_argument("--seconds", type=float, default=2.0)
    asked = parser.parse_args()
    with tempfile.TemporaryDirectory() as folder, VirtualDevice(DeviceSpec("path")) as device:
        program = Path(folder) / "bridge_reference"
        subprocess.run([os.environ.get("CC", "cc"), "-O2", "-o", str(program), str(_SOURCE)], check=True)
        built = device.built
        inside = [*built.namespaces[:-1], built.device]
        wiring = Wiring("path", {name: name for name in TESTER_PORTS}, (SIDE_1, SIDE_2), "wire", 1500, built.namespaces)
        with FramePorts(wiring) as ports:
            for size in asked.sizes:
                for delay_ms in asked.delay_ms:
                    compare(ports, carriers(program, inside, delay_ms / 1e3), size, delay_ms, asked)


def compare(ports: FramePorts, both: dict[str, Carrier], size: int, delay_ms: float, asked: argparse.Namespace) -> None:
    """Alternates the two, and prints each round and the medians."""
    found: dict[str, list[float]] = {name: [] for name in both}
    for number in range(1, asked.rounds + 1):
        for name, carrier in both.items():
            fps, why = highest_whole_fps(ports, carrier, size, asked.seconds)
            found[name].append(fps)
            print(f"{size} B, {delay_ms:g} ms, round {number}: {name} {fps:9.0f} frames/s whole; {why}", flush=True)
    ratios = [ours / theirs for theirs, ours in zip(found["C"], found["Harvok"], strict=True) if theirs]
    best = ", ".join(f"{name} {max(rates):.0f}" for name, rates in found.items())
    print(f"{size} B, {delay_ms:g} ms: ratio {statistics.median(ratios):.2f}; best {best} frames/s")
    for name, carrier in both.items():
        with carrier() as pid:
            ports.beside = [pid]
            delay = trial(ports, size, _DELAY_LOAD_FPS, asked.seconds).delay
        if delay:
            print(
                f"    delay at {_DELAY_LOAD_FPS / 1e3:g} k frames/s, {name}: least {delay.min_s * 1e3:.3f}, "
                f"median {delay.median_s * 1e3:.3f}, 99.9 % {delay.p999_s * 1e3:.3f} ms",
                flush=True,
            )


if __name__ == "__main__":
    main()
