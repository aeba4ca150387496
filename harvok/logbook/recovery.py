"""Puts a run together from what its journal had when its process died."""

from collections.abc import Iterable, Sequence
from datetime import datetime
from typing import Annotated

from pydantic import Field

from harvok.core.device.trial import DeviceTrial
from harvok.core.fields import Model
from harvok.core.models.control import Fault
from harvok.core.models.run import RunRecord, TrialRecord
from harvok.core.samples import Event, SampleColumns, in_columns, replayed
from harvok.core.trials.any import Trial, TrialOutcome


class Entry(Model):
    """A line of the journal: a trial that starts, what was seen of it, or what it came to."""

    trial: Annotated[Trial, Field(discriminator="kind")] | None = None
    origin: datetime | None = None
    samples: list[SampleColumns] = []
    events: list[Event] = []
    device: DeviceTrial | None = None
    result: Annotated[TrialOutcome, Field(discriminator="kind")] | None = None

    def encode(self) -> str:
        return self.model_dump_json(exclude_none=True)


def put_together(record: RunRecord, entries: Sequence[tuple[int, str]]) -> RunRecord:
    """The record of a broken run, with everything that the journal has; entries are (trial number, JSON)."""
    by_trial: dict[int, list[Entry]] = {}
    for number, text in entries:
        by_trial.setdefault(number, []).append(Entry.model_validate_json(text))
    fault = Fault(
        reference="process-died",
        message="the process that measured this run died before it ended",
        hint="Measure again; if nobody killed it, look into the system's log for the reason.",
    )
    trials = [trial for of_trial in by_trial.values() for trial in _trial(of_trial)]
    return record.model_copy(update={"state": "broken", "trials": trials, "fault": fault})


def _trial(entries: Sequence[Entry]) -> Iterable[TrialRecord]:
    """One trial from its entries; nothing where its beginning was not written."""
    for entry in entries:
        if entry.trial:
            yield TrialRecord(
                trial=entry.trial,
                origin=next((e.origin for e in entries if e.origin), None),
                result=next((e.result for e in entries if e.result), None),
                samples=in_columns(sample for e in entries for sample in replayed(e.samples)),
                events=[event for e in entries for event in e.events],
                device=next((e.device for e in entries if e.device), None),
            )
