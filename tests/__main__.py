"""Runs every test in two processes at once, of about one length: most tests wait for traffic more than they compute.

python -m tests
"""

import subprocess
import sys
import tempfile
import unittest
from collections.abc import Iterator

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


def run(part: str) -> bool:
    """Runs one part; whether everything went well."""
    every = unittest.defaultTestLoader.discover("tests", top_level_dir=".")
    chosen = [test for test in tests_of(every) if part_of(test.id()) == part]
    return unittest.TextTestRunner(verbosity=1).run(unittest.TestSuite(chosen)).wasSuccessful()


def main() -> int:
    if len(sys.argv) > 1:
        return 0 if run(sys.argv[1]) else 1
    with tempfile.TemporaryFile("w+") as said:
        beside = subprocess.Popen([sys.executable, "-m", "tests", _PARTS[1]], stdout=said, stderr=said)
        code = subprocess.run([sys.executable, "-m", "tests", _PARTS[0]]).returncode
        other = beside.wait()
        said.seek(0)
        sys.stderr.write(said.read())
    return code or other


if __name__ == "__main__":
    sys.exit(main())
