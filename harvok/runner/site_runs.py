"""Coordinates a site: has each test of its rounds run when it is due and everything that it needs is free.

The queue is in the logbook (logbook.site_book), so that a coordinator which was ended or killed goes on where it was:
what was due meanwhile is still begun, or is missed and said to be. Each test is a process of its own.
"""

import os
import select
import signal
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass, replace
from datetime import UTC, datetime, timedelta
from pathlib import Path

from harvok.clock import Clock
from harvok.core.figures import Figure
from harvok.core.models.site import SiteFile
from harvok.core.site.failures import BROKEN
from harvok.core.site.outcome import SiteTest
from harvok.core.site.queue import Job, Missed, Turns
from harvok.core.site.rounds import Round, jobs_between
from harvok.core.site.together import ready_s
from harvok.errors import HarvokError, SiteError, TestRunningError
from harvok.host.state import open_state, take_lock
from harvok.logbook.site_book import SiteBook
from harvok.logbook.spool import LastingSiteBook
from harvok.runner.site_files import rounds_of
from harvok.runner.site_orders import LOGBOOK, PROCESS, Came, SiteOrders
from harvok.runner.site_process import run_commands
from harvok.signals import heeded
from harvok.worker.parent import Worker

_LOOK_S = 1.0
"""How often a coordinator looks at the clock."""
_END_S = 30.0
_LOOK_BACK = timedelta(days=7)
"""How far back tests are said to be missed that were due while no coordinator ran."""
Tell = Callable[[SiteTest], None]
"""Hears of each test that begins, ends, or is missed."""


@dataclass(frozen=True, slots=True)
class Pace:
    """The clocks of a site: those of this host or, to try a schedule, so many times faster from a moment on."""

    clock: Clock
    begins: datetime
    times: float = 1.0

    def now(self) -> datetime:
        return self.begins + (self.clock.utc() - self.begins) * self.times


@dataclass(slots=True)
class _Running:
    job: Job
    test: SiteTest
    worker: Worker
    until: datetime
    late: bool = False


@dataclass(slots=True)
class _Stop:
    """Becomes true with the first signal that asks this process to end."""

    asked: bool = False
    wake: int = -1


