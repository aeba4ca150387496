"""Runs every test, several at once: most of them wait for traffic more than they compute.

Tests that are named in tests/second_try.py come last, one at a time, and before others where this user may ask the
system for that, since each holds a rate over a virtual link against arithmetic on a machine that others use as well.
Such a test may fail once: it is run once more, and counted.
Any other failure is one. Where such a test proves that this host was too busy, it is skipped, and that is said in the
last lines.

python -m tests [NAME ...] all tests, or those whose names begin so
"""

import contextlib
import io
import json
import os
import queue
import resource
import subprocess
import sys
import threading
import unittest
from collections.abc import Iterator, Sequence
from dataclasses import asdict, dataclass, field
from itertools import groupby

from harvok.clock import SYSTEM
from tests.second_try import SECOND_TRY

_AT_ONCE = 2 * (os.cpu_count() or 1)
_WORKER = "--worker"
_BEFORE_OTHERS = -10
"""As nice(1) counts."""


@dataclass(slots=True)
class Outcome:
    """What became of some tests."""

    ran: int = 0
    cpu_s: float = 0.0
    failed: list[str] = field(default_factory=list)
    skipped: dict[str, str] = field(default_factory=dict)

    def take(self, other: "Outcome") -> None:
        self.ran += other.ran
        self.cpu_s += other.cpu_s
        self.failed += other.failed
        self.skipped |= other.skipped


def tests_of(suite: unittest.TestSuite) -> Iterator[unittest.TestCase]:
    """Every single test of a suite."""
    for one in suite:
        if isinstance(one, unittest.TestSuite):
            yield from tests_of(one)
        else:
            yield one


_PROGRAM = ("tests.whole.", "tests.attacks.")
"""Where tests drive the program."""


def groups_of(names: Sequence[str]) -> list[list[str]]:
    """Tests that run one after the other: those of a class that drives the program, or of a module; the former first,
    since they take longest."""
    whole = sorted(name for name in names if name.startswith(_PROGRAM))
    others = sorted(set(names) - set(whole))
    by_class = [list(group) for _, group in groupby(whole, lambda name: name.rsplit(".", 1)[0])]
    by_module = [list(group) for _, group in groupby(others, lambda name: name.rsplit(".", 2)[0])]
    return [*sorted(by_class, key=len, reverse=True), *by_module]


class Worker:
    """A process that runs one group of tests after the other."""

    def __init__(self) -> None:
        command = [sys.executable, "-m", "tests", _WORKER]
        self._process = subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True)

    def come_first(self) -> None:
        """Has this process and those that it starts served before others, where this user may ask for that."""
        with contextlib.suppress(PermissionError):
            os.setpriority(os.PRIO_PROCESS, self._process.pid, _BEFORE_OTHERS)

    def run(self, names: Sequence[str]) -> Outcome:
        assert self._process.stdin and self._process.stdout
        print(json.dumps(names), file=self._process.stdin, flush=True)
        line = self._process.stdout.readline()
        return Outcome(**json.loads(line)) if line else Outcome(failed=[f"{names[0]} and on: the process died"])

    def end(self) -> None:
        assert self._process.stdin and self._process.stdout
        self._process.stdin.close()
        self._process.wait()
        self._process.stdout.close()


def work() -> None:
    """Runs groups as they come. Whatever tests print goes to standard error, results alone to standard output."""
    results = os.fdopen(os.dup(1), "w")
    os.dup2(2, 1)
    for line in sys.stdin:
        began_s = _cpu_s()
        suite = unittest.defaultTestLoader.loadTestsFromNames(json.loads(line))
        said = io.StringIO()
        result = unittest.TextTestRunner(said).run(suite)
        if not result.wasSuccessful():
            sys.stderr.write(said.getvalue())
        failed = {str(getattr(test, "test_case", test).id()) for test, _ in (*result.failures, *result.errors)}
        skipped = {test.id(): why for test, why in result.skipped}
        outcome = Outcome(result.testsRun, _cpu_s() - began_s, sorted(failed), skipped)
        print(json.dumps(asdict(outcome)), file=results, flush=True)


def _cpu_s() -> float:
    """CPU time of this process and of the programs that it started and that ended."""
    used = [resource.getrusage(who) for who in (resource.RUSAGE_SELF, resource.RUSAGE_CHILDREN)]
    return sum(usage.ru_utime + usage.ru_stime for usage in used)


def run_all(groups: Sequence[list[str]]) -> Outcome:
    """Runs groups in as many processes as are useful."""
    waiting: queue.SimpleQueue[list[str]] = queue.SimpleQueue()
    for group in groups:
        waiting.put(group)
    outcome, lock = Outcome(), threading.Lock()

    def keep_busy() -> None:
        worker = Worker()
        try:
            while True:
                group, began_ns = waiting.get_nowait(), SYSTEM.now_ns()
                found = worker.run(group)
                with lock:
                    outcome.take(found)
                    _say_time(began_ns, found, group[0].rsplit(".", 1)[0])
        except queue.Empty:
            worker.end()

    threads = [threading.Thread(target=keep_busy) for _ in range(min(_AT_ONCE, len(groups)))]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    return outcome


def _say_time(began_ns: int, found: Outcome, name: str) -> None:
    took_s = (SYSTEM.now_ns() - began_ns) / 1e9
    print(f"{took_s:6.1f} s, {found.cpu_s:6.1f} s of CPU  {found.ran:3} of {name}", flush=True)


def run_sensitive(names: Sequence[str]) -> tuple[Outcome, list[str]]:
    """Runs tests one at a time, with a second try where one fails; which ones passed on it."""
    outcome, second, worker = Outcome(), [], Worker()
    worker.come_first()
    for name in names:
        began_ns = SYSTEM.now_ns()
        found = worker.run([name])
        if found.failed:
            print(f"second try: {name}", file=sys.stderr, flush=True)
            found = worker.run([name])
            if not found.failed:
                second.append(name)
        outcome.take(found)
        _say_time(began_ns, found, name)
    worker.end()
    return outcome, second


def sum_up(outcome: Outcome, second: Sequence[str]) -> int:
    """Says in the last lines what became of all tests; the exit code."""
    for name in outcome.failed:
        print(f"FAILED: {name}")
    for name in second:
        print(f"passed on the second try: {name}")
    for name, why in outcome.skipped.items():
        print(f"SKIPPED: {name}: {why}")
    passed = outcome.ran - len(outcome.failed) - len(outcome.skipped)
    failed, skipped = len(outcome.failed), len(outcome.skipped)
    print(f"{outcome.cpu_s / 60:.1f} minutes of CPU")
    print(f"{passed} passed, {len(second)} on the second try, {failed} failed, {skipped} skipped", flush=True)
    return 1 if failed or not passed else 0


def main() -> int:
    if sys.argv[1:] == [_WORKER]:
        work()
        return 0
    every = {test.id() for test in tests_of(unittest.defaultTestLoader.discover("tests", top_level_dir="."))}
    wanted = {name for name in every if name.startswith(tuple(sys.argv[1:]) or "")}
    if unknown := SECOND_TRY - every:
        print(f"not a test: {', '.join(sorted(unknown))}", file=sys.stderr)
        return 1
    outcome = run_all(groups_of(sorted(wanted - SECOND_TRY)))
    sensitive, second = run_sensitive(sorted(wanted & SECOND_TRY))
    outcome.take(sensitive)
    return sum_up(outcome, second)


if __name__ == "__main__":
    sys.exit(main())
