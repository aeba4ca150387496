"""One test of a site's round on this host, from its beginning to its end: a process of its own, given up when it takes
too long, and the commands that are to be run after it."""

import select
from collections.abc import Callable
from dataclasses import dataclass, replace
from datetime import datetime, timedelta
from pathlib import Path

from harvok.clock import Clock
from harvok.core.figures import Figure
from harvok.core.models.site import SiteFile
from harvok.core.site.failures import BROKEN
from harvok.core.site.outcome import SiteTest
from harvok.core.site.together import ready_s
from harvok.errors import HarvokError, SiteError
from harvok.logbook.spool import LastingSiteBook
from harvok.runner.site_orders import LOGBOOK, PROCESS, Came, SiteOrders
from harvok.runner.site_process import run_commands
from harvok.worker.parent import Worker

_END_S = 30.0
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


@dataclass(frozen=True, slots=True)
class SiteSetting:
    """What every test of a site needs to know: the site and its file, where runs are kept, and its clocks."""

    site: SiteFile
    path: Path
    logbook: str
    pace: Pace

    def book(self, notice: Callable[[str], None], *, lasting: bool = True) -> LastingSiteBook:
        """The tests of the site. Not `lasting`, it raises LogbookError while a database is away."""
        return LastingSiteBook(self.logbook, self.site.name, notice, self.pace.clock, lasting=lasting)


class SiteTestProcess:
    """A test that is under way."""

    def __init__(self, setting: SiteSetting, test: SiteTest) -> None:
        """Begins a test, which is `running` since its `began`."""
        assert test.began
        keys = setting.site.round(test.round)
        self._test, self._longest_s, self._late = test, keys.longest_s, False
        allowed_s = (keys.longest_s + ready_s(len(test.near))) * setting.pace.times
        self._until = test.began + timedelta(seconds=allowed_s)
        orders = SiteOrders(str(setting.path), test.round, list(test.near), test.far)
        self._worker = Worker(PROCESS, orders.encode(), environment={LOGBOOK: setting.logbook})

    def fileno(self) -> int:
        """Becomes readable when the test is over."""
        return self._worker.fileno()

    def is_over(self, within_s: float = 0.0) -> bool:
        """Whether the process has said what the test came to, or died, now or within so long."""
        return bool(select.select([self._worker], [], [], within_s)[0])

    def look_at_the_clock(self, now: datetime) -> None:
        """Breaks the test off when it takes too long."""
        if now >= self._until and not self._late:
            self._late = True
            self.break_off()

    def break_off(self) -> None:
        """Asks the process to end; it does so at the end of its input."""
        self._worker.close_input()

    def end(self) -> SiteTest:
        """What the test came to, once what is to be run after it has been run."""
        try:
            came = Came(**self._worker.hear(_END_S))
        except HarvokError as error:
            came = Came(failure=BROKEN.key, reason=error.message)
        self._worker.end()
        failure, reason = came.failure, came.reason
        if self._late and failure:
            reason = f"it took longer than {self._longest_s:.0f} s, and was broken off"
        try:
            run_commands(self._test.after)
        except SiteError as error:
            failure, reason = failure or BROKEN.key, "; ".join(filter(None, (reason, error.message)))
        figures = tuple(Figure(*figure) for figure in came.figures)
        test = replace(self._test, state="done", verdict=came.verdict, runs=tuple(came.runs), figures=figures, after=())
        return failed(test, failure, reason) if failure else test


def failed(test: SiteTest, failure: str, reason: str) -> SiteTest:
    """A test that failed, with the key of the kind of failure."""
    return replace(test, state="failed", failure=failure, reason=reason, after=())


def given_up(test: SiteTest, reason: str) -> SiteTest:
    """A test whose coordinator is gone: what that had promised to run after it is run here."""
    try:
        run_commands(test.after)
    except SiteError as error:
        reason = f"{reason}, and {error.message}"
    return failed(test, BROKEN.key, reason)
