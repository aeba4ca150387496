"""Runs every test in two processes at once, of about one length: most tests wait for traffic more than they compute.

A test that is named in tests/second_try.py may fail once, since it holds a rate over a virtual link against arithmetic
on a machine that others use as well: it is run once more, by itself, and counted. Any other failure is one. Where such
a test proves that this host was too busy, it is skipped, and that is said in the last lines.

python -m tests
"""

import json
import subprocess
import sys
import tempfile
import unittest
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any

from tests.second_try import SECOND_TRY

_PARTS = ("first", "second")
_FIRST = "tests.whole."
"""Tests that drive the installed program …"""
_BUT = tuple(f"tests.whole.test_{name}." for name in ("decide", "faults", "plans", "reports"))
"""… but for these, which go with all others."""


def tests_of(suite: unittest.TestSuite) -> Iterator[unittest.TestCase]:
    """Every single test of a suite."""
    for one in suite:
        if isinstance(one, unittest.TestSuite):
            yield from tests_of(one)
        else:
            yield one


def part_of(name: str) -> str:
    """Which part a test belongs to."""
    return _PARTS[0] if name.startswith(_FIRST) and not name.startswith(_BUT) else _PARTS[1]


def failed_in(result: unittest.TestResult) -> list[str]:
    """The tests that did not pass, and whatever else went wrong, such as the making of a class."""
    return sorted({str(getattr(test, "test_case", test).id()) for test, _ in (*result.failures, *result.errors)})


def skipped_in(result: unittest.TestResult) -> dict[str, str]:
    """The tests that were skipped, and why."""
    return {test.id(): why for test, why in result.skipped}


def run(part: str, report: Path) -> None:
    """Runs one part, what may have a second try once more, and writes down what became of it."""
    every = unittest.defaultTestLoader.discover("tests", top_level_dir=".")
    chosen = [test for test in tests_of(every) if part_of(test.id()) == part]
    result = unittest.TextTestRunner(verbosity=1).run(unittest.TestSuite(chosen))
    failed, skipped = failed_in(result), skipped_in(result)
    again = [name for name in [*failed, *skipped] if name in SECOND_TRY]
    if again:
        print(f"second try: {', '.join(again)}", file=sys.stderr, flush=True)
        once_more = unittest.TextTestRunner().run(unittest.defaultTestLoader.loadTestsFromNames(again))
        failed = [name for name in failed if name not in again] + failed_in(once_more)
        skipped = {name: why for name, why in skipped.items() if name not in again} | skipped_in(once_more)
    report.write_text(json.dumps({"ran": result.testsRun, "failed": failed, "again": again, "skipped": skipped}))


def run_both(folder: Path) -> int:
    """Runs the two parts at once; the exit code."""
    reports = {part: folder / part for part in _PARTS}
    with tempfile.TemporaryFile("w+") as said:
        command = [sys.executable, "-m", "tests"]
        beside = subprocess.Popen([*command, _PARTS[1], str(reports[_PARTS[1]])], stdout=said, stderr=said)
        subprocess.run([*command, _PARTS[0], str(reports[_PARTS[0]])])
        beside.wait()
        said.seek(0)
        sys.stderr.write(said.read())
    if not all(report.exists() for report in reports.values()):
        print("a part of the tests did not come to its end", flush=True)
        return 1
    return sum_up([json.loads(report.read_text()) for report in reports.values()])


def sum_up(parts: Sequence[Mapping[str, Any]]) -> int:
    """Says in the last lines what became of all tests; the exit code."""
    failed = [name for part in parts for name in part["failed"]]
    skipped = {name: why for part in parts for name, why in part["skipped"].items()}
    second = sorted({name for part in parts for name in part["again"]} - {*failed, *skipped})
    for name in failed:
        print(f"FAILED: {name}")
    for name in second:
        print(f"passed on the second try: {name}")
    for name, why in skipped.items():
        print(f"SKIPPED: {name}: {why}")
    passed = sum(part["ran"] for part in parts) - len(failed) - len(skipped)
    print(f"{passed} passed, {len(second)} on the second try, {len(failed)} failed, {len(skipped)} skipped", flush=True)
    return 1 if failed else 0


def main() -> int:
    if len(sys.argv) > 1:
        run(sys.argv[1], Path(sys.argv[2]))
        return 0
    with tempfile.TemporaryDirectory() as folder:
        return run_both(Path(folder))


if __name__ == "__main__":
    sys.exit(main())
