"""While a database elsewhere is away, runs go into a SQLite file of this user's, and from there into the database as
soon as somebody opens it again: in order, none lost, none twice.
"""

import hashlib
import os
from collections.abc import Callable
from contextlib import closing
from pathlib import Path
from typing import Concatenate, ParamSpec, TypeVar

from harvok.clock import SYSTEM, Clock
from harvok.core.models.run import RunRecord
from harvok.errors import LogbookError, LogbookNewerError, RecordError
from harvok.host.state import take_lock
from harvok.logbook.places import without_password
from harvok.logbook.site_book import SiteBook, sites_of
from harvok.logbook.store import Logbook

_ASK_AGAIN_S = 10.0
ResultT = TypeVar("ResultT")
GivenP = ParamSpec("GivenP")
Notice = Callable[[str], None]


def spool_of(place: str) -> Path | None:
    """The file in which runs wait for a database; None for a logbook that is a file itself."""
    if "://" not in place or place.startswith("sqlite"):
        return None
    from platformdirs import user_data_path

    digest = hashlib.sha256(without_password(place).encode()).hexdigest()[:16]
    return Path(user_data_path("harvok")) / "spool" / f"{digest}.sqlite"


def open_logbook(place: str, notice: Notice) -> Logbook:
    """The logbook, for somebody who will write; what waits for it goes in first. While a database is away, the file in
    which runs wait. Raises LogbookError where neither can be opened, LogbookNewerError."""
    spool = spool_of(place)
    if spool is None:
        return Logbook(place)
    try:
        logbook = Logbook(place)
    except LogbookNewerError:
        raise
    except LogbookError as away:
        notice(f"{away.message}; runs are kept on this host until it is back")
        return Logbook(str(spool))
    drain(spool, logbook, notice)
    return logbook


def drain(spool: Path, logbook: Logbook, notice: Notice) -> None:
    """Moves what waits into the database, oldest first. What a living process still measures stays, and so does a run
    that the database has otherwise under the same id, which is said."""
    if not spool.exists():
        return
    fd = os.open(spool.with_suffix(".lock"), os.O_RDWR | os.O_CREAT, 0o600)
    try:
        if take_lock(fd):  # else another process moves it
            _move_all(spool, logbook, notice)
    finally:
        os.close(fd)


def _move_all(spool: Path, logbook: Logbook, notice: Notice) -> None:
    with closing(Logbook(str(spool))) as waiting:
        moved = sum(_move(waiting, logbook, run, notice) for run in waiting.ended_ids())
        for site in sites_of(waiting):
            here, there = SiteBook(waiting, site), SiteBook(logbook, site)
            for test in here.every():
                there.put(test)
                here.forget(test)
    if moved:
        notice(f"{moved} runs that waited on this host are in the logbook now")


def _move(waiting: Logbook, logbook: Logbook, run: str, notice: Notice) -> int:
    try:
        logbook.add(waiting.record(run))
    except RecordError as error:
        notice(f"a run stays on this host: {error.message}")
        return 0
    waiting.remove([run])
    return 1


def keep_in_spool(place: str, record: RunRecord) -> bool:
    """Keeps a run that the database did not take; False where that cannot be done, and for a logbook that is a file."""
    spool = spool_of(place)
    if spool is None:
        return False
    try:
        with closing(Logbook(str(spool))) as waiting:
            waiting.add(record)
    except LogbookError:
        return False
    return True


class LastingSiteBook:
    """The tests of a site for a coordinator that goes on while the database is away. A logbook that is a file has no
    such excuse: there every method raises LogbookError."""

    def __init__(self, place: str, site: str, notice: Notice, clock: Clock = SYSTEM, *, lasting: bool = True) -> None:
        """Not `lasting`, it raises LogbookError while a database is away, too."""
        self._place, self._site, self._notice, self._clock = place, site, notice, clock
        self._spool = spool_of(place) if lasting else None
        self._home: Logbook | None = None
        self._ask_again_ns = 0
        self._away = False

    def __enter__(self) -> "LastingSiteBook":
        return self

    def __exit__(self, *_: object) -> None:
        if self._home:
            self._home.close()

    def do(
        self, what: Callable[Concatenate[SiteBook, GivenP], ResultT], *given: GivenP.args, **named: GivenP.kwargs
    ) -> ResultT:
        """Does something with the tests of the site, where they can be reached now: a method of SiteBook."""
        if self._spool is None:
            self._home = self._home or Logbook(self._place)
            return what(SiteBook(self._home, self._site), *given, **named)
        home = self._opened(self._spool)
        if home:
            try:
                return what(SiteBook(home, self._site), *given, **named)
            except LogbookError as away:
                self._lose(away)
        with closing(Logbook(str(self._spool))) as waiting:
            return what(SiteBook(waiting, self._site), *given, **named)

    def _opened(self, spool: Path) -> Logbook | None:
        """The database, with all that waited for it; None while it is away, which is asked now and then."""
        if self._home is None and self._clock.now_ns() < self._ask_again_ns:
            return None
        try:
            self._home = self._home or Logbook(self._place)
            drain(spool, self._home, self._notice)
        except LogbookNewerError:
            raise
        except LogbookError as away:
            self._lose(away)
            return None
        if self._away:
            self._notice("the logbook is back")
        self._away = False
        return self._home

    def _lose(self, away: LogbookError) -> None:
        if not self._away:
            self._notice(f"{away.message}; what happens is kept on this host until it is back")
        self._away = True
        if self._home:
            self._home.close()
        self._home, self._ask_again_ns = None, self._clock.now_ns() + int(_ASK_AGAIN_S * 1e9)
