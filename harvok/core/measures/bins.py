"""The bins of every histogram of times: never wider than 1/128 of their value. Worker processes import this file.

Up to 255 ns every nanosecond has its own bin; above, each doubling of the value has 128 bins.
"""

from collections.abc import Iterable, Mapping, Sequence

BITS = 7
BINS_A_DOUBLING = 1 << BITS
BINS = (64 - BITS) * BINS_A_DOUBLING
RESOLUTION = 1 / BINS_A_DOUBLING


BINS_UP_TO_AN_HOUR = 36 * BINS_A_DOUBLING
"""What times below an hour need."""


def bin_of(time_ns: int) -> int:
    """The bin that a time falls into; times below zero (a clock was set back) count as 0."""
    doublings = max(time_ns, 0).bit_length() - BITS - 1
    return (doublings << BITS) + (time_ns >> doublings) if doublings > 0 else max(time_ns, 0)


def edges_of(number: int) -> tuple[int, int]:
    """The smallest and the largest time of a bin, in nanoseconds."""
    if number < 2 * BINS_A_DOUBLING:
        return number, number
    doublings = number // BINS_A_DOUBLING - 1
    low = (number - doublings * BINS_A_DOUBLING) << doublings
    return low, low + (1 << doublings) - 1


def sparse(counts: Sequence[int]) -> dict[int, int]:
    """The bins that hold anything."""
    return {number: count for number, count in enumerate(counts) if count}


def merged(histograms: Iterable[Mapping[int, int]]) -> dict[int, int]:
    """Several histograms as one."""
    total: dict[int, int] = {}
    for histogram in histograms:
        for number, count in histogram.items():
            total[number] = total.get(number, 0) + count
    return dict(sorted(total.items()))


def quantile_ns(histogram: Mapping[int, int], share: float) -> float:
    """The time that `share` of all did not exceed: the middle of its bin; 0 for an empty histogram."""
    wanted, seen = share * sum(histogram.values()), 0
    for number, count in sorted(histogram.items()):
        seen += count
        if seen >= wanted:
            low, high = edges_of(number)
            return (low + high) / 2
    return 0.0
