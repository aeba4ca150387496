"""What live charts cost: CPU time of the near end itself, its workers left out, with charts and without, alternated.

    python benchmarks/chart_cost.py [--rounds 3] [--seconds 12] [--only tcp app delay frames]

Each test runs on a terminal of 126 by 38: TCP, application traffic and delay over loopback, frames over a virtual
switch (which needs root, or user namespaces). Prints both shares of a core, and the median of their differences; at
most 2 % are asked.
"""

import argparse
import fcntl
import os
import pty
import select
import statistics
import struct
import subprocess
import sys
import tempfile
import termios
import time
from pathlib import Path

import psutil

from harvok.testing.own_user import own_user

HARVOK = str(Path(sys.executable).with_name("harvok"))
HOST, PORT, REFLECTOR_PORT = "127.0.0.1", 27510, 27514
STATION = f"{HOST}:{PORT}"
_RIG = 'version = 1\nkind = "virtual"\nname = "dome-sw-a"\nrated = "1G"\ndevice = "switch"\n'
KINDS = ("tcp", "app", "delay", "frames")
_WARM_S = 5.0
_ASKED = 0.02


def tests(rig: Path, lasts_s: int) -> dict[str, list[str]]:
    """A test of each kind that is charted, as it is typed."""
    return {
        "tcp": ["tcp", STATION, "--duration", f"{lasts_s}s", "--direction", "send"],
        "app": ["app", STATION, "--mix", "web", "--users", "20", "--ramp", "1s", "--hold", f"{lasts_s}s"],
        "delay": ["delay", HOST, "--port", str(REFLECTOR_PORT), "--packets", str(10 * lasts_s), "--gap", "100ms"],
        "frames": ["ramp", str(rig), "--loads", "1%", "--hold", f"{lasts_s}s", "--frame-size", "512"],
    }


def share_of_a_core(words: list[str], seconds: float) -> float:
    """Of the near end alone, in the middle of a test."""
    pid, terminal = pty.fork()
    if pid == 0:
        os.execv(HARVOK, [HARVOK, *words])
    fcntl.ioctl(terminal, termios.TIOCSWINSZ, struct.pack("HHHH", 38, 126, 0, 0))
    process, began_s = psutil.Process(pid), time.monotonic()
    looks: list[tuple[float, float]] = []
    moments = [began_s + _WARM_S, began_s + _WARM_S + seconds]
    while _reads(terminal):
        if len(looks) < len(moments) and time.monotonic() >= moments[len(looks)]:
            used = process.cpu_times()
            looks.append((time.monotonic(), used.user + used.system))
    os.waitpid(pid, 0)
    if len(looks) < len(moments):
        raise SystemExit(f"'harvok {' '.join(words)}' ended before its time")
    (from_s, before), (to_s, after) = looks
    return (after - before) / (to_s - from_s)


def _reads(terminal: int) -> bool:
    """Takes what was written; False once the program has gone."""
    if not select.select([terminal], [], [], 0.05)[0]:
        return True
    try:
        return bool(os.read(terminal, 65536))
    except OSError:
        return False


def main() -> None:
    options = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    options.add_argument("--rounds", type=int, default=3)
    options.add_argument("--seconds", type=float, default=12.0)
    options.add_argument("--only", nargs="+", choices=KINDS, default=KINDS)
    asked = options.parse_args()
    with tempfile.TemporaryDirectory() as name:
        os.environ |= own_user(Path(name))
        rig = Path(name) / "switch.toml"
        rig.write_text(_RIG)
        station = [HARVOK, "station", "--host", HOST, "--port", str(PORT), "--delay-port", str(REFLECTOR_PORT)]
        far = subprocess.Popen(station, stdout=subprocess.DEVNULL)
        try:
            time.sleep(2)
            words = tests(rig, int(asked.seconds + 12))
            dear = [_measure(kind, words[kind], asked) for kind in asked.only]
        finally:
            far.terminate()
            far.wait()
    sys.exit(any(dear))


def _measure(kind: str, words: list[str], asked: argparse.Namespace) -> bool:
    differences = []
    for _ in range(asked.rounds):
        charted = share_of_a_core(words, asked.seconds)
        plain = share_of_a_core([*words, "--no-charts"], asked.seconds)
        differences.append(charted - plain)
        print(f"{kind}: {charted:.1%} of a core with charts, {plain:.1%} without", flush=True)
    cost = statistics.median(differences)
    print(f"{kind}: charts cost {cost:.2%} of a core", flush=True)
    return cost > _ASKED


if __name__ == "__main__":
    main()
