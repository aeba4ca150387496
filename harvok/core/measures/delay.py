"""Delays in constant memory, block by block (core.measures.bins). Min, max, mean and the differences of successive
delays are exact.
"""

from collections.abc import Iterable

import numpy as np
from numpy.typing import NDArray

from harvok.core.measures.bins import BINS, BINS_A_DOUBLING, BITS, RESOLUTION, edges_of
from harvok.core.trials.frames import DelaySummary

_KEPT_A_DOUBLING = 8
"""Bins of a doubling in a record: enough to draw a distribution."""


def bins_of(delays_ns: NDArray[np.int64]) -> NDArray[np.int64]:
    """The bins that delays fall into."""
    doublings = np.maximum(np.frexp(delays_ns.astype(np.float64))[1] - (BITS + 1), 0)
    bins: NDArray[np.int64] = doublings * BINS_A_DOUBLING + (delays_ns >> doublings)
    return bins


class DelayHistogram:
    """Collects delays in nanoseconds, in the order of arrival. Delays below zero (a clock was set back) count as 0."""

    def __init__(self) -> None:
        self.counted = 0
        self._counts = np.zeros(BINS, dtype=np.int64)
        self._total_ns = 0
        self._min_ns = 0
        self._max_ns = 0
        self._changes_ns = 0
        self._first_ns = self._last_ns = 0

    def add(self, delays_ns: Iterable[int] | NDArray[np.int64]) -> None:
        """Counts delays in."""
        delays = delays_ns if isinstance(delays_ns, np.ndarray) else np.fromiter(delays_ns, dtype=np.int64)
        if not len(delays):
            return
        delays = np.maximum(delays, 0)
        np.add.at(self._counts, bins_of(delays), 1)
        minimum, maximum = int(delays.min()), int(delays.max())
        self._first_ns = self._first_ns if self.counted else int(delays[0])
        before = self._last_ns if self.counted else int(delays[0])
        self._min_ns = min(self._min_ns, minimum) if self.counted else minimum
        self._max_ns = max(self._max_ns, maximum)
        self._changes_ns += int(np.abs(np.diff(delays)).sum()) + abs(int(delays[0]) - before)
        self._last_ns = int(delays[-1])
        self._total_ns += int(delays.sum())
        self.counted += len(delays)

    def merge(self, later: "DelayHistogram") -> None:
        """Counts in what another has counted since."""
        if not later.counted:
            return
        before = self._last_ns if self.counted else later._first_ns
        self._counts += later._counts
        self._first_ns = self._first_ns if self.counted else later._first_ns
        self._min_ns = min(self._min_ns, later._min_ns) if self.counted else later._min_ns
        self._max_ns = max(self._max_ns, later._max_ns)
        self._changes_ns += later._changes_ns + abs(later._first_ns - before)
        self._last_ns = later._last_ns
        self._total_ns += later._total_ns
        self.counted += later.counted

    def quantile_ns(self, share: float) -> float:
        """The delay that `share` of all frames did not exceed, within the resolution; 0 when there is none."""
        if not self.counted:
            return 0.0
        number = int(np.searchsorted(np.cumsum(self._counts), share * self.counted))
        low, high = edges_of(number)
        return min(max((low + high) / 2, self._min_ns), self._max_ns)

    def summary(self) -> DelaySummary | None:
        """The delays in seconds, or None when no frame came."""
        if not self.counted:
            return None
        return DelaySummary(
            counted=self.counted,
            min_s=self._min_ns / 1e9,
            mean_s=self._total_ns / self.counted / 1e9,
            median_s=self.quantile_ns(0.5) / 1e9,
            p999_s=self.quantile_ns(0.999) / 1e9,
            max_s=self._max_ns / 1e9,
            jitter_s=self._changes_ns / (self.counted - 1) / 1e9 if self.counted > 1 else 0.0,
            resolution=RESOLUTION,
            distribution=self._distribution(),
        )

    def _distribution(self) -> list[tuple[float, int]]:
        """(upper edge in s, frames), coarser than what is counted."""
        width = BINS_A_DOUBLING // _KEPT_A_DOUBLING
        coarse = self._counts.reshape(-1, width).sum(axis=1)
        filled: list[int] = np.flatnonzero(coarse).tolist()
        return [(edges_of((number + 1) * width - 1)[1] / 1e9, int(coarse[number])) for number in filled]
