"""Measures a run and keeps it, whatever kind it is: begun in the logbook, journalled as it grows, never lost."""

import secrets
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from datetime import datetime

from harvok.clock import Clock
from harvok.core.models.control import Fault
from harvok.core.models.run import RunRecord
from harvok.core.observer import Observer, Observers
from harvok.errors import BrokenOffError, HarvokError, LogbookError
from harvok.logbook.store import Logbook
from harvok.runner.journal import Journal
from harvok.runner.rescue import rescue

_ID_LETTERS = "abcdefghjkmnpqrstuvwxyz23456789"  # none that look alike

OnRecord = Callable[[RunRecord], None]


@dataclass(frozen=True, slots=True)
class Label:
    """What the user says about the runs."""

    series: str | None = None
    attributes: dict[str, str] = field(default_factory=dict)
    note: str = ""


@dataclass(frozen=True, slots=True)
class Keeper:
    """Where runs go, and who hears of them; `on_record` gets each finished record, also one that broke off."""

    logbook: Logbook
    observer: Observer
    on_record: OnRecord
    clock: Clock

    def measure(self, record: RunRecord, how: Callable[[Observer, Journal], Mapping[str, object]]) -> None:
        """Measures one run: `how` drives it, and returns what the record gains by it.

        Raises whatever broke the run off, after its record was kept.
        """
        for notice in record.notices:
            self.observer.notice(notice)
        self.logbook.begin(record)
        journal = Journal(self.logbook, record.id)
        try:
            found = how(Observers([journal, self.observer]), journal)
        except (HarvokError, KeyboardInterrupt) as broken:
            fault = broken if isinstance(broken, HarvokError) else _broken_off()
            told = Fault(reference=fault.reference, message=fault.message, hint=fault.hint)
            self._keep(record.model_copy(update={"state": "broken", "fault": told}), journal)
            raise fault from broken
        self._keep(record.model_copy(update={"state": "complete", **found}), journal)

    def _keep(self, record: RunRecord, journal: Journal) -> None:
        """Puts the final record into the logbook, or into a file when the logbook does not take it."""
        journal.close()
        record = record.model_copy(update={"ended": self.clock.utc(), "trials": journal.trials})
        try:
            self.logbook.finish(record)
        except LogbookError as error:
            path = rescue(record)
            where = f"in {path}: `harvok logbook import` takes it" if path else "nowhere: no folder takes it"
            self.observer.notice(f"{error.message}; its record is {where}")
        self.on_record(record)


def new_id(started: datetime) -> str:
    """The id of a run that starts now: its time in UTC, and four letters against coincidence."""
    return f"{started:%Y%m%d-%H%M%S}-{''.join(secrets.choice(_ID_LETTERS) for _ in range(4))}"


def _broken_off() -> BrokenOffError:
    return BrokenOffError("broken off at the keyboard", "What was measured until then is in the logbook.")
