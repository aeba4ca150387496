"""One figure over the months: is it still what it was?"""

from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import datetime

from harvok.core.measures.changes import LevelChange, find_changes
from harvok.core.measures.drift import LIKELY, is_trend, median_slope
from harvok.core.measures.statistics import summarise

MONTH_DAYS = 30.0
_DAY_HOURS = 24.0
_BAND = 3.0
"""Standard deviations of the baseline to either side, as on a control chart: one in 370 good runs is outside."""
_MIN_BAND = 0.005
"""Of the mean: a baseline of five runs may agree by chance, and less than this nobody would call a change."""
_MIN_APART_DAYS = 0.01
"""A quarter of an hour: runs closer than this are repeats of one measurement, and say nothing about time."""


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
    first: datetime | None = None
    """When the first run was."""
    changes: list[LevelChange] = field(default_factory=list)
    """Where the level changed."""


def trend(points: Sequence[Point], baseline: int = 5, began: datetime | None = None) -> Trend:
    """Looks at points in the order of time; needs at least `baseline` of them. `began` is when the first of them was
    measured."""
    first = summarise([point.value for point in points[:baseline]])
    reach = max(_BAND * first.deviation, _MIN_BAND * abs(first.mean))
    low, high = first.mean - reach, first.mean + reach
    outside = [point for point in points if not low <= point.value <= high]
    values = [point.value for point in points]
    slope = median_slope([point.day for point in points], values, _MIN_APART_DAYS)
    return Trend(
        points=list(points),
        baseline=min(baseline, len(points)),
        mean=first.mean,
        low=low,
        high=high,
        outside=outside,
        change_a_month=None if slope is None or not first.mean else slope * MONTH_DAYS / first.mean,
        beyond_chance=len(points) > baseline and is_trend(values, LIKELY),
        first=began,
        changes=find_changes(values, [point.day * _DAY_HOURS for point in points]),
    )
