"""Harvok's frame engine, by packet rings and by the express data path, against a bare C program on packet rings,
alternated, over a wire of two virtual ports.

    python benchmarks/frames_against_c.py [--sizes 64 1518] [--rounds 7] [--seconds 2]

All send flat out; prints frames/s sent, CPU seconds of the receiver for a million frames, and frames that a receive
ring dropped, for each round, and the medians of the ratios. The C program runs before and after each round: a round in
which its own speed changed by more than 7 % says nothing, and is not counted. Needs cc, and root or user namespaces.
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
from harvok.traffic.layout import batch_for, slots_for
from harvok.worker.child import enter_namespaces

_SOURCE = Path(__file__).with_name("frames_reference.c")
_FLAT_OUT_FPS = 1e9
_QUIET, _TRIES = 0.93, 4
"""How alike the C program's rates before and after a round are to be, and how many rounds to try for each wanted."""
WIRE = {"version": 1, "kind": "virtual", "name": "wire", "rated": "100G", "device": "wire"}
XDP = WIRE | {"sender": "xdp"}


@dataclass(frozen=True)
class Round:
    """What one program did: frames/s sent, receiver's CPU seconds for a million frames, frames that were lost."""

    sent_fps: float
    receive_cpu_s: float
    lost: int


def reference(program: Path, namespaces: list[str], size: int, seconds: float, slots: int = 0) -> Round:
    """One round of the C program, with its halves on the cores that Harvok's workers use; 0 slots are what it takes by
    itself."""
    cores = usable_cores()

    def start(core: int, *arguments: str) -> "subprocess.Popen[str]":
        def prepare() -> None:
            os.sched_setaffinity(0, {core})
            enter_namespaces(namespaces)

        return subprocess.Popen([str(program), *arguments], stdout=subprocess.PIPE, text=True, preexec_fn=prepare)

    receiver = start(cores[1 % len(cores)], "receive", TESTER_PORTS[1], str(seconds + 1))
    assert receiver.stdout
    receiver.stdout.readline()
    sent, took_s = (
        start(cores[0], "send", TESTER_PORTS[0], str(size), str(slots), str(seconds)).communicate()[0].split()
    )
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


@dataclass(frozen=True)
class Compared:
    """One round: the C program before and after, and with a ring like ours; Harvok by its rings and by xdp."""

    before: Round
    after: Round
    alike: Round
    ours: Round
    xdp: Round

    @property
    def quiet(self) -> bool:
        """Whether the machine was as fast at its end as at its beginning, by the C program alone."""
        slower, faster = sorted((self.before.sent_fps, self.after.sent_fps))
        return slower > _QUIET * faster

    @property
    def ratio(self) -> float:
        return self.ours.sent_fps / statistics.mean((self.before.sent_fps, self.after.sent_fps))

    def __str__(self) -> str:
        return (
            f"C {self.before.sent_fps:9.0f} and {self.after.sent_fps:9.0f} frames/s, "
            f"{self.before.receive_cpu_s:.3f} s CPU a million, with our ring {self.alike.sent_fps:9.0f}; "
            f"Harvok {self.ours.sent_fps:9.0f}, {self.ours.receive_cpu_s:.3f}; by xdp {self.xdp.sent_fps:9.0f}; "
            f"lost {self.before.lost}, {self.ours.lost} and {self.xdp.lost}"
            + ("" if self.quiet else "; not counted: the machine's speed changed")
        )


def measure(program: Path, ring: FramePorts, xdp: FramePorts, size: int, rounds: int, seconds: float) -> None:
    """Alternates them until there are enough quiet rounds, and prints each and the medians of the quiet ones."""
    slots = slots_for(size, batch_for(_FLAT_OUT_FPS, 1), 1, 1, taken_at_once=True)
    namespaces, found, tried = list(ring._wiring.namespaces), list[Compared](), 0
    before = reference(program, namespaces, size, seconds)
    while len(found) < rounds and tried < _TRIES * rounds:
        ours, by_xdp = harvok(ring, size, seconds), harvok(xdp, size, seconds)
        alike, after = (reference(program, namespaces, size, seconds, ring_slots) for ring_slots in (slots, 0))
        one = Compared(before, after, alike, ours, by_xdp)
        tried, before = tried + 1, after
        print(f"{size} B, round {tried}: {one}", flush=True)
        if one.quiet:
            found.append(one)
    if not found:
        raise SystemExit(f"{size} B: the machine was not quiet in any of {tried} rounds")
    _print_medians(size, found, tried)


def _print_medians(size: int, found: list[Compared], tried: int) -> None:
    ratios = sorted(one.ratio for one in found)
    alike = statistics.median(one.ours.sent_fps / one.alike.sent_fps for one in found)
    by_xdp = statistics.median(one.xdp.sent_fps / one.ours.sent_fps for one in found)
    cpu_s = statistics.median(one.ours.receive_cpu_s for one in found)
    print(
        f"{size} B: ratio sent {statistics.median(ratios):.2f} ({ratios[0]:.2f} to {ratios[-1]:.2f}) in {len(found)} "
        f"quiet rounds of {tried}; {alike:.2f} of C with a ring as short; receiver {cpu_s:.3f} s of CPU a million; "
        f"xdp {by_xdp:.2f} of the ring"
    )


if __name__ == "__main__":
    main()
