"""Writes a run into the logbook as it grows, in a thread of its own, so that a slow disk does not disturb the test."""

import queue
import threading

from harvok.core.models.run import TrialRecord
from harvok.core.observer import Observer
from harvok.core.trial import HalfInterval, Trial, TrialResult
from harvok.errors import LogbookError
from harvok.logbook.recovery import encode_entry
from harvok.logbook.store import Logbook


class Journal(Observer):
    """Observes one run; `trials` is what has been seen so far, whether or not the logbook could be written."""

    def __init__(self, logbook: Logbook, run: str) -> None:
        self.trials: list[TrialRecord] = []
        self.fault: LogbookError | None = None
        self._logbook = logbook
        self._run = run
        self._entries: queue.SimpleQueue[tuple[int, Trial | HalfInterval] | None] = queue.SimpleQueue()
        self._thread = threading.Thread(target=self._write, daemon=True)
        self._thread.start()

    def trial_started(self, number: int, trial: Trial) -> None:
        self.trials.append(TrialRecord(trial=trial, intervals=[]))
        self._entries.put((number, trial))

    def interval(self, half: HalfInterval) -> None:
        self.trials[-1].intervals.append(half)
        self._entries.put((len(self.trials), half))

    def trial_finished(self, number: int, result: TrialResult) -> None:
        """The result holds the intervals, so that they need not be kept twice."""
        self.trials[number - 1] = TrialRecord(trial=self.trials[number - 1].trial, result=result)

    def close(self) -> None:
        """Waits until everything is written."""
        self._entries.put(None)
        self._thread.join()

    def _write(self) -> None:
        number = 0
        while entry := self._entries.get():
            number += 1
            trial, what = entry
            try:
                if not self.fault:
                    self._logbook.add_to_journal(self._run, number, trial, encode_entry(what))
            except LogbookError as fault:
                self.fault = fault  # the test goes on; its record is saved elsewhere at the end
