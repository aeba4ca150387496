"""How well the frame engine holds a load, and whether its memory stays flat in a long trial.

    python benchmarks/frame_accuracy.py [--loads 10 100 …] [--seconds 2] [--minutes 0]

Prints, for each load over a wire of two virtual ports, the error of the offered load, lateness and losses. With
--minutes, then runs one trial of that length at 50 000 frames/s and prints the memory of all processes as it goes.
"""

import argparse
from collections.abc import Sequence

import psutil

from harvok.core.models.rig import VirtualRig
from harvok.core.observer import Observer
from harvok.core.samples import Sample
from harvok.core.trials.frames import FrameTrial, LoadStep
from harvok.rigs.virtual import VirtualPorts

WIRE = {"version": 1, "kind": "virtual", "name": "wire", "rated": "100G", "device": "wire"}
_LOADS = [10.0, 100.0, 1e3, 1e4, 1e5, 3e5, 812_743.0, 1_000_000.0]
_LONG_FPS = 50_000.0
_LOOK_EVERY_S = 30.0


class Memory(Observer):
    """Prints the resident memory of this process and its workers now and then."""

    def __init__(self) -> None:
        self._next_s = 0.0

    def samples(self, samples: Sequence[Sample]) -> None:
        at_s = samples[-1].at_s
        if at_s < self._next_s:
            return
        self._next_s += _LOOK_EVERY_S
        me = psutil.Process()
        sizes = [p.memory_info().rss / 2**20 for p in (me, *me.children(recursive=True))]
        print(f"{at_s:6.0f} s: {', '.join(f'{size:.1f}' for size in sizes)} MiB", flush=True)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--loads", type=float, nargs="*", default=_LOADS)
    parser.add_argument("--seconds", type=float, default=2.0)
    parser.add_argument("--minutes", type=float, default=0.0)
    asked = parser.parse_args()
    with VirtualPorts(VirtualRig.model_validate(WIRE)) as ports:
        for load_fps in asked.loads:
            size = 1518 if load_fps == 812_743.0 else 64
            trial = FrameTrial((size,), (LoadStep(load_fps, asked.seconds),), pause_s=0.5)
            (one,) = ports.run(trial, Observer()).directions
            error = one.offered_load_fps / load_fps - 1
            print(
                f"{size:5} B at {load_fps:9.0f} frames/s: error {error * 100:+.4f} %, batches of "
                f"{one.tester.batch_frames}, 99 % no later than {one.tester.late_p99_s * 1e6:.1f} µs, longest stall "
                f"{one.tester.longest_stall_s * 1e3:.2f} ms, lost {one.lost_frames}, ring drops {one.tester.ring_drops}"
            )
        if asked.minutes:
            trial = FrameTrial((64,), (LoadStep(_LONG_FPS, 60 * asked.minutes),), pause_s=0.5)
            (one,) = ports.run(trial, Memory()).directions
            print(
                f"{one.sent_frames} sent, {one.lost_frames} lost, {one.duplicates} twice, {one.reordered} out of order"
            )


if __name__ == "__main__":
    main()
