"""Writes a run into the logbook as it grows, in a thread of its own, so that a slow disk does not disturb the test.

While the logbook takes nothing, since another program has it locked or its disk is full, the journal goes on in a file
beside it, from which a run whose process dies meanwhile is put together as well.
"""

import contextlib
import queue
import threading
from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime

from harvok.core.device.trial import DeviceTrial
from harvok.core.models.run import TrialRecord
from harvok.core.observer import ORIGIN, START, Observer
from harvok.core.samples import Event, Sample, SampleTable, in_columns
from harvok.core.trials.any import Trial, TrialOutcome, TrialResult, outcome_of
from harvok.errors import LogbookError
from harvok.logbook.recovery import Entry
from harvok.logbook.store import Logbook
from harvok.signals import uninterrupted

_CLOSE_BEHIND_S = 0.1
"""The two halves of an interval come together: waiting this long saves the disk every second transaction."""


@dataclass(slots=True)
class _Growing:
    """A trial, and what has been seen of it so far."""

    trial: Trial
    origin: datetime | None = None
    outcome: TrialOutcome | None = None
    table: SampleTable = field(default_factory=SampleTable)
    events: list[Event] = field(default_factory=list)
    device: DeviceTrial | None = None

    @property
    def record(self) -> TrialRecord:
        return TrialRecord(
            trial=self.trial,
            origin=self.origin,
            result=self.outcome,
            samples=self.table.columns,
            events=self.events,
            device=self.device,
        )


class Journal(Observer):
    """Observes one run, whether or not the logbook can be written."""

    def __init__(self, logbook: Logbook, run: str) -> None:
        self.fault: LogbookError | None = None
        self._logbook, self._run = logbook, run
        self._trials: list[_Growing] = []
        self._waiting: list[tuple[int, str]] = []
        self._entries: queue.SimpleQueue[tuple[int, Entry] | None] = queue.SimpleQueue()
        self._closing = threading.Event()
        self._thread = threading.Thread(target=self._write, daemon=True)
        with uninterrupted():
            self._thread.start()

    @property
    def trials(self) -> list[TrialRecord]:
        """Every trial that began, with what has been seen of it."""
        return [trial.record for trial in self._trials]

    @property
    def events(self) -> list[Event]:
        """The events of all trials, in order."""
        return [event for trial in self._trials for event in trial.events]

    def trial_started(self, number: int, trial: Trial) -> None:
        self._trials.append(_Growing(trial))
        self._tell(Entry(trial=trial))

    def samples(self, samples: Sequence[Sample]) -> None:
        self._trials[-1].table.add(samples)
        self._tell(Entry(samples=in_columns(samples)))

    def happened(self, events: Sequence[Event]) -> None:
        origins = [event.values[ORIGIN] for event in events if event.name == START]
        origin = datetime.fromtimestamp(origins[0], UTC) if origins else None
        growing = self._trials[-1]
        growing.origin = growing.origin or origin
        growing.events.extend(events)
        self._tell(Entry(origin=origin, events=list(events)))

    def device_told(self, told: DeviceTrial) -> None:
        self._trials[-1].device = told
        self._tell(Entry(device=told))

    def trial_finished(self, number: int, result: TrialResult | TrialOutcome) -> None:
        self._trials[-1].outcome = outcome_of(result)
        self._tell(Entry(result=self._trials[-1].outcome))

    def close(self) -> None:
        """Waits until everything is written."""
        self._closing.set()
        self._entries.put(None)
        self._thread.join()

    def _tell(self, entry: Entry) -> None:
        self._entries.put((len(self._trials), entry))

    def _write(self) -> None:
        """Writes what has come, in one transaction with what comes close behind it."""
        open_ended = True
        while open_ended:
            entries = [self._entries.get()]
            self._closing.wait(_CLOSE_BEHIND_S)
            with contextlib.suppress(queue.Empty):
                while True:
                    entries.append(self._entries.get_nowait())
            open_ended = None not in entries
            self._keep([(trial, entry.encode()) for trial, entry in filter(None, entries)])

    def _keep(self, lines: list[tuple[int, str]]) -> None:
        """Into the logbook, with what it did not take before; else into the file beside it."""
        self._waiting += lines
        if not self._waiting:
            return
        try:
            self._logbook.add_to_journal(self._run, self._waiting)
        except LogbookError as fault:
            self.fault = fault  # the test goes on; at the end its record is saved elsewhere, if it is so still
            self._logbook.add_beside(self._run, lines)
        else:
            self._waiting.clear()
            if self.fault:
                self.fault = None
                self._logbook.forget_beside(self._run)
