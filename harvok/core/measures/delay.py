"""Delays in constant memory: a histogram whose bins are never wider than 1/128 of their value.

Up to 255 ns every nanosecond has its own bin; above, each doubling of the value has 128 bins. Least, greatest, mean
and the differences of successive delays are exact.
"""

from collections.abc import Iterable
from dataclasses import dataclass, field

from harvok.core.frame_trial import DelaySummary

_BINS_A_DOUBLING = 128
RESOLUTION = 1 / _BINS_A_DOUBLING


def bin_of(delay_ns: int) -> int:
    """The bin that a delay falls into."""
    doublings = max(delay_ns.bit_length() - 8, 0)
    return doublings * _BINS_A_DOUBLING + (delay_ns >> doublings)


def middle_of(number: int) -> float:
    """The middle of a bin, in nanoseconds."""
    if number < 2 * _BINS_A_DOUBLING:
        return float(number)
    doublings = number // _BINS_A_DOUBLING - 1
    low = (number - doublings * _BINS_A_DOUBLING) << doublings
    return low + ((1 << doublings) - 1) / 2


@dataclass(slots=True)
class DelayHistogram:
    """Collects delays in nanoseconds, in the order of arrival."""

    counts: dict[int, int] = field(default_factory=dict)
    counted: int = 0
    total_ns: int = 0
    least_ns: int = 0
    most_ns: int = 0
    changes_ns: int = 0
    last_ns: int = 0

    def add(self, delays_ns: Iterable[int]) -> None:
        """Counts delays in."""
        for delay_ns in delays_ns:
            number = bin_of(delay_ns)
            self.counts[number] = self.counts.get(number, 0) + 1
            if self.counted:
                self.changes_ns += abs(delay_ns - self.last_ns)
                self.least_ns, self.most_ns = min(self.least_ns, delay_ns), max(self.most_ns, delay_ns)
            else:
                self.least_ns = self.most_ns = delay_ns
            self.last_ns = delay_ns
            self.counted += 1
            self.total_ns += delay_ns

    def quantile_ns(self, share: float) -> float:
        """The delay that `share` of all frames did not exceed, within the resolution; 0 when there is none."""
        wanted, seen = share * self.counted, 0
        for number in sorted(self.counts):
            seen += self.counts[number]
            if seen >= wanted:
                return min(max(middle_of(number), self.least_ns), self.most_ns)
        return 0.0

    def summary(self) -> DelaySummary | None:
        """The delays in seconds, or None when no frame came."""
        if not self.counted:
            return None
        return DelaySummary(
            counted=self.counted,
            least_s=self.least_ns / 1e9,
            mean_s=self.total_ns / self.counted / 1e9,
            median_s=self.quantile_ns(0.5) / 1e9,
            p999_s=self.quantile_ns(0.999) / 1e9,
            most_s=self.most_ns / 1e9,
            jitter_s=self.changes_ns / (self.counted - 1) / 1e9 if self.counted > 1 else 0.0,
            resolution=RESOLUTION,
        )
