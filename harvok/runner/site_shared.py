"""Several coordinators of one site, on as many hosts as one likes: one of them plans, all of them run tests.

Whose turn it is, is decided by the planner alone, so that no two tests need the same station or link at one time. The
planner's seat is a lock in the PostgreSQL of the logbook (logbook.seat); when its coordinator is gone another one takes
it and goes on with what the logbook says. While the database is away nothing begins, and what runs is kept.
"""

import hashlib
import select
import threading
from collections.abc import Callable
from dataclasses import replace
from datetime import datetime, timedelta

from harvok.core.models.site import HERE
from harvok.core.site.failures import BROKEN
from harvok.core.site.outcome import SiteTest, SiteTestKey
from harvok.errors import LogbookError, UsageError
from harvok.logbook.seat import Seat
from harvok.logbook.site_book import SiteBook
from harvok.logbook.spool import LastingSiteBook
from harvok.runner.site_files import rounds_of
from harvok.runner.site_planner import Planner
from harvok.runner.site_runs import LOOK_S, Stop, heeding
from harvok.runner.site_tests import SiteSetting, SiteTestProcess, Tell, failed, given_up
from harvok.runner.site_work import SharedWork

_ASK_FOR_LOST_S = 5.0
_LOST = "the coordinator that ran it is gone"


class SharedCoordinator:
    """One of them. `tell` hears of what begins and ends here, `hear` of every test of the site that ended or was
    missed, at the coordinator that plans."""

    def __init__(self, setting: SiteSetting, tell: Tell, hear: Tell, notice: Callable[[str], None]) -> None:
        """Raises UsageError for a logbook that cannot be shared, and for tests of the coordinator's own host."""
        if not setting.logbook.startswith("postgresql"):
            raise UsageError(
                "coordinators share the work through a logbook in PostgreSQL", "Give its URL with --logbook."
            )
        if any(HERE in group.near for one in rounds_of(setting.site) for group in one.groups):
            raise UsageError(
                f"with several coordinators '{HERE}' is no one host", "Start a station there, and name that."
            )
        self._setting, self._tell, self._hear, self._notice = setting, tell, hear, notice
        self._stop = Stop()
        self._telling = threading.Lock()
        self._planning: _Planning | None = None
        self._away = False

    def run(self, until: datetime | None = None) -> None:
        """Goes on until a moment, or until a signal; tests that are under way here then are broken off."""
        setting = self._setting
        name, version = setting.site.name, hashlib.sha256(setting.site.model_dump_json().encode()).hexdigest()[:12]
        with (
            setting.book(self._notice) as book,
            heeding() as self._stop,
        ):
            book.do(SiteBook.last_due)  # makes the logbook's tables first
            with (
                Seat(setting.logbook, name) as seat,
                SharedWork(setting.logbook, name, version, self._run_test, self._notice) as work,
            ):
                while not self._stop.asked and (until is None or setting.pace.now() < until):
                    self._plan(seat, work)
                    select.select([self._stop.wake], [], [], LOOK_S)
                self._stop.asked = True

    def _plan(self, seat: Seat, work: SharedWork) -> None:
        """Plans, where the seat is ours."""
        try:
            if not seat.taken():
                self._planning = None
                return
            if self._planning is None:
                self._planning = _Planning(self._setting, work, self._told_to_all, self._hear, self._notice)
                self._notice("this coordinator plans")
            self._planning.step()
        except LogbookError as error:
            if not self._away:
                self._notice(f"{error.message}; nothing begins until it is back")
            self._away, self._planning = True, None
            return
        self._away = False

    def _told_to_all(self, test: SiteTest) -> None:
        self._say(test)
        self._hear(test)

    def _say(self, test: SiteTest) -> None:
        with self._telling:
            self._tell(test)

    def _run_test(self, test: SiteTest) -> None:
        """Runs one test that this coordinator took, to its end."""
        setting, keys = self._setting, self._setting.site.round(test.round)
        now = setting.pace.now()
        with setting.book(self._notice, lasting=False) as book:
            if now > test.due + timedelta(seconds=keys.late):
                book.do(SiteBook.end, replace(test, state="missed", reason="every coordinator was busy"), None)
                return
            begun = book.do(SiteBook.take, test, now, keys.after)
        if begun is None:  # another planner's doing
            return
        self._say(begun)
        try:
            ended = self._ended(begun)
        except Exception as error:  # whatever it is, this coordinator goes on
            ended = failed(begun, BROKEN.key, f"{type(error).__name__}: {error}")
        with setting.book(self._notice) as lasting:
            self._say(lasting.do(SiteBook.end, ended, setting.pace.now()))

    def _ended(self, test: SiteTest) -> SiteTest:
        process = SiteTestProcess(self._setting, test)
        while not process.is_over(LOOK_S):
            process.look_at_the_clock(self._setting.pace.now())
            if self._stop.asked:
                process.break_off()
        return process.end()


class _Planning:
    """The seat's work, from taking it over on. It is a planner's crew: whose turn has come is handed to all."""

    def __init__(
        self, setting: SiteSetting, work: SharedWork, tell: Tell, hear: Tell, notice: Callable[[str], None]
    ) -> None:
        self._setting, self._work, self._hear = setting, work, hear
        self._book = setting.book(notice, lasting=False)  # nothing is planned while the database is away
        self._handed: dict[SiteTestKey, SiteTest] = {}
        now = setting.pace.now()
        self._planner = Planner(setting.site, self, tell, now)
        self._look_for_lost = now
        self._take_over(now)

    def step(self) -> None:
        """What is to be done at this moment."""
        now = self._setting.pace.now()
        self._planner.enter_due(self._book, now)
        self._planner.step(self._book, now)

    def _take_over(self, now: datetime) -> None:
        """Goes on where the last planner was: what nobody took yet waits again, what runs keeps what it needs."""
        self._work.take_back()
        held = {test.key: test for test in self._work.under_way()}
        self._handed |= held
        for test in held.values():
            self._planner.hold(test)
        for test in self._book.do(SiteBook.of_state, "running"):
            if test.key not in held:
                self._give_up(self._book, test, now)
        waiting = [test for test in self._book.do(SiteBook.of_state, "waiting") if test.key not in held]
        self._planner.resume(self._book, waiting, now)

    def _give_up(self, book: LastingSiteBook, test: SiteTest, now: datetime) -> None:
        self._hear(book.do(SiteBook.end, given_up(test, _LOST), now))

    def begin(self, book: LastingSiteBook, test: SiteTest, now: datetime) -> None:
        """Hands a test over."""
        self._work.hand_over(test)
        self._handed[test.key] = test

    def over(self, book: LastingSiteBook, now: datetime) -> list[SiteTest]:
        """Those handed over that have ended since, with what became of them."""
        if now >= self._look_for_lost:
            self._look_for_lost = now + timedelta(seconds=_ASK_FOR_LOST_S) * self._setting.pace.times
            lost = {test.key for test in self._work.lost()}
            for test in book.do(SiteBook.of_state, "running", "waiting"):
                if test.key in lost:
                    self._give_up(book, test, now)
        if not self._handed:
            return []
        open_ = {test.key for test in book.do(SiteBook.of_state, "running", "waiting")}
        ended = [self._handed.pop(key) for key in list(self._handed) if key not in open_]
        found = [now_is for one in ended if (now_is := book.do(SiteBook.find, one))]
        for test in found:
            self._hear(test)
        return found
