"""Harvok's TCP flows against a bare C loop, alternated, over a veth pair between two namespaces. Needs root and cc.

    python benchmarks/tcp_against_c.py [--flows 1 4] [--rounds 7] [--seconds 3]

Harvok both by copying and by zero-copy; the C loop copies. Prints the goodput of each round, the median of the ratios
of neighbours, and what CPU Harvok's workers at both ends took for a gigabit. A ratio is what can be trusted on a noisy
machine; a single rate cannot.
"""

import argparse
import os
import statistics
import subprocess
import sys
import tempfile
from pathlib import Path

from harvok.core.models.run import parse_record
from harvok.core.samples import replayed
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


def harvok(pair: NamespacePair, flows: int, seconds: float, method: str) -> tuple[float, float]:
    """Whole-test goodput of Harvok in b/s, near to far, and the CPU time of its workers at both ends in s/Gb."""
    command = [
        sys.executable, "-m", "harvok", "tcp", ADDRESSES["far"], "--direction", "send", "--flows", str(flows),
        "--duration", f"{seconds}s", "--method", method, "--json",
    ]  # fmt: skip
    done = pair.run("near", command)
    if done.returncode:
        sys.exit(done.stderr)
    record = parse_record(done.stdout)
    goodput_bps = next(figure.value for figure in record.figures if figure.quantity == "goodput-mean")
    busy: dict[str, dict[float, float]] = {"near": {}, "far": {}}
    for sample in (one for trial in record.trials for one in replayed(trial.samples)):
        if sample.quantity == "cpu-worker":
            at_end = busy[sample.source]
            at_end[sample.at_s] = at_end.get(sample.at_s, 0.0) + sample.value
    cores = sum(statistics.mean(at_end.values()) for at_end in busy.values())
    return goodput_bps, cores / (goodput_bps / 1e9)


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
    """Alternates the three, and prints each round and the medians."""
    ratios: dict[str, list[float]] = {"copy": [], "zero-copy": []}
    cpu: dict[str, list[float]] = {"copy": [], "zero-copy": []}
    for number in range(1, rounds + 1):
        reference = reference_bps(pair, program, flows, seconds)
        said = [f"C {reference / 1e9:6.2f} Gb/s"]
        for method, of_method in ratios.items():
            goodput_bps, cpu_s = harvok(pair, flows, seconds, method)
            of_method.append(goodput_bps / reference)
            cpu[method].append(cpu_s)
            said.append(f"{method} {goodput_bps / 1e9:6.2f} Gb/s, ratio {of_method[-1]:.2f}, {cpu_s * 1e3:.0f} ms/Gb")
        print(f"{flows} flows, round {number}: {'; '.join(said)}", flush=True)
    for method, of_method in ratios.items():
        print(f"{flows} flows, {method}: median ratio {statistics.median(of_method):.2f} ({min(of_method):.2f} to "
              f"{max(of_method):.2f}), {statistics.median(cpu[method]) * 1e3:.0f} ms/Gb")  # fmt: skip
    shares = [less / more for less, more in zip(cpu["zero-copy"], cpu["copy"], strict=True) if more]
    print(f"{flows} flows: CPU by zero-copy over that by copying, median {statistics.median(shares):.2f}")


if __name__ == "__main__":
    main()
