"""How long lists and trends take in a logbook of very many runs.

python benchmarks/logbook_size.py [--runs N] [--logbook URL] fills a logbook (a new SQLite file, or an empty database)
with made-up hourly runs of ten seconds between the stations of a site, and times the installed program on it.
"""

import argparse
import statistics
import subprocess
import sys
import tempfile
import time
from contextlib import closing
from datetime import timedelta
from pathlib import Path

from harvok.core.models.run import RunRecord
from harvok.logbook.store import Logbook
from tests.logbook.test_logbook import record

_PAIRS = 100
_BATCH = 1000
_ROUNDS = 5


def fill(place: str, count: int) -> None:
    """Hourly runs of each pair, oldest first, a thousand to a transaction."""
    template = record()
    with closing(Logbook(place)) as book:
        for first in range(0, count, _BATCH):
            book.add_all([_as_number(template, number) for number in range(first, min(first + _BATCH, count))])
            print(f"\r{first + _BATCH} of {count} runs", end="", file=sys.stderr)
    print(file=sys.stderr)


def _as_number(template: RunRecord, number: int) -> RunRecord:
    pair, hour = number % _PAIRS, number // _PAIRS
    return template.model_copy(
        update={
            "id": f"{template.id}-{number:06}",
            "started": template.started + timedelta(hours=hour, seconds=pair),
            "series": f"site: throughput, station-{pair:03} to hall",
        }
    )


def timed(place: str, *arguments: str) -> str:
    """The median over some rounds of what a command takes, in seconds; its min and max."""
    command = [str(Path(sys.executable).with_name("harvok")), "logbook", *arguments, "--logbook", place]
    took = []
    for _ in range(_ROUNDS):
        begun = time.perf_counter()
        subprocess.run(command, check=True, stdout=subprocess.DEVNULL)
        took.append(time.perf_counter() - begun)
    return f"{statistics.median(took):.2f} s ({min(took):.2f} to {max(took):.2f})"


def main() -> None:
    asked = argparse.ArgumentParser()
    asked.add_argument("--runs", type=int, default=100_000)
    asked.add_argument("--logbook", default="")
    given = asked.parse_args()
    with tempfile.TemporaryDirectory() as folder:
        place = given.logbook or f"{folder}/book.sqlite"
        fill(place, given.runs)
        if not given.logbook:
            print(f"the file has {Path(place).stat().st_size / 1e6:.0f} MB")
        print("list:", timed(place, "list"))
        pairs = [f"site: throughput, station-{pair:03} to hall" for pair in range(4)]
        print("list of one pair:", timed(place, "list", "--series", pairs[0]))
        print("trend of one pair:", timed(place, "trend", "goodput-settled", "--rig", pairs[0]))
        four = [word for pair in pairs for word in ("--rig", pair)]
        print("trend of four pairs, drawn:", timed(place, "trend", "goodput-settled", *four, "--to", f"{folder}/t.png"))


if __name__ == "__main__":
    main()
