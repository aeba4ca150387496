"""Reads a sweep: every point against the baseline, the knee of a curve, and the setting to recommend."""

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from typing import Literal

from harvok.core.figures import find
from harvok.core.judgement.compare import usual_limiter
from harvok.core.judgement.sample import Series
from harvok.core.measures.statistics import Change, Summary, relative_change, summarise

Order = Literal["interleaved", "random"]

_NOTHING_GAINED = 0.03
"""A knee is where nothing further on is better by more than this: less is within what repeats differ by."""
TELLING_SPREAD = 0.25
"""Repeats of one point that differ by more than this tell no knee, and recommend nothing."""


@dataclass(frozen=True, slots=True)
class Setting:
    """One value of what is varied: as it was written, and as a number where it is one."""

    name: str
    text: str
    number: float | None = None


Point = tuple[Setting, ...]
"""One setting for each of what is varied."""


@dataclass(frozen=True, slots=True)
class SweptPoint:
    """A point with what was measured there; `change` is against the baseline, None where there is none."""

    settings: Point
    summary: Summary
    change: Change | None
    limiter: str
    theory: float | None = None


@dataclass(frozen=True, slots=True)
class SweepReading:
    """What a sweep says of one quantity in one direction. `drift` is how much the baseline at the end differs from that
    at the start; `knee` the first point from which on nothing is gained, `best` the cheapest of those that are best."""

    quantity: str
    direction: str
    baseline: Summary | None
    drift: Change | None
    points: list[SweptPoint] = field(default_factory=list)
    knee: SweptPoint | None = None
    best: SweptPoint | None = None

    @property
    def spread(self) -> float:
        """The largest spread of the repeats of any point."""
        return max((one.summary.spread for one in self.points), default=0.0)


def order_of(points: int, repeats: int, shuffle: Callable[[list[int]], None] | None = None) -> list[int]:
    """The sequence in which points are measured: each once in every round, so that drift does not pass for a trend.

    With `shuffle` every round has an order of its own, otherwise that in which the points were given.
    """
    sequence = []
    for _ in range(repeats):
        turn = list(range(points))
        if shuffle:
            shuffle(turn)
        sequence += turn
    return sequence


def read_sweep(
    points: Sequence[tuple[Point, Series]],
    before: Series | None,
    after: Series | None,
    quantity: str,
    direction: str,
    theory: Sequence[float | None] = (),
) -> SweepReading | None:
    """Every point against both baselines together; None when the quantity was not measured in that direction."""
    firsts, lasts = _values(before, quantity, direction), _values(after, quantity, direction)
    baseline = summarise([*firsts, *lasts]) if firsts or lasts else None
    swept = []
    for number, (settings, series) in enumerate(points):
        values = _values(series, quantity, direction)
        if not values:
            continue
        summary = summarise(values)
        change = relative_change(baseline, summary) if baseline and baseline.mean and len(values) > 1 else None
        limiter = usual_limiter(series, direction)
        expected = theory[number] if number < len(theory) else None
        swept.append(SweptPoint(settings, summary, change, limiter.name if limiter else "", expected))
    if not swept:
        return None
    drift = relative_change(summarise(firsts), summarise(lasts)) if len(firsts) > 1 and len(lasts) > 1 else None
    reading = SweepReading(quantity, direction, baseline, drift, swept)
    if reading.spread > TELLING_SPREAD:
        return reading
    return replace(reading, knee=knee_of(swept), best=best_of(swept))


def _values(series: Series | None, quantity: str, direction: str) -> list[float]:
    found = [find(run.figures, quantity, direction=direction) for run in series.runs] if series else []
    return [value for value in found if value is not None]


def knee_of(points: Sequence[SweptPoint]) -> SweptPoint | None:
    """The first point of a curve over numbers from which on nothing is gained.

    None where it still climbs at the end, over two settings, and over names.
    """
    if len(points) < 3 or any(len(one.settings) != 1 or one.settings[0].number is None for one in points):
        return None
    ordered = sorted(points, key=lambda one: one.settings[0].number or 0.0)
    for number, point in enumerate(ordered[:-1]):
        later = max(one.summary.mean for one in ordered[number + 1 :])
        if later <= point.summary.mean * (1 + _NOTHING_GAINED):
            return point
    return None


def best_of(points: Sequence[SweptPoint]) -> SweptPoint:
    """Of all points within what repeats differ by of the highest, the one with the smallest settings."""
    highest = max(one.summary.mean for one in points)
    good = [one for one in points if one.summary.mean >= highest * (1 - _NOTHING_GAINED)]
    return min(good, key=lambda one: [math.inf if s.number is None else s.number for s in one.settings])


def window_bound_bps(window_bytes: float, rtt_s: float) -> float:
    """What a window lets through at most (RFC 6349 §3.3): window / RTT."""
    return window_bytes * 8 / rtt_s
