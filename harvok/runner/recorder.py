"""Measures a run and keeps it, whatever kind it is: begun in the logbook, journalled as it grows, never lost."""

import secrets
from collections.abc import Callable, Iterator
from contextlib import closing, contextmanager
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from typing import Any, Protocol

from harvok.clock import Clock
from harvok.core.bounds import UNLIKE_LETTERS
from harvok.core.judgement.finding import Finding
from harvok.core.models.control import Fault
from harvok.core.models.run import RunRecord
from harvok.core.observer import Observer, Observers
from harvok.core.procedure import Findings
from harvok.core.samples import Event
from harvok.errors import BrokenOffError, HarvokError, LogbookError, NotKeptError, TesterLimitError
from harvok.logbook.spool import keep_in_spool, spool_of
from harvok.logbook.store import Logbook
from harvok.runner.journal import Journal
from harvok.runner.rescue import rescue

OnRecord = Callable[[RunRecord], None]
Work = Callable[[Observer, Findings], None]
"""Drives a run: tells an observer, and fills in what it finds."""
Judge = Callable[[Findings, list[Event]], list[Finding]]


class Recorder(Protocol):
    """What measures runs, and the logbook in which it looks for earlier ones."""

    @property
    def logbook(self) -> Logbook: ...

    @property
    def observer(self) -> Observer: ...

    @property
    def clock(self) -> Clock: ...

    def measure(self, record: RunRecord, work: Work, judge: Judge) -> None:
        """Measures one run. Raises whatever broke it off."""


@dataclass(frozen=True, slots=True)
class RunRecorder:
    """Where runs go, and who hears of them; `on_record` gets each finished record, also one that broke off."""

    logbook: Logbook
    observer: Observer
    on_record: OnRecord
    clock: Clock

    def measure(self, record: RunRecord, work: Work, judge: Judge) -> None:
        """Measures one run.

        Raises whatever broke it off, after its record was kept with what was found until then.
        """
        for notice in record.notices:
            self.observer.notice(notice)
        with self._begun(record) as book:
            self._measure(record, book, work, judge)

    @contextmanager
    def _begun(self, record: RunRecord) -> Iterator[Logbook]:
        """The logbook, in which the run has begun; or, while it takes nothing, the file in which runs wait for it."""
        try:
            self.logbook.begin(record)
        except LogbookError as away:
            spool = spool_of(self.logbook.place)
            if spool is None:
                raise
            self.observer.notice(f"{away.message}; the run is kept on this host until it is back")
            with closing(Logbook(str(spool))) as waiting:
                waiting.begin(record)
                yield waiting
        else:
            yield self.logbook

    def _measure(self, record: RunRecord, book: Logbook, work: Work, judge: Judge) -> None:
        journal, findings = Journal(book, record.id), Findings(notices=list(record.notices))
        try:
            work(Observers([journal, self.observer]), findings)
        except (HarvokError, KeyboardInterrupt) as broken:
            fault = broken if isinstance(broken, HarvokError) else _broken_off()
            state = "invalid" if isinstance(fault, TesterLimitError) else "broken"
            reason = Fault(reference=fault.reference, message=fault.message, hint=fault.hint)
            self._keep(record, book, journal, findings, {"state": state, "fault": reason})
            raise fault from broken
        kept = self._keep(
            record, book, journal, findings, {"state": "complete", "findings": judge(findings, journal.events)}
        )
        if kept:
            raise kept

    def _keep(
        self, record: RunRecord, book: Logbook, journal: Journal, findings: Findings, more: dict[str, Any]
    ) -> NotKeptError | None:
        """Puts the final record into the logbook, or into a file when the logbook does not take it, which is the error
        that it returns."""
        journal.close()
        record = record.model_copy(
            update={
                "ended": self.clock.utc(),
                "trials": journal.trials,
                "figures": findings.figures,
                "readings": findings.readings,
                "notices": findings.notices,
                **more,
            }
        )
        not_kept = None
        try:
            book.finish(record)
        except LogbookError as error:
            if keep_in_spool(book.place, record):
                self.observer.notice(f"{error.message}; the run is kept on this host until it is back")
                self.on_record(record)
                return None
            not_kept = _not_kept(error, rescue(record))
            self.observer.notice(not_kept.message)
        self.on_record(record)
        return not_kept


def new_id(started: datetime, is_taken: Callable[[str], bool]) -> str:
    """The id of a run that starts now: its time in UTC, and four letters against coincidence. Runs on a model take
    hundredths of a second, so that a sweep has dozens with one time, and coincidence comes about."""
    while True:
        made = f"{started:%Y%m%d-%H%M%S}-{''.join(secrets.choice(UNLIKE_LETTERS) for _ in range(4))}"
        if not is_taken(made):
            return made


def _not_kept(error: LogbookError, path: Path | None) -> NotKeptError:
    if path is None:
        return NotKeptError(
            f"not kept in the logbook, nor anywhere else: {error.message}, and no folder takes a file",
            "Make room, and measure again; `--json` shows a record that is not kept.",
        )
    return NotKeptError(
        f"not kept in the logbook; kept in {path}: {error.message}",
        f"Put it there once the logbook works again: harvok logbook import {path}",
    )


def _broken_off() -> BrokenOffError:
    return BrokenOffError("broken off at the keyboard", "What was measured until then is in the logbook.")