class Coordinator:
    """Runs the rounds of one site until it is stopped."""

    def __init__(
        self, site: SiteFile, path: Path, logbook: str, pace: Pace, tell: Tell, notice: Callable[[str], None]
    ) -> None:
        self._site, self._path, self._place, self._pace, self._tell = site, path, logbook, pace, tell
        self._rounds: list[Round] = rounds_of(site)
        self._needs = {(one.name, group.near, group.far): group.needs for one in self._rounds for group in one.groups}
        self._notice = notice
        self._began_s = pace.now().timestamp()
        self._turns = Turns()
        self._running: list[_Running] = []
        self._jobs: dict[Job, SiteTest] = {}

    def run(self, until: datetime | None = None) -> None:
        """Goes on until a moment, or until a signal; tests that are under way then are broken off. Raises
        TestRunningError where this site is coordinated already, LogbookError, and SiteError for commands that were to
        be run after a test and cannot be."""
        with (
            _alone(self._site.name),
            LastingSiteBook(self._place, self._site.name, self._notice, self._pace.clock) as book,
            _heeding() as stop,
        ):
            self._recover(book)
            now = self._pace.now()
            entered = max(book.do(SiteBook.last_due) or now, now - _LOOK_BACK)
            self._enter(book, book.do(SiteBook.of_state, "waiting"))
            while not stop.asked and (until is None or self._pace.now() < until):
                now = self._pace.now()
                entered = self._enter_due(book, entered, now)
                self._step(book, now)
                self._wait(stop.wake)
            self._break_off(book)

    def run_once(self) -> list[SiteTest]:
        """Every test of every round once, from now on, as they get their turns; returns what became of them. Raises
        what `run` does."""
        with (
            _alone(self._site.name),
            LastingSiteBook(self._place, self._site.name, self._notice, self._pace.clock) as book,
            _heeding() as stop,
        ):
            self._recover(book)
            now = self._pace.now().replace(microsecond=0)
            endless = [replace(one, late_s=_NEVER_S) for one in self._rounds]
            tests = [_as_test(job) for one in endless for job in one.jobs(now)]
            self._enter(book, tests, late_s=_NEVER_S)
            while not stop.asked and self._jobs:
                self._step(book, self._pace.now())
                self._wait(stop.wake)
            self._break_off(book)
            return [test for test in book.do(SiteBook.since, now) if test.due == now]

    def _recover(self, book: LastingSiteBook) -> None:
        """Ends what a coordinator left that was killed: what it promised to run after its tests is run."""
        for test in book.do(SiteBook.left_over):
            reason = "the coordinator was killed in mid-test"
            try:
                run_commands(test.after)
            except SiteError as error:
                reason = f"{reason}, and {error.message}"
            self._tell(book.do(SiteBook.end, _failed(test, BROKEN.key, reason), self._pace.now()))

    def _enter_due(self, book: LastingSiteBook, after: datetime, now: datetime) -> datetime:
        """Has those wait that have become due; returns until when they have been entered."""
        jobs = jobs_between(self._rounds, self._site.clock, after, now)
        if not jobs:
            return after
        late = [job for job in jobs if job.due_s + job.late_s < self._began_s]
        missed = [replace(_as_test(job), state="missed", reason=_NOBODY) for job in late]
        book.do(SiteBook.enter, missed)
        for test in missed:
            self._tell(test)
        self._enter(book, [_as_test(job) for job in jobs if job.due_s + job.late_s >= self._began_s])
        return datetime.fromtimestamp(max(job.due_s for job in jobs), UTC)

    def _enter(self, book: LastingSiteBook, tests: list[SiteTest], late_s: float | None = None) -> None:
        book.do(SiteBook.enter, tests)
        for test in tests:
            if (test.round, test.near, test.far) not in self._needs:
                gone = replace(test, state="missed", reason="the site's file has this test no longer")
                self._tell(book.do(SiteBook.end, gone, None))
                continue
            job = self._job(test, late_s)
            self._jobs[job] = test
            self._turns.add([job])

    def _job(self, test: SiteTest, late_s: float | None) -> Job:
        needs = self._needs[test.round, test.near, test.far]
        late_s = self._site.round(test.round).late if late_s is None else late_s
        return Job(test.round, test.near, test.far, test.due.timestamp(), needs, late_s)

    def _step(self, book: LastingSiteBook, now: datetime) -> None:
        """What is to be done at this moment."""
        for one in [one for one in self._running if _is_over(one.worker)]:
            self._end(book, one)
        for one in self._running:
            if now >= one.until and not one.late:
                one.late = True
                one.worker.close_input()  # breaks it off
        for missed in self._turns.give_up(now.timestamp()):
            self._miss(book, missed)
        for job in self._turns.start(now.timestamp()):
            self._begin(book, job)

    def _begin(self, book: LastingSiteBook, job: Job) -> None:
        keys, now = self._site.round(job.round), self._pace.now()
        test = book.do(SiteBook.begin, self._jobs[job], now, keys.after)
        self._tell(test)
        orders = SiteOrders(str(self._path), job.round, list(job.near), job.far)
        worker = Worker(PROCESS, orders.encode(), environment={LOGBOOK: self._place})
        until = now + timedelta(seconds=(keys.longest_s + ready_s(len(job.near))) * self._pace.times)
        self._running.append(_Running(job, test, worker, until))

    def _end(self, book: LastingSiteBook, one: _Running) -> None:
        """A test is over: what it says of itself, or that it died, and what is to be run after it."""
        self._running.remove(one)
        try:
            came = Came(**one.worker.hear(_END_S))
        except HarvokError as error:
            came = Came(failure=BROKEN.key, reason=error.message)
        one.worker.end()
        keys, test = self._site.round(one.job.round), one.test
        failure, reason = came.failure, came.reason
        if one.late and failure:
            reason = f"it took longer than {keys.longest_s:.0f} s, and was broken off"
        figures = tuple(Figure(*figure) for figure in came.figures)
        test = replace(test, state="done", verdict=came.verdict, runs=tuple(came.runs), figures=figures)
        try:
            run_commands(test.after)
        except SiteError as error:
            failure, reason = failure or BROKEN.key, "; ".join(filter(None, (reason, error.message)))
        test = replace(test, after=())
        if failure:
            test = _failed(test, failure, reason)
        self._over(book, one.job, test)
        self._turns.end(one.job)

    def _miss(self, book: LastingSiteBook, missed: Missed) -> None:
        test = self._jobs[missed.job]
        reason = _NOBODY
        if missed.waited_for and missed.job.due_s + missed.job.late_s > self._began_s:
            reason = f"it waited too long for {missed.waited_for}, which {missed.held_by} had"
        self._over(book, missed.job, replace(test, state="missed", reason=reason))

    def _over(self, book: LastingSiteBook, job: Job, test: SiteTest) -> None:
        del self._jobs[job]
        self._tell(book.do(SiteBook.end, test, self._pace.now() if test.began else None))

    def _wait(self, wake: int) -> None:
        """Until a test says what it came to, a signal comes, or it is time to look at the clock."""
        select.select([wake, *(one.worker.fileno() for one in self._running)], [], [], _LOOK_S)

    def _break_off(self, book: LastingSiteBook) -> None:
        """Ends what is under way; what waits stays in the queue."""
        for one in self._running:
            one.worker.close_input()
        for one in list(self._running):
            self._end(book, one)


_NOBODY = "no coordinator ran when it was due"
_NEVER_S = 10 * 365 * 86_400.0


def _as_test(job: Job) -> SiteTest:
    return SiteTest(job.round, job.near, job.far, datetime.fromtimestamp(job.due_s, UTC))


def _failed(test: SiteTest, failure: str, reason: str) -> SiteTest:
    return replace(test, state="failed", failure=failure, reason=reason, after=())


def _is_over(worker: Worker) -> bool:
    """Whether a process has said what it came to, or died."""
    return bool(select.select([worker], [], [], 0)[0])


@contextmanager
def _alone(site: str) -> Iterator[None]:
    """Holds a site for this process. Raises TestRunningError where another one has it."""
    fd = open_state(f"site-{site}.lock", os.O_RDWR | os.O_CREAT)
    try:
        if not take_lock(fd):
            raise TestRunningError(
                f"another process on this host coordinates the site {site}", "`harvok site status` shows what it does."
            )
        yield
    finally:
        os.close(fd)


@contextmanager
def _heeding() -> Iterator[_Stop]:
    """Takes the first signal that asks this process to end as a wish to end in good order."""
    stop = _Stop()
    readable, writable = os.pipe()
    os.set_blocking(writable, False)
    stop.wake = readable

    def heed(number: int, frame: object) -> None:  # noqa: ARG001
        stop.asked = True
        with suppress(OSError):
            os.write(writable, b"!")

    before = {number: signal.signal(number, heed) for number in heeded()}
    try:
        yield stop
    finally:
        for number, handler in before.items():
            signal.signal(number, handler)
        os.close(readable)
        os.close(writable)
