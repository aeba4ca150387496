"""Has the tests of a site's rounds wait for their turns, hands over whose turn it is, and tells which were missed."""

from collections.abc import Sequence
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from typing import Protocol

from harvok.core.models.site import SiteFile
from harvok.core.site.outcome import SiteTest, SiteTestKey
from harvok.core.site.queue import Job, Missed, Turns
from harvok.core.site.rounds import Round, jobs_between
from harvok.logbook.site_book import SiteBook
from harvok.logbook.spool import LastingSiteBook
from harvok.runner.site_files import rounds_of
from harvok.runner.site_tests import Tell

_LOOK_BACK = timedelta(days=7)
"""How far back tests are said to be missed that were due while no coordinator ran."""
NEVER_S = 10 * 365 * 86_400.0
_NOBODY = "no coordinator ran when it was due"


class Crew(Protocol):
    """Whoever runs tests when their turn has come."""

    def begin(self, book: LastingSiteBook, test: SiteTest, now: datetime) -> None:
        """Has a test run from now on."""

    def over(self, book: LastingSiteBook, now: datetime) -> list[SiteTest]:
        """The tests that have ended since, each told and in the logbook."""


class Planner:
    """The tests that wait and those that were begun, since a moment."""

    def __init__(self, site: SiteFile, crew: Crew, tell: Tell, began: datetime) -> None:
        self._site, self._crew, self._tell, self._began_s = site, crew, tell, began.timestamp()
        self._rounds: list[Round] = rounds_of(site)
        self._needs = {(one.name, group.near, group.far): group.needs for one in self._rounds for group in one.groups}
        self._turns = Turns()
        self._tests: dict[Job, SiteTest] = {}
        self._entered = began
        self._jobs: dict[SiteTestKey, Job] = {}

    @property
    def idle(self) -> bool:
        """Whether nothing waits or runs."""
        return not self._tests

    def every_test(self, now: datetime) -> list[SiteTest]:
        """Every test of every round, due now."""
        return [_as_test(job) for one in self._rounds for job in one.jobs(now)]

    def resume(self, book: LastingSiteBook, waiting: Sequence[SiteTest], now: datetime) -> None:
        """Goes on where an earlier planner was: with those that wait still, and those due since it entered any."""
        self._entered = max(book.do(SiteBook.last_due) or now, now - _LOOK_BACK)
        self.enter(book, waiting)

    def enter_due(self, book: LastingSiteBook, now: datetime) -> None:
        """Has those wait that have become due since it was last done."""
        jobs = jobs_between(self._rounds, self._site.clock, self._entered, now)
        if not jobs:
            return
        late = [job for job in jobs if job.due_s + job.late_s < self._began_s]
        missed = [replace(_as_test(job), state="missed", reason=_NOBODY) for job in late]
        book.do(SiteBook.enter, missed)
        for test in missed:
            self._tell(test)
        self.enter(book, [_as_test(job) for job in jobs if job.due_s + job.late_s >= self._began_s])
        self._entered = datetime.fromtimestamp(max(job.due_s for job in jobs), UTC)

    def enter(self, book: LastingSiteBook, tests: Sequence[SiteTest], late_s: float | None = None) -> None:
        """Has tests wait for their turns; those that the site's file has no longer are missed."""
        book.do(SiteBook.enter, tests)
        for test in tests:
            if _ends(test) not in self._needs:
                gone = replace(test, state="missed", reason="the site's file has this test no longer")
                self._tell(book.do(SiteBook.end, gone, None))
                continue
            self._turns.add([self._job(test, late_s)])

    def hold(self, test: SiteTest) -> None:
        """A test runs already, begun by an earlier planner."""
        if _ends(test) in self._needs:
            self._turns.hold(self._job(test, None))

    def _job(self, test: SiteTest, late_s: float | None) -> Job:
        late_s = self._site.round(test.round).late if late_s is None else late_s
        job = Job(test.round, test.near, test.far, test.due.timestamp(), self._needs[_ends(test)], late_s)
        self._tests[job] = test
        self._jobs[test.key] = job
        return job

    def step(self, book: LastingSiteBook, now: datetime) -> None:
        """What is to be done at this moment."""
        for test in self._crew.over(book, now):
            job = self._jobs.pop(test.key, None)
            if job:
                del self._tests[job]
                self._turns.end(job)
        for missed in self._turns.give_up(now.timestamp()):
            self._miss(book, missed)
        for job in self._turns.start(now.timestamp()):
            self._crew.begin(book, self._tests[job], now)

    def _miss(self, book: LastingSiteBook, missed: Missed) -> None:
        test = self._tests.pop(missed.job)
        del self._jobs[test.key]
        reason = _NOBODY
        if missed.waited_for and missed.job.due_s + missed.job.late_s > self._began_s:
            reason = f"it waited too long for {missed.waited_for}, which {missed.held_by} had"
        self._tell(book.do(SiteBook.end, replace(test, state="missed", reason=reason), None))


def _as_test(job: Job) -> SiteTest:
    return SiteTest(job.round, job.near, job.far, datetime.fromtimestamp(job.due_s, UTC))


def _ends(test: SiteTest) -> tuple[str, tuple[str, ...], str]:
    return test.round, test.near, test.far
