"""What watching a test costs: CPU of everything but the workers, over a veth pair between two namespaces. Needs root.

    python benchmarks/sampling_cost.py [--flows 1 4 16] [--seconds 8]

Reads the CPU time of the near end's and the station's own processes (sampling, control connection, logbook, report)
in the middle of a test, and sets it against the CPU time of their workers, which move the bytes.
"""

import argparse
import os
import subprocess
import sys
import tempfile
from pathlib import Path

import psutil

from harvok.clock import SYSTEM
from harvok.testing.namespaces import ADDRESSES, NamespacePair
from harvok.testing.own_user import own_user

_EDGE_S = 2.0  # start and end of a test, which are left out


def used_s(process: psutil.Process) -> tuple[float, float]:
    """CPU seconds of a process itself, and of its workers."""

    def own(one: psutil.Process) -> float:
        times = one.cpu_times()
        return float(times.user + times.system)

    return own(process), sum(own(worker) for worker in process.children())


def measure(pair: NamespacePair, station: psutil.Process, flows: int, seconds: float) -> float:
    """Share of the CPU time of watching in that of watching and moving bytes."""
    command = [
        sys.executable, "-m", "harvok", "tcp", ADDRESSES["far"], "--direction", "send", "--flows", str(flows),
        "--duration", f"{seconds + 2 * _EDGE_S}s",
    ]  # fmt: skip
    with pair.popen("near", command, stdout=subprocess.PIPE) as running:
        assert running.stdout
        while "goodput" not in running.stdout.readline():
            pass
        near = psutil.Process(running.pid)
        before = [used_s(process) for process in (near, station)]
        SYSTEM.sleep(seconds)
        after = [used_s(process) for process in (near, station)]
        running.communicate()
    watching, moving = (sum(a[i] - b[i] for a, b in zip(after, before, strict=True)) for i in (0, 1))
    return watching / (watching + moving)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--flows", type=int, nargs="+", default=[1, 4, 16])
    parser.add_argument("--seconds", type=float, default=8.0)
    asked = parser.parse_args()
    with tempfile.TemporaryDirectory() as folder, NamespacePair() as pair:
        os.environ |= own_user(Path(folder))
        station = pair.popen("far", [sys.executable, "-m", "harvok", "station"], stdout=subprocess.PIPE)
        try:
            assert station.stdout
            station.stdout.readline()
            for flows in asked.flows:
                share = measure(pair, psutil.Process(station.pid), flows, asked.seconds)
                print(f"{flows} flows: watching took {share * 100:.2f} % of the CPU time")
        finally:
            station.terminate()
            station.communicate()


if __name__ == "__main__":
    main()
