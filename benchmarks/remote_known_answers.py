"""What a remote rig finds of a switch, against what a rig of ports of one host finds of the same. Needs root.

    python benchmarks/remote_known_answers.py [--rounds 5] [--rate 100e6]

A switch of this kernel holds each way to a rate: between the test ports of two hosts in namespaces, of which
one lends its port as a station, and between two test ports of one of them. Alternated; throughput at 1518 B.
"""

import argparse
import json
import os
import statistics
import subprocess
import sys
import tempfile
from pathlib import Path

from harvok.testing.namespaces import ADDRESSES
from harvok.testing.own_user import own_user
from harvok.testing.two_testers import TEST_PORTS, TwoTesters

_KERNEL_BYTES = 1514  # what the kernel's token bucket counts of a frame of 1518 B
_RIG = """
version = 1
kind = "{kind}"
name = "two-rooms"
rated = "1G"
isolated = true
[ports.dome]
interface = "{ports[0]}"
[ports.hall]
interface = "{ports[1]}"
"""


def throughput_fps(folder: Path, rate_bps: float, *, remote: bool, direction: str) -> float:
    """One measurement on a bench of its own."""
    text = _RIG.format(kind="remote" if remote else "ports", ports=TEST_PORTS)
    rig = folder / "rig.toml"
    rig.write_text(text + (f'station = "{ADDRESSES["far"]}"\n' if remote else ""))
    harvok = [sys.executable, "-m", "harvok"]
    with TwoTesters(rate_bps, together=not remote) as pair:
        station = None
        if remote:
            station = pair.popen("far", [*harvok, "station", "--frames", TEST_PORTS[1]], stdout=subprocess.PIPE)
            assert station.stdout
            while "Ctrl-C" not in station.stdout.readline():
                pass
        asked = ["rfc2544", str(rig), "throughput", "--frame-size", "1518", "--duration", "4s", "--pause", "1s"]
        done = pair.run("near", [*harvok, *asked, "--direction", direction, "--json"], timeout_s=300)
        if station:
            station.terminate()
            station.communicate()
    if done.returncode:
        sys.exit(done.stderr)
    figures = json.loads(done.stdout)["figures"]
    return next(float(one["value"]) for one in figures if one["quantity"] == "throughput")


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--rounds", type=int, default=5)
    parser.add_argument("--rate", type=float, default=100e6)
    asked = parser.parse_args()
    expected = asked.rate / 8 / _KERNEL_BYTES
    ratios = []
    with tempfile.TemporaryDirectory() as folder:
        os.environ |= own_user(Path(folder))
        for number in range(1, asked.rounds + 1):
            direction = ("send", "receive")[number % 2]
            local = throughput_fps(Path(folder), asked.rate, remote=False, direction=direction)
            remote = throughput_fps(Path(folder), asked.rate, remote=True, direction=direction)
            ratios.append(remote / local)
            print(f"round {number}, {direction}: one host {local:.0f} frames/s, two hosts {remote:.0f}, arithmetic "
                  f"{expected:.0f}; ratio {ratios[-1]:.4f}", flush=True)  # fmt: skip
    within = sum(abs(ratio - 1) <= 0.01 for ratio in ratios)
    print(f"median ratio {statistics.median(ratios):.4f}; {within} of {len(ratios)} within 1 %")


if __name__ == "__main__":
    main()
