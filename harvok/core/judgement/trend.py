"""One figure over the months: is it still what it was?"""

import math
from collections.abc import Sequence
from dataclasses import dataclass

from harvok.core.judgement.criteria import is_trend
from harvok.core.measures.statistics import summarise

MONTH_DAYS = 30.0
_BAND = 3.0  # standard deviations of the baseline to either side
_LEAST_BAND = 0.005  # of the mean: what nobody would call a change
_LIKELY = 1.96


@dataclass(frozen=True, slots=True)
class Point:
    """One run: days since the first, and the figure's value."""

    run: str
    day: float
    value: float


@dataclass(frozen=True, slots=True)
class Trend:
    """What the points say. The band is that of the first `baseline` runs; `change_a_month` is a ratio of their mean
    (Theil and Sen), None where points are too few or too close in time."""

    points: list[Point]
    baseline: int
    mean: float
    low: float
    high: float
    outside: list[Point]
    change_a_month: float | None
    beyond_chance: bool


def trend(points: Sequence[Point], baseline: int = 5) -> Trend:
    """Looks at points in the order of time; needs at least `baseline` of them."""
    first = summarise([point.value for point in points[:baseline]])
    reach = max(_BAND * first.deviation, _LEAST_BAND * abs(first.mean))
    low, high = first.mean - reach, first.mean + reach
    outside = [point for point in points if not low <= point.value <= high]
    slope = _slope_a_day(points)
    return Trend(
        points=list(points),
        baseline=min(baseline, len(points)),
        mean=first.mean,
        low=low,
        high=high,
        outside=outside,
        change_a_month=None if slope is None or not first.mean else slope * MONTH_DAYS / first.mean,
        beyond_chance=len(points) > baseline and is_trend([point.value for point in points], _LIKELY),
    )


def _slope_a_day(points: Sequence[Point]) -> float | None:
    """The median of the slopes between all pairs of points that are apart in time."""
    slopes = sorted(
        (later.value - earlier.value) / (later.day - earlier.day)
        for at, earlier in enumerate(points)
        for later in points[at + 1 :]
        if later.day - earlier.day > 0.01
    )
    middle = slopes[len(slopes) // 2] if slopes else math.nan
    return middle if math.isfinite(middle) else None
