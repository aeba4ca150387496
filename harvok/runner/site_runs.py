"""Coordinates a site: has each test of its rounds run when it is due and everything that it needs is free.

The queue is in the logbook (logbook.site_book), so that a coordinator which was ended or killed goes on where it was:
what was due meanwhile is still begun, or is missed and said to be. Each test is a process of its own.
"""

import os
import select
import signal
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from datetime import datetime

from harvok.core.site.outcome import SiteTest
from harvok.errors import TestRunningError
from harvok.host.state import open_state, take_lock
from harvok.logbook.site_book import SiteBook
from harvok.logbook.spool import LastingSiteBook
from harvok.runner.site_planner import NEVER_S, Planner
from harvok.runner.site_tests import SiteSetting, SiteTestProcess, Tell, given_up
from harvok.signals import heeded

LOOK_S = 1.0
"""How often a coordinator looks at the clock."""


@dataclass(slots=True)
class Stop:
    """Becomes true with the first signal that asks this process to end; `wake` is readable then."""

    asked: bool = False
    wake: int = -1


class OwnProcesses:
    """Runs tests on this host."""

    def __init__(self, setting: SiteSetting, tell: Tell) -> None:
        self._setting, self._tell = setting, tell
        self.running: list[SiteTestProcess] = []

    def begin(self, book: LastingSiteBook, test: SiteTest, now: datetime) -> None:
        """Has a test run from now on."""
        test = book.do(SiteBook.begin, test, now, self._setting.site.round(test.round).after)
        self._tell(test)
        self.running.append(SiteTestProcess(self._setting, test))

    def over(self, book: LastingSiteBook, now: datetime) -> list[SiteTest]:
        """The tests that have ended since; those that take too long are broken off."""
        ended = [self._end(book, one) for one in [one for one in self.running if one.is_over()]]
        for one in self.running:
            one.look_at_the_clock(now)
        return ended

    def _end(self, book: LastingSiteBook, one: SiteTestProcess) -> SiteTest:
        self.running.remove(one)
        test = book.do(SiteBook.end, one.end(), self._setting.pace.now())
        self._tell(test)
        return test

    def break_off(self, book: LastingSiteBook) -> None:
        """Ends what is under way."""
        for one in self.running:
            one.break_off()
        for one in list(self.running):
            self._end(book, one)


class Coordinator:
    """Runs the rounds of one site until it is stopped."""

    def __init__(self, setting: SiteSetting, tell: Tell, notice: Callable[[str], None]) -> None:
        self._setting, self._tell, self._notice = setting, tell, notice
        self._site, self._pace = setting.site, setting.pace
        self._crew = OwnProcesses(setting, tell)
        self._planner = Planner(setting.site, self._crew, tell, setting.pace.now())

    def run(self, until: datetime | None = None) -> None:
        """Goes on until a moment, or until a signal; tests that are under way then are broken off. Raises
        TestRunningError where this site is coordinated already, LogbookError, and SiteError for commands that were to
        be run after a test and cannot be."""
        with self._begun() as (book, stop):
            self._planner.resume(book, book.do(SiteBook.of_state, "waiting"), self._pace.now())
            while not stop.asked and (until is None or self._pace.now() < until):
                now = self._pace.now()
                self._planner.enter_due(book, now)
                self._planner.step(book, now)
                self._wait(stop.wake)

    def run_once(self) -> list[SiteTest]:
        """Every test of every round once, from now on, as they get their turns; returns what became of them. Raises
        what `run` does."""
        now = self._pace.now().replace(microsecond=0)
        with self._begun() as (book, stop):
            self._planner.enter(book, self._planner.every_test(now), late_s=NEVER_S)
            while not stop.asked and not self._planner.idle:
                self._planner.step(book, self._pace.now())
                self._wait(stop.wake)
        with self._setting.book(self._notice) as book:
            return [test for test in book.do(SiteBook.since, now) if test.due == now]

    @contextmanager
    def _begun(self) -> Iterator[tuple[LastingSiteBook, Stop]]:
        """Holds the site and ends what a coordinator left that was killed; breaks off what is under way at the end, and
        leaves in the queue what waits."""
        with (
            _alone(self._site.name),
            self._setting.book(self._notice) as book,
            heeding() as stop,
        ):
            for test in book.do(SiteBook.left_over):
                lost = given_up(test, "the coordinator was killed in mid-test")
                self._tell(book.do(SiteBook.end, lost, self._pace.now()))
            yield book, stop
            self._crew.break_off(book)

    def _wait(self, wake: int) -> None:
        """Until a test says what it came to, a signal comes, or it is time to look at the clock."""
        select.select([wake, *(one.fileno() for one in self._crew.running)], [], [], LOOK_S)


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
def heeding() -> Iterator[Stop]:
    """Takes the first signal that asks this process to end as a wish to end in good order."""
    stop = Stop()
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
