"""Whether values rise or fall beyond chance, and how fast: without assuming anything of how they scatter."""

import math
from collections.abc import Sequence

LIKELY, SURE = 1.96, 2.58
"""Standard deviations that stand for the 5 and for the 1 % level."""
_MAX_POINTS = 3000


def median_slope(places: Sequence[float], values: Sequence[float], min_apart: float = 0.0) -> float | None:
    """The median of the slopes between all pairs that are more than `min_apart` from one another (Theil and Sen); None
    when no pair is. Of very many values, groups of neighbours stand in by their medians."""
    import numpy as np  # a tenth of a second, which no command that only reads this module should wait for

    size = -(-len(values) // _MAX_POINTS)
    groups = range(0, len(values), max(size, 1))
    at = np.array([np.median(places[first : first + size]) for first in groups])
    of = np.array([np.median(values[first : first + size]) for first in groups])
    slopes = [np.empty(0)]
    for first in range(len(at) - 1):
        apart = at[first + 1 :] - at[first]
        far = apart > min_apart
        slopes.append((of[first + 1 :] - of[first])[far] / apart[far])
    every = np.concatenate(slopes)
    middle = every.size // 2
    return float(np.partition(every, middle)[middle]) if every.size else None


def kendall_score(values: Sequence[float]) -> int:
    """Kendall's score: pairs in rising order less pairs in falling order."""
    import numpy as np

    of = np.asarray(values, float)
    return int(sum(np.sign(of[first + 1 :] - of[first]).sum() for first in range(len(of) - 1)))


def is_trend(values: Sequence[float], level: float) -> bool:
    """Whether values rise or fall beyond chance, by `level` standard deviations (Mann and Kendall, corrected)."""
    n = len(values)
    return abs(kendall_score(values)) - 1 >= level * math.sqrt(n * (n - 1) * (2 * n + 5) / 18)
