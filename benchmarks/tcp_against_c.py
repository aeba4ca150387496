"""Harvok's TCP flows against a bare C loop, alternated, over a veth pair between two namespaces. Needs root and cc.

    python benchmarks/tcp_against_c.py [--flows 1 4] [--rounds 7] [--seconds 3]

Prints the goodput of both for each round, and the median of the ratios of neighbours. A ratio is what can be
trusted on a noisy machine; a single rate cannot.
"""

import argparse
import json
import os
import statistics
import subprocess
import sys
import tempfile
from pathlib import Path

from harvok.testing.namespaces import ADDRESSES, NamespacePair
from harvok.testing.own_user import own_user

_PORT = "26490"
_SOURCE = Path(__file__).with_name("tcp_reference.c")


def compile_reference(folder: Path) -> Path:
    """The C reference, compiled on the spot."""
    program = folder / "tcp_reference"
    subprocess.run([os.environ.get("CC", "cc"), "-O2", "-o", str(program), str(_SOURCE)], check=True)
    return program


def reference_bps(pair: NamespacePair, program: Path, flows: int, seconds: float) -> float:
    """Goodput of the C loop in b/s, near to far."""
    receiver = pair.popen("far", [str(program), "receive", _PORT, str(flows), str(seconds)], stdout=subprocess.PIPE)
    with receiver:
        assert receiver.stdout
        receiver.stdout.readline()
        pair.run("near", [str(program), "send", ADDRESSES["far"], _PORT, str(flows), str(seconds + 0.3)])
        return float(receiver.stdout.read()) * 8


def harvok_bps(pair: NamespacePair, flows: int, seconds: float, *more: str) -> float:
    """Whole-test goodput of Harvok in b/s, near to far."""
    command = [
        sys.executable, "-m", "harvok", "tcp", ADDRESSES["far"], "--direction", "send", "--flows", str(flows),
        "--duration", f"{seconds}s", "--json", *more,
    ]  # fmt: skip
    done = pair.run("near", command)
    if done.returncode:
        sys.exit(done.stderr)
    figures = json.loads(done.stdout)["figures"]
    return next(float(f["value"]) for f in figures if f["quantity"] == "goodput-mean")


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--flows", type=int, nargs="+", default=[1, 4])
    parser.add_argument("--rounds", type=int, default=7)
    parser.add_argument("--seconds", type=float, default=3.0)
    asked = parser.parse_args()
    with tempfile.TemporaryDirectory() as folder, NamespacePair() as pair:
        os.environ |= own_user(Path(folder))
        program = compile_reference(Path(folder))
        station = pair.popen("far", [sys.executable, "-m", "harvok", "station"], stdout=subprocess.PIPE)
        try:
            assert station.stdout
            station.stdout.readline()
            for flows in asked.flows:
                measure(pair, program, flows, asked.rounds, asked.seconds)
        finally:
            station.terminate()
            station.communicate()


def measure(pair: NamespacePair, program: Path, flows: int, rounds: int, seconds: float) -> None:
    """Alternates the two, and prints each round and the medians."""
    ratios = []
    for number in range(1, rounds + 1):
        reference, harvok = reference_bps(pair, program, flows, seconds), harvok_bps(pair, flows, seconds)
        ratios.append(harvok / reference)
        print(f"{flows} flows, round {number}: C {reference / 1e9:6.2f} Gb/s, Harvok {harvok / 1e9:6.2f} Gb/s,"
              f" ratio {ratios[-1]:.3f}", flush=True)  # fmt: skip
    print(f"{flows} flows: median ratio {statistics.median(ratios):.3f} ({min(ratios):.3f} to {max(ratios):.3f})")


if __name__ == "__main__":
    main()
