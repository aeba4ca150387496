"""The account of one flow of numbered datagrams at its receiver: in total, and since the last interval."""

from dataclasses import dataclass

import numpy as np

from harvok.core.measures.arrivals import Arrivals, Numbers
from harvok.core.measures.transit import Times, Transit


@dataclass(frozen=True, slots=True)
class FlowInterval:
    """What came in since the account was last asked; see core.udp_trial.UdpInterval."""

    datagrams: int
    missing: int
    duplicates: int
    reordered: int
    longest_run: int
    jitter_s: float | None
    min_transit_s: float | None
    mean_transit_s: float | None
    max_transit_s: float | None


class FlowAccount:
    """Feed it numbers, stamps and arrival times in the order of arrival, in portions of any size."""

    def __init__(self, window: int) -> None:
        self.arrivals = Arrivals(window)
        self.transit = Transit()
        self.longest_silence_ns = 0
        self._last_at_ns = 0
        self._last_stamp_ns = -1
        self._before = (0, 0, 0, -1)
        self._run = self._times = self._total_ns = 0
        self._min_ns: int | None = None
        self._max_ns: int | None = None

    def add(self, numbers: Numbers, stamps_ns: Times, at_ns: Times) -> None:
        """Counts a portion in. Of datagrams that share a stamp, being of one batch, the first alone tells the time."""
        before = self.arrivals.highest
        self.arrivals.add(numbers)
        self._run = max(self._run, _longest_jump(before, numbers))
        own = stamps_ns != np.concatenate(([self._last_stamp_ns], stamps_ns[:-1]))
        transit = (at_ns - stamps_ns)[own]
        self._last_stamp_ns = int(stamps_ns[-1])
        self.transit.add(transit)
        if len(transit):
            self._times += len(transit)
            self._total_ns += int(transit.sum())
            minimum, maximum = int(transit.min()), int(transit.max())
            self._min_ns = minimum if self._min_ns is None else min(self._min_ns, minimum)
            self._max_ns = maximum if self._max_ns is None else max(self._max_ns, maximum)
        self._note_silence(at_ns)

    def _note_silence(self, at_ns: Times) -> None:
        since = self._last_at_ns or int(at_ns[0])
        within = int(np.diff(at_ns).max(initial=0))
        self.longest_silence_ns = max(self.longest_silence_ns, within, int(at_ns[0]) - since)
        self._last_at_ns = int(at_ns[-1])

    def interval(self) -> FlowInterval:
        """What came in since this was last asked."""
        received, duplicates, reordered, highest = self._before
        now = (self.arrivals.received, self.arrivals.duplicates, self.arrivals.reordered, self.arrivals.highest)
        datagrams = now[0] - received
        seconds = [None if ns is None else ns / 1e9 for ns in (self._min_ns, self._max_ns)]
        reported = FlowInterval(
            datagrams=datagrams,
            missing=now[3] - highest - datagrams,
            duplicates=now[1] - duplicates,
            reordered=now[2] - reordered,
            longest_run=self._run,
            jitter_s=self.transit.jitter.value_ns / 1e9 if self.transit.counted > 1 else None,
            min_transit_s=seconds[0],
            mean_transit_s=self._total_ns / self._times / 1e9 if self._times else None,
            max_transit_s=seconds[1],
        )
        self._before = now
        self._run = self._times = self._total_ns = 0
        self._min_ns = self._max_ns = None
        return reported


def _longest_jump(highest: int, numbers: Numbers) -> int:
    """The longest run of numbers that were stepped over; late ones may fill it yet."""
    reached = np.maximum.accumulate(np.concatenate(([highest], numbers)))
    return int(np.diff(reached).max(initial=1)) - 1 if len(numbers) else 0
