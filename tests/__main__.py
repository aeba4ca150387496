"""Runs every test in two processes at once, of about one length: most tests wait for traffic more than they compute.

A test that fails so is run once more by itself, since the two halves share the cores; if it passes then, that is said.

python -m tests
"""

import subprocess
import sys
import tempfile
import unittest
from collections.abc import Iterator
from pathlib import Path

_PARTS = ("first", "second")
_FIRST = "tests.whole."
"""Tests that drive the installed program …"""
_BUT = tuple(f"tests.whole.test_{name}." for name in ("decide", "faults", "plans", "reports"))
"""… but for these, which go with all others."""
_MAX_AGAIN = 3
"""More failures than this are no lapse of the machine."""


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


def run(part: str, failed: Path) -> bool:
    """Runs one part, and writes down which tests failed; whether everything went well."""
    every = unittest.defaultTestLoader.discover("tests", top_level_dir=".")
    chosen = [test for test in tests_of(every) if part_of(test.id()) == part]
    result = unittest.TextTestRunner(verbosity=1).run(unittest.TestSuite(chosen))
    names = {str(getattr(test, "test_case", test).id()) for test, _ in (*result.failures, *result.errors)}
    failed.write_text("".join(f"{name}\n" for name in sorted(names)))
    return result.wasSuccessful()


def run_both(folder: Path) -> int:
    """Runs the two parts at once, and what failed once more; the exit code."""
    command = [sys.executable, "-m", "tests"]
    with tempfile.TemporaryFile("w+") as said:
        beside = subprocess.Popen([*command, _PARTS[1], str(folder / _PARTS[1])], stdout=said, stderr=said)
        codes = [subprocess.run([*command, _PARTS[0], str(folder / _PARTS[0])]).returncode, beside.wait()]
        said.seek(0)
        sys.stderr.write(said.read())
    failed = [name for part in _PARTS if (folder / part).exists() for name in (folder / part).read_text().split()]
    if not any(codes) or not 0 < len(failed) <= _MAX_AGAIN:
        return max(map(abs, codes))
    print(f"once more, alone: {', '.join(failed)}", file=sys.stderr, flush=True)
    return subprocess.run([sys.executable, "-m", "unittest", *failed]).returncode


def main() -> int:
    if len(sys.argv) > 1:
        return 0 if run(sys.argv[1], Path(sys.argv[2])) else 1
    with tempfile.TemporaryDirectory() as folder:
        return run_both(Path(folder))


if __name__ == "__main__":
    sys.exit(main())
