"""Times of numbered datagrams from stamp to stamp, in constant memory: level, variation, jitter.

Both stamps come from clocks that may differ by anything, so the times may be of any size and sign. The histogram is
therefore centred on the first of them: a bin is never wider than 1/128 of its distance from there.
"""

import numpy as np
from numpy.typing import NDArray

from harvok.core.measures.bins import BINS, edges_of
from harvok.core.measures.delay import bins_of
from harvok.core.trials.udp import TransitSummary

Times = NDArray[np.int64]

_JITTER_MEMORY = 640
"""(15/16)^640 is below one part in 10^17: what came before cannot show in a float."""
_JITTER_WEIGHTS = (15 / 16) ** np.arange(_JITTER_MEMORY - 1, -1, -1) / 16
_KEPT_A_DOUBLING = 16


class Jitter:
    """J += (|D| − J) / 16, with D the change of the time from one datagram to the next (RFC 3550 §6.4.1)."""

    def __init__(self) -> None:
        self.value_ns = 0.0
        self._last_ns: int | None = None

    def add(self, transit_ns: Times) -> Times:
        """Counts times in, in the order of arrival; returns the absolute changes."""
        before = transit_ns[:1] if self._last_ns is None else np.array([self._last_ns])
        changes: Times = np.abs(np.diff(np.concatenate((before, transit_ns))))
        if self._last_ns is None:
            changes = changes[1:]
        self._last_ns = int(transit_ns[-1])
        recent = changes[-_JITTER_MEMORY:]
        if len(recent):
            faded = self.value_ns * (15 / 16) ** len(changes)
            self.value_ns = faded + float(recent @ _JITTER_WEIGHTS[-len(recent) :])
        return changes


class Transit:
    """Collects times in nanoseconds, in the order of arrival."""

    def __init__(self) -> None:
        self.counted = 0
        self.jitter = Jitter()
        self._first_ns = 0
        self._above = np.zeros(BINS, dtype=np.int64)
        self._below = np.zeros(BINS, dtype=np.int64)
        self._min_ns = self._max_ns = 0
        self._total_ns = self._changes_ns = 0

    def add(self, transit_ns: Times) -> None:
        """Counts times in."""
        if not len(transit_ns):
            return
        if not self.counted:
            self._first_ns = self._min_ns = self._max_ns = int(transit_ns[0])
        self._changes_ns += int(self.jitter.add(transit_ns).sum())
        distances = transit_ns - self._first_ns
        below = distances < 0
        np.add.at(self._above, bins_of(distances[~below]), 1)
        if below.any():
            np.add.at(self._below, bins_of(-distances[below]), 1)
        self._min_ns = min(self._min_ns, int(transit_ns.min()))
        self._max_ns = max(self._max_ns, int(transit_ns.max()))
        self._total_ns += int(distances.sum())
        self.counted += len(transit_ns)

    def quantile_ns(self, share: float) -> float:
        """The time that `share` of all datagrams did not exceed."""
        counts, centres = self._bins()
        number = int(np.searchsorted(np.cumsum(counts), share * self.counted))
        return min(max(self._first_ns + float(centres[number]), self._min_ns), self._max_ns)

    def _bins(self) -> tuple[NDArray[np.int64], NDArray[np.float64]]:
        """(how many, distance from the first) of every bin that has any, in ascending order."""
        low, high = np.flatnonzero(self._below)[::-1], np.flatnonzero(self._above)
        centres = [-sum(edges_of(int(n))) / 2 for n in low] + [sum(edges_of(int(n))) / 2 for n in high]
        return np.concatenate((self._below[low], self._above[high])), np.array(centres)

    def summary(self) -> TransitSummary | None:
        """The times in seconds; None when there were none."""
        if not self.counted:
            return None
        median, p99, p999 = (self.quantile_ns(share) - self._min_ns for share in (0.5, 0.99, 0.999))
        return TransitSummary(
            counted=self.counted,
            min_s=self._min_ns / 1e9,
            mean_s=(self._first_ns + self._total_ns / self.counted) / 1e9,
            max_s=self._max_ns / 1e9,
            variation_median_s=median / 1e9,
            variation_p99_s=p99 / 1e9,
            variation_p999_s=p999 / 1e9,
            changes_mean_s=self._changes_ns / (self.counted - 1) / 1e9 if self.counted > 1 else 0.0,
            jitter_s=self.jitter.value_ns / 1e9,
            distribution=self._distribution(),
        )

    def _distribution(self) -> list[tuple[float, int]]:
        """(upper edge above the least in s, datagrams), coarser than what is counted."""
        counts, centres = self._bins()
        above_min = np.maximum(np.round(self._first_ns + centres - self._min_ns), 1).astype(np.int64)
        width = 128 // _KEPT_A_DOUBLING
        coarse = bins_of(above_min) // width
        return [
            (edges_of(int(number + 1) * width - 1)[1] / 1e9, int(counts[coarse == number].sum()))
            for number in np.unique(coarse)
        ]
