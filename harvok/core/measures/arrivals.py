"""Exact accounting of numbered frames in constant memory: received, lost, duplicated, out of order.

The last `window` numbers are remembered one by one; a number that leaves the window unseen is lost for good. Frames
that arrive even later count as lost and are told apart in `too_late`.
"""

import numpy as np
from numpy.typing import NDArray

Numbers = NDArray[np.int64]

WINDOW = 1 << 22
"""At ten-gigabit line rate with 1518-byte frames five seconds, at 1.5 million frames/s nearly three."""


class Arrivals:
    """Feed it the sequence numbers in the order of arrival, in portions of any size, and read the counts."""

    def __init__(self, window: int = WINDOW) -> None:
        self.received = 0
        self.duplicates = 0
        self.reordered = 0
        self.too_late = 0
        self._window = window
        self._seen = np.full(window, -1, dtype=np.int32)  # for each place: the lap of the number last seen there
        self._next = 0
        self._last_lost = -1
        self._runs: dict[int, int] = {}
        self._open_run = 0  # of lost numbers that goes on to the edge of what has left the window

    def add(self, numbers: Numbers) -> bool:
        """Counts a portion in; returns whether all its numbers followed one upon the other.

        Reordering is RFC 4737 §3.2: a number smaller than one that came before it.
        """
        if not len(numbers):
            return True
        span = int(numbers.max()) - int(numbers.min())
        if max(len(numbers), span) <= self._window // 2 or len(numbers) == 1:
            return self._add_portion(numbers)
        half = len(numbers) // 2  # what is older than the window would pass for lost
        return self.add(numbers[:half]) & self.add(numbers[half:])

    def add_run(self, first: int, count: int) -> None:
        """Counts in numbers that follow one upon the other, the first of them above every one before: what `add` would
        find out of them itself."""
        self._advance(first + count)
        self._mark_run(first, first + count)
        self.received += count

    def _add_portion(self, numbers: Numbers) -> bool:
        first, last = int(numbers[0]), int(numbers[-1])
        if first >= self._next and last - first == len(numbers) - 1 and bool((numbers[1:] - numbers[:-1] == 1).all()):
            self.add_run(first, len(numbers))
            return True
        self._add_disturbed(numbers)
        return False

    @property
    def highest(self) -> int:
        """The highest number that came; -1 when none did."""
        return self._next - 1

    def last_lost(self) -> int | None:
        """The highest number below the highest that came which itself never came; None when all did."""
        self._look_for_losses(max(self._next - self._window, 0), self._next)
        return self._last_lost if self._last_lost >= 0 else None

    def loss_runs(self) -> dict[int, int]:
        """How many runs of lost numbers there were, by their length; all below the highest number that came."""
        runs, open_run = dict(self._runs), self._open_run
        for low, high in self._places(max(self._next - self._window, 0), self._next):
            open_run = _add_runs(runs, open_run, self._unseen(low, high), high - low)
        if open_run:
            runs[open_run] = runs.get(open_run, 0) + 1
        return dict(sorted(runs.items()))

    def _add_disturbed(self, numbers: Numbers) -> None:
        before = np.maximum.accumulate(np.concatenate(([self._next - 1], numbers)))[:-1]
        self._advance(max(self._next, int(numbers.max()) + 1))
        timely = numbers >= self._next - self._window
        self.too_late += int((~timely).sum())
        numbers, before = numbers[timely], before[timely]
        distinct, at = np.unique(numbers, return_index=True)
        places, laps = distinct % self._window, distinct // self._window
        fresh = self._seen[places] != laps
        self._seen[places[fresh]] = laps[fresh]
        self.duplicates += len(numbers) - int(fresh.sum())
        self.received += int(fresh.sum())
        self.reordered += int((distinct < before[at])[fresh].sum())

    def _advance(self, upto: int) -> None:
        """Moves the window up to the number before `upto`, and looks for losses among those that leave it."""
        leaving_from, leaving_to = max(self._next - self._window, 0), upto - self._window
        left_to = min(leaving_to, self._next)
        self._look_for_losses(leaving_from, left_to)
        for low, high in self._places(leaving_from, left_to):
            self._open_run = _add_runs(self._runs, self._open_run, self._unseen(low, high), high - low)
        if leaving_to > self._next:
            self._last_lost = leaving_to - 1
            self._open_run += leaving_to - self._next
        self._next = upto

    def _look_for_losses(self, start: int, end: int) -> None:
        """Remembers the highest number of [start, end) that never came."""
        for low, high in self._places(start, end):
            unseen = self._unseen(low, high)
            if len(unseen):
                self._last_lost = max(self._last_lost, low + int(unseen[-1]))

    def _unseen(self, low: int, high: int) -> Numbers:
        """Which of the numbers of one stretch never came, counted from its start."""
        return np.flatnonzero(self._seen[low % self._window :][: high - low] != low // self._window)

    def _mark_run(self, start: int, end: int) -> None:
        for low, high in self._places(start, end):
            self._seen[low % self._window :][: high - low] = low // self._window

    def _places(self, start: int, end: int) -> list[tuple[int, int]]:
        """The stretches of [start, end) that are whole in memory: one, or two where it goes round."""
        if end <= start:
            return []
        turn = (start // self._window + 1) * self._window
        return [(start, end)] if end <= turn else [(start, turn), (turn, end)]


def _add_runs(runs: dict[int, int], open_run: int, unseen: Numbers, length: int) -> int:
    """Adds the runs of a stretch to `runs`; returns the length of the one that is open at its end."""
    if len(unseen) == length:
        return open_run + length
    cuts = np.flatnonzero(np.diff(unseen) > 1) + 1
    pieces = [(int(piece[0]), len(piece)) for piece in np.split(unseen, cuts) if len(piece)]
    if open_run and (not pieces or pieces[0][0] > 0):
        pieces.insert(0, (0, 0))
    for start, count in pieces:
        run = count + (open_run if start == 0 else 0)
        if start + count == length and count:
            return run
        runs[run] = runs.get(run, 0) + 1
    return 0
