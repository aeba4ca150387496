"""Measures a run and keeps it, whatever kind it is: begun in the logbook, journalled as it grows, never lost."""

import secrets
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from datetime import datetime

from harvok import __version__
from harvok.clock import Clock
from harvok.core.link import Link
from harvok.core.models.conditions import HostConditions
from harvok.core.models.control import Fault
from harvok.core.models.impairment import ImpairmentRecord
from harvok.core.models.preflight import Check
from harvok.core.models.run import AnyTest, FrameRigRecord, PortRecord, RigRecord, RunRecord
from harvok.core.observer import Observer, Observers
from harvok.errors import BrokenOffError, HarvokError, LogbookError, TesterLimitError
from harvok.logbook.store import Logbook
from harvok.runner.journal import Journal
from harvok.runner.rescue import rescue

_ID_LETTERS = "abcdefghjkmnpqrstuvwxyz23456789"  # none that look alike

Found = dict[str, object]
"""What a run has found so far: fields of its record by name."""
OnRecord = Callable[[RunRecord], None]


@dataclass(frozen=True, slots=True)
class Label:
    """What the user says about the runs."""

    series: str | None = None
    attributes: dict[str, str] = field(default_factory=dict)
    note: str = ""


def new_record(
    *,
    command: list[str],
    test: AnyTest,
    rig: RigRecord | PortRecord | FrameRigRecord,
    link: Link,
    label: Label,
    near: HostConditions,
    clock: Clock,
    far: HostConditions | None = None,
    notices: Sequence[str] = (),
    calibration: str | None = None,
    impairment: ImpairmentRecord | None = None,
    preflight: Sequence[Check] = (),
) -> RunRecord:
    """The record of a run that starts now."""
    started = clock.utc()
    return RunRecord(
        id=new_id(started),
        state="running",
        started=started,
        harvok=__version__,
        command=command,
        test=test,
        rig=rig,
        link=link,
        series=label.series,
        attributes=label.attributes,
        note=label.note,
        calibration=calibration,
        impairment=impairment,
        near=near,
        far=far,
        notices=list(notices),
        preflight=list(preflight),
    )


@dataclass(frozen=True, slots=True)
class Keeper:
    """Where runs go, and who hears of them; `on_record` gets each finished record, also one that broke off."""

    logbook: Logbook
    observer: Observer
    on_record: OnRecord
    clock: Clock

    def measure(self, record: RunRecord, how: Callable[[Observer, Journal, Found], None]) -> None:
        """Measures one run: `how` drives it, and puts what the record gains into what it is handed, as it is found.

        Raises whatever broke the run off, after its record was kept with what was found until then.
        """
        for notice in record.notices:
            self.observer.notice(notice)
        self.logbook.begin(record)
        journal, found = Journal(self.logbook, record.id), Found()
        try:
            how(Observers([journal, self.observer]), journal, found)
        except (HarvokError, KeyboardInterrupt) as broken:
            fault = broken if isinstance(broken, HarvokError) else _broken_off()
            told = Fault(reference=fault.reference, message=fault.message, hint=fault.hint)
            state = "invalid" if isinstance(fault, TesterLimitError) else "broken"
            self._keep(record.model_copy(update={"state": state, "fault": told, **found}), journal)
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
