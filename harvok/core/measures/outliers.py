"""Which of few repeats stand apart from the rest.

The test is that of Iglewicz and Hoaglin (How to Detect and Handle Outliers, ASQC 1993): the distance from the median,
over 1.4826 times the median absolute deviation. It takes all repeats, none trimmed, and two dead ones of five do not
hide each other, as they do from a test that takes mean and deviation (Grubbs, Dixon). Their limit of 3.5 is meant for
large samples: of five good normal values it would point at one in every fifth series. The limits here are those that
one good series in a hundred passes, for each number of repeats (quantiles of 100 000 drawn series).
"""

import statistics
from bisect import bisect_right
from collections.abc import Sequence

METHOD = "median absolute deviation, 1 % level"
MIN_REPEATS = 4
"""With three values, two that agree by chance make the third stand apart."""
_SCALE = 1.4826
"""Of the median deviation to the standard deviation of normal values: 1 / Φ⁻¹(3/4)."""
_LIMITS = {4: 15.9, 5: 18.8, 6: 10.6, 8: 8.2, 10: 6.8, 12: 6.3, 15: 6.0, 20: 5.2, 30: 4.8, 50: 4.5}
_OF_NOTE = 0.01
"""Of the median, at least: repeats on one good path differ by some tenths of a percent, and three of them that agree
to the last digit must not make a fault of that."""


def apart(values: Sequence[float], margin: float = 0.0) -> list[int]:
    """The places of the values that stand apart; `margin` is a distance, in their unit, that is never of note."""
    if len(values) < MIN_REPEATS:
        return []
    median = statistics.median(values)
    distances = [abs(value - median) for value in values]
    counts = list(_LIMITS)
    limit = _LIMITS[counts[bisect_right(counts, len(values)) - 1]]
    reach = max(limit * _SCALE * statistics.median(distances), _OF_NOTE * abs(median), margin)
    return [place for place, distance in enumerate(distances) if distance > reach]
