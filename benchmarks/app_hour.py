"""An hour of users: does the memory of any process of a test of application traffic grow?

    python benchmarks/app_hour.py [--users 200] [--mix observatory] [--hold 60min] [--every 60]

Over loopback, the station in a process of its own. Prints the memory of each process over time (its own pages: what it
shares with others does not count), and how much each grew after the first tenth. Exit code 1 where one grew by more
than a hundredth and a megabyte; the near end itself keeps the record of all intervals, some 2 kB a second.
"""

import argparse
import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import psutil

from harvok.testing.own_user import own_user

HARVOK = str(Path(sys.executable).with_name("harvok"))
HOST, PORT = "127.0.0.1", 27490
_GROWTH_BYTES, _GROWTH_SHARE = 1 << 20, 0.01
_RECORD_BYTES_PER_S = 4096
Memory = dict[str, int]


def memory_of(processes: dict[str, psutil.Process]) -> Memory:
    """The memory that each process has for itself, and each child of it, in bytes."""
    seen: Memory = {}
    for name, process in processes.items():
        for one in (process, *process.children(recursive=True)):
            try:
                seen[_name(name, one)] = one.memory_full_info().uss
            except psutil.NoSuchProcess:
                continue
    return seen


def _name(of: str, process: psutil.Process) -> str:
    modules = [word.rpartition(".")[2] for word in process.cmdline() if word.startswith("harvok.")]
    return f"{of}: {modules[0] if modules else 'itself'} {process.pid}"


def watch(processes: dict[str, psutil.Process], test: "subprocess.Popen[bytes]", every_s: float) -> list[Memory]:
    """Looks at the memory of all until the test is over."""
    seen: list[Memory] = []
    began_s = time.monotonic()
    while test.poll() is None:
        time.sleep(every_s)
        if test.poll() is None:
            seen.append(memory_of(processes))
            now = ", ".join(f"{name} {size / 1e6:.2f}" for name, size in seen[-1].items())
            print(f"{time.monotonic() - began_s:6.0f} s, MB: {now}", flush=True)
    return seen


def grew(seen: list[Memory], every_s: float) -> bool:
    """Whether a process that was there from beginning to end grew; prints each."""
    begins = max(len(seen) // 10, 1)
    warm, last, lasted_s = seen[begins], seen[-2], (len(seen) - 2 - begins) * every_s
    any_grew = False
    for name in warm.keys() & last.keys():
        growth = last[name] - warm[name]
        record = lasted_s * _RECORD_BYTES_PER_S if name.startswith("near end: itself") else 0.0
        any_grew |= growth > max(_GROWTH_BYTES, warm[name] * _GROWTH_SHARE) + record
        print(f"{name}: {warm[name] / 1e6:.2f} MB, grew by {growth / 1e6:+.2f} MB")
    return any_grew


def main() -> None:
    options = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    options.add_argument("--users", type=int, default=200)
    options.add_argument("--mix", default="observatory")
    options.add_argument("--hold", default="60min")
    options.add_argument("--every", type=float, default=60.0)
    asked = options.parse_args()
    with tempfile.TemporaryDirectory() as folder:
        environment = os.environ | own_user(Path(folder))
        words = [HARVOK, "station", "--host", HOST, "--port", str(PORT), "--max-duration", "2h"]
        with subprocess.Popen(words, env=environment, stdout=subprocess.DEVNULL) as station:
            time.sleep(3)
            words = [HARVOK, "app", f"{HOST}:{PORT}", "--mix", asked.mix, "--users", str(asked.users)]
            with subprocess.Popen([*words, "--ramp", "20s", "--hold", asked.hold], env=environment) as test:
                processes = {"station": psutil.Process(station.pid), "near end": psutil.Process(test.pid)}
                seen = watch(processes, test, asked.every)
            station.terminate()
    if test.returncode not in (0, 1):
        sys.exit("the test did not end as it should")
    sys.exit(grew(seen, asked.every))


if __name__ == "__main__":
    main()
