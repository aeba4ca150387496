"""Whether values rise or fall beyond chance, and how fast: without assuming anything of how they scatter."""

import math
from collections.abc import Sequence

LIKELY, SURE = 1.96, 2.58
"""Standard deviations that stand for the 5 and for the 1 % level."""


def median_slope(places: Sequence[float], values: Sequence[float], min_apart: float = 0.0) -> float | None:
    """The median of the slopes between all pairs that are more than `least_apart` from one another (Theil and Sen);
    None when no pair is."""
    slopes = sorted(
        (values[later] - values[earlier]) / (places[later] - places[earlier])
        for earlier in range(len(values))
        for later in range(earlier + 1, len(values))
        if places[later] - places[earlier] > min_apart
    )
    return slopes[len(slopes) // 2] if slopes else None


def kendall_score(values: Sequence[float]) -> int:
    """Kendall's score: pairs in rising order less pairs in falling order."""
    return sum((b > a) - (b < a) for i, a in enumerate(values) for b in values[i + 1 :])


def is_trend(values: Sequence[float], level: float) -> bool:
    """Whether values rise or fall beyond chance, by `level` standard deviations (Mann and Kendall, corrected)."""
    n = len(values)
    return abs(kendall_score(values)) - 1 >= level * math.sqrt(n * (n - 1) * (2 * n + 5) / 18)
