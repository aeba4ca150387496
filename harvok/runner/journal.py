"""Writes a run into the logbook as it grows, in a thread of its own, so that a slow disk does not disturb the test."""

import contextlib
import queue
import threading

from harvok.core.models.run import TrialRecord
from harvok.core.observer import Observer
from harvok.core.trials.any import Trial, TrialResult
from harvok.core.trials.delay import DelayTrialResult
from harvok.core.trials.frames import FrameTrialResult
from harvok.core.trials.link import LinkTrialResult
from harvok.core.trials.tcp import TcpInterval
from harvok.core.trials.udp import UdpInterval
from harvok.errors import LogbookError
from harvok.logbook.recovery import Entry, encode_entry
from harvok.logbook.store import Logbook

_CLOSE_BEHIND_S = 0.1
"""The two halves of an interval come together: waiting this long saves the disk every second transaction."""


class Journal(Observer):
    """Observes one run; `trials` is what has been seen so far, whether or not the logbook could be written."""

    def __init__(self, logbook: Logbook, run: str) -> None:
        self.trials: list[TrialRecord] = []
        self.fault: LogbookError | None = None
        self._logbook = logbook
        self._run = run
        self._entries: queue.SimpleQueue[tuple[int, Entry] | None] = queue.SimpleQueue()
        self._closing = threading.Event()
        self._thread = threading.Thread(target=self._write, daemon=True)
        self._thread.start()

    def trial_started(self, number: int, trial: Trial) -> None:
        self.trials.append(TrialRecord(trial=trial, intervals=[]))
        self._entries.put((number, trial))

    def interval(self, half: TcpInterval) -> None:
        self.trials[-1].intervals.append(half)
        self._entries.put((len(self.trials), half))

    def datagrams(self, interval: UdpInterval) -> None:
        self.trials[-1].intervals.append(interval)
        self._entries.put((len(self.trials), interval))

    def trial_finished(self, number: int, result: TrialResult) -> None:
        """The result holds the intervals, so that they need not be kept twice."""
        self.trials[number - 1] = TrialRecord(trial=self.trials[number - 1].trial, result=result)
        if isinstance(result, (FrameTrialResult, DelayTrialResult, LinkTrialResult)):
            self._entries.put((number, result))

    def close(self) -> None:
        """Waits until everything is written."""
        self._closing.set()
        self._entries.put(None)
        self._thread.join()

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
            told = [(trial, encode_entry(what)) for trial, what in filter(None, entries)]
            try:
                if told and not self.fault:
                    self._logbook.add_to_journal(self._run, told)
            except LogbookError as fault:
                self.fault = fault  # the test goes on; its record is saved elsewhere at the end
