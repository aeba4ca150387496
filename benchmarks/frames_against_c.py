"""Harvok's frame engine, by packet rings and by the express data path, against a bare C program on packet rings,
alternated, over a wire of two virtual ports.

    python benchmarks/frames_against_c.py [--sizes 64 1518] [--rounds 7] [--seconds 2]

Both send flat out; prints frames/s sent, CPU seconds of the receiver for a million frames, and frames that a receive
ring dropped, for each round, and the medians of the ratios of neighbours. Needs cc, and root or user namespaces.
"""

import argparse
import os
import statistics
import subprocess
import tempfile
from dataclasses import dataclass
from pathlib import Path

import psutil

from harvok.core.models.rig import VirtualRig
from harvok.core.observer import Observer
from harvok.core.trials.frames import FrameTrial, LoadStep
from harvok.host.cpu import usable_cores
from harvok.host.namespaces import TESTER_PORTS
from harvok.rigs.ports import FramePorts
from harvok.rigs.virtual import VirtualPorts
from harvok.traffic.frames import rows_of
from harvok.worker.child import enter_namespaces

_SOURCE = Path(__file__).with_name("frames_reference.c")
_FLAT_OUT_FPS = 1e9
WIRE = {"version": 1, "kind": "virtual", "name": "wire", "rated": "100G", "device": "wire"}
XDP = WIRE | {"sender": "xdp"}


@dataclass(frozen=True)
class Round:
    """What one program did: frames/s sent, receiver's CPU seconds for a million frames, frames that were lost."""

    sent_fps: float
    receive_cpu_s: float
    lost: int


def reference(program: Path, namespaces: list[str], size: int, seconds: float) -> Round:
    """One round of the C program, with its halves on the cores that Harvok's workers use."""
    cores = usable_cores()

    def start(core: int, *arguments: str) -> "subprocess.Popen[str]":
        def prepare() -> None:
            os.sched_setaffinity(0, {core})
            enter_namespaces(namespaces)

        return subprocess.Popen([str(program), *arguments], stdout=subprocess.PIPE, text=True, preexec_fn=prepare)

    receiver = start(cores[1 % len(cores)], "receive", TESTER_PORTS[1], str(seconds + 1))
    assert receiver.stdout
    receiver.stdout.readline()
    sent, took_s = start(cores[0], "send", TESTER_PORTS[0], str(size), str(seconds)).communicate()[0].split()
    received, cpu_s, *_ = receiver.communicate()[0].split()
    return Round(int(sent) / float(took_s), float(cpu_s) / int(received) * 1e6, int(sent) - int(received))


def harvok(ports: FramePorts, size: int, seconds: float) -> Round:
    """One round of Harvok: a trial at a load that nobody can hold."""
    receiver = ports.workers.worker(rows_of(0).receiver)
    before_s = _cpu_s(receiver.pid) if receiver.process else 0.0
    trial = FrameTrial((size,), (LoadStep(_FLAT_OUT_FPS, seconds),), pause_s=1.0)
    (one,) = ports.run(trial, Observer()).directions
    cpu_s = _cpu_s(receiver.pid) - before_s
    return Round(one.offered_load_fps, cpu_s / one.received_frames * 1e6, one.lost_frames)


def _cpu_s(pid: int) -> float:
    times = psutil.Process(pid).cpu_times()
    return float(times.user + times.system)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--sizes", type=int, nargs="+", default=[64, 1518])
    parser.add_argument("--rounds", type=int, default=7)
    parser.add_argument("--seconds", type=float, default=2.0)
    asked = parser.parse_args()
    ring_rig, xdp_rig = VirtualRig.model_validate(WIRE), VirtualRig.model_validate(XDP)
    with tempfile.TemporaryDirectory() as folder, VirtualPorts(ring_rig) as ring, VirtualPorts(xdp_rig) as xdp:
        program = Path(folder) / "frames_reference"
        subprocess.run([os.environ.get("CC", "cc"), "-O2", "-o", str(program), str(_SOURCE)], check=True)
        for ports in (ring, xdp):
            harvok(ports, 64, 0.2)
        for size in asked.sizes:
            measure(program, ring, xdp, size, asked.rounds, asked.seconds)


def measure(program: Path, ring: FramePorts, xdp: FramePorts, size: int, rounds: int, seconds: float) -> None:
    """Alternates the three, and prints each round and the medians."""
    found = []
    for number in range(1, rounds + 1):
        theirs = reference(program, list(ring._wiring.namespaces), size, seconds)
        ours, by_xdp = harvok(ring, size, seconds), harvok(xdp, size, seconds)
        found.append((theirs, ours, by_xdp))
        print(
            f"{size} B, round {number}: C {theirs.sent_fps:9.0f} frames/s, {theirs.receive_cpu_s:.3f} s CPU a million;"
            f" Harvok {ours.sent_fps:9.0f}, {ours.receive_cpu_s:.3f}; by xdp {by_xdp.sent_fps:9.0f}; "
            f"lost {theirs.lost}, {ours.lost} and {by_xdp.lost}"
        )
    ratios = sorted(ours.sent_fps / theirs.sent_fps for theirs, ours, _ in found)
    xdp_ratios = sorted(by_xdp.sent_fps / ours.sent_fps for _, ours, by_xdp in found)
    cpu_s = statistics.median(ours.receive_cpu_s for _, ours, _ in found)
    print(
        f"{size} B: ratio sent {statistics.median(ratios):.2f} ({ratios[0]:.2f} to {ratios[-1]:.2f}), receiver "
        f"{cpu_s:.3f} s of CPU a million; xdp {statistics.median(xdp_ratios):.2f} of the ring "
        f"({xdp_ratios[0]:.2f} to {xdp_ratios[-1]:.2f})"
    )


if __name__ == "__main__":
    main()
