"""Runs the benchmarks one after the other, and writes what they say at their end into the table of README.md.

    sudo .venv/bin/python -m benchmarks.run_all [NAME...]

Takes about half an hour for all of them; with names, runs those and leaves the other rows as they are. The page says
when, on what machine and over how many rounds each row was measured, and how much of the CPU a hypervisor took.
"""

import os
import platform
import re
import subprocess
import sys
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path

_README = Path(__file__).with_name("README.md")
_BEGIN, _END = "<!-- table begins -->\n", "<!-- table ends -->\n"
_HEAD = "| benchmark | result | date | machine, rounds |\n| --- | --- | --- | --- |\n"


@dataclass(frozen=True)
class Entry:
    """A script with its arguments, and which of the lines that it prints are its result."""

    script: str
    arguments: str
    result: str
    rounds: int


_ENTRIES = (
    Entry("tcp_against_c.py", "--rounds 8 --seconds 2", r"^\d+ flows(, (copy|zero-copy): median|: CPU).*", 8),
    Entry("frames_against_c.py", "--rounds 12 --seconds 0.8", r"^\d+ B: ratio.*", 12),
    Entry("udp_against_plain.py", "--rounds 8 --seconds 1", r"^\d+ B: ratio.*", 8),
    Entry("bridge_against_c.py", "--rounds 5 --seconds 0.5", r".*median.*", 5),
    Entry("app_against_c.py", "", r".*median.*", 4),
    Entry("remote_known_answers.py", "--rounds 5", r"^median ratio.*", 5),
    Entry("switch_known_answers.py", "--rounds 3", r"^answer: .*", 3),
    Entry("logbook_size.py", "--runs 100000", r"^(list|trend).*", 5),
)


def measured(entry: Entry) -> str:
    """One row of the table."""
    before = _cpu()
    path = str(Path(__file__).parent.parent)
    command = [sys.executable, str(Path(__file__).with_name(entry.script)), *entry.arguments.split()]
    done = subprocess.run(command, capture_output=True, text=True, env=os.environ | {"PYTHONPATH": path})
    said = [line.strip() for line in done.stdout.splitlines() if re.match(entry.result, line.strip())]
    after = _cpu()
    total = sum(after) - sum(before)
    stolen = (after[7] - before[7]) / total if total else 0.0
    result = "<br>".join(said) if not done.returncode and said else f"failed: {done.stderr.strip()[-200:]}"
    kernel = platform.release().partition("-")[0]
    where = f"{os.cpu_count()} cores, Linux {kernel}; {entry.rounds} rounds; steal {stolen:.1%}"
    return f"| `{entry.script}` | {result} | {datetime.now(UTC):%Y-%m-%d} | {where} |\n"


def _cpu() -> list[int]:
    return [int(word) for word in Path("/proc/stat").read_text().splitlines()[0].split()[1:]]


def main() -> None:
    asked = sys.argv[1:]
    text = _README.read_text()
    before, _, rest = text.partition(_BEGIN)
    table, _, after = rest.partition(_END)
    rows = {match[1]: match[0] for match in re.finditer(r"^\| `([^`]+)` \|.*\n", table, re.MULTILINE)}
    for entry in _ENTRIES:
        if not asked or entry.script in asked or entry.script.removesuffix(".py") in asked:
            rows[entry.script] = measured(entry)
            print(rows[entry.script], end="", flush=True)
            known = "".join(rows[one.script] for one in _ENTRIES if one.script in rows)
            _README.write_text(f"{before}{_BEGIN}{_HEAD}{known}{_END}{after}")


if __name__ == "__main__":
    main()
