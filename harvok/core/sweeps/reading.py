"""Reads a sweep: every point against the baseline, where gain or harm begins, and the setting to recommend."""

import math
from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from typing import Literal

from harvok.core.figures import find
from harvok.core.judgement.blame import usual_limiter
from harvok.core.judgement.sample import Series
from harvok.core.measures.statistics import Change, Summary, relative_change, summarise
from harvok.core.sweeps.axes import Point, Role
from harvok.core.tcp.bounds import square_root_bps, window_bound_bps

_NOTHING_GAINED = 0.03
"""A knee is where nothing further on is better by more than this: half again the 2 % by which a change is judged."""
TELLING_SPREAD = 0.25
"""Repeats of one point that differ by more than this tell no knee, and recommend nothing: steps of a sweep are
usually a factor of two, and a quarter to either side would hide one."""


@dataclass(frozen=True, slots=True)
class SweptFigures:
    """What a sweep of a kind of test is about: the `main` quantity, and what stands `beside` it. `bounded`: arithmetic
    bounds it as it does one TCP flow."""

    main: str
    beside: tuple[str, ...]
    bounded: bool = False


@dataclass(frozen=True, slots=True)
class SweptPoint:
    """A point with what was measured there; `change` is against the baseline, None where there is none. `beside` are
    means of other quantities, `bounds` what arithmetic allows by name. `by_tester`: the tester could do no more."""

    settings: Point
    summary: Summary
    change: Change | None
    limiter: str
    by_tester: bool = False
    beside: dict[str, float] = field(default_factory=dict)
    bounds: dict[str, float] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class Knee:
    """Where a curve bends: `gain` is the first point from which on nothing is gained, `harm` the last up to which
    nothing is lost."""

    kind: Literal["gain", "harm"]
    point: SweptPoint


@dataclass(frozen=True, slots=True)
class SweepReading:
    """What a sweep says of one quantity in one direction. `drift` is how much the baseline at the end differs from that
    at the start; `best` is for each condition the cheapest of those settings that are best there."""

    test: str
    quantity: str
    beside: tuple[str, ...]
    direction: str
    roles: dict[str, Role]
    baseline: Summary | None
    drift: Change | None
    points: list[SweptPoint] = field(default_factory=list)
    knee: Knee | None = None
    best: list[SweptPoint] = field(default_factory=list)

    @property
    def spread(self) -> float:
        """The largest spread of the repeats of any point."""
        return max((point.summary.spread for point in self.points), default=0.0)


@dataclass(frozen=True, slots=True)
class Swept:
    """What was measured at one point, and what is known of it: `fixed` are all settings there that do not vary."""

    point: Point
    series: Series
    fixed: Point = ()

    def number(self, *names: str) -> float | None:
        """The value of the first of these settings that this point has."""
        known = {setting.name: setting.number for setting in (*self.fixed, *self.point)}
        return next((known[name] for name in names if name in known), None)


def read_sweep(
    test: str,
    figures: SweptFigures,
    points: Sequence[Swept],
    baselines: tuple[Series | None, Series | None],
    direction: str,
    roles: dict[str, Role],
) -> SweepReading | None:
    """Every point against both baselines together; None when nothing was measured in that direction."""
    quantity = figures.main
    firsts, lasts = (_values(one, quantity, direction) for one in baselines)
    baseline = summarise([*firsts, *lasts]) if firsts or lasts else None
    swept = [point for one in points if (point := _read_point(figures, one, baseline, direction))]
    if not swept:
        return None
    drift = relative_change(summarise(firsts), summarise(lasts)) if len(firsts) > 1 and len(lasts) > 1 else None
    reading = SweepReading(test, quantity, figures.beside, direction, roles, baseline, drift, swept)
    if reading.spread > TELLING_SPREAD:
        return reading
    return replace(reading, knee=knee_of(swept, roles, baseline), best=best_of(swept, roles))


def _read_point(figures: SweptFigures, swept: Swept, baseline: Summary | None, direction: str) -> SweptPoint | None:
    series, quantity = swept.series, figures.main
    values = _values(series, quantity, direction)
    if not values:
        return None
    summary = summarise(values)
    change = relative_change(baseline, summary) if baseline and baseline.mean and len(values) > 1 else None
    by_tester = any(
        f.mark == "tester-limit" and f.labels.get("direction") == direction for run in series.runs for f in run.figures
    )
    limiter = usual_limiter(series.runs, direction)
    found = {name: _values(series, name, direction) for name in figures.beside}
    return SweptPoint(
        settings=swept.point,
        summary=summary,
        change=change,
        limiter="the TESTER" if by_tester else limiter.name if limiter else "",
        by_tester=by_tester,
        beside={name: sum(values) / len(values) for name, values in found.items() if values},
        bounds=bounds_of(swept, direction) if figures.bounded else {},
    )


def _values(series: Series | None, quantity: str, direction: str) -> list[float]:
    found = [find(run.figures, quantity, direction=direction) for run in series.runs] if series else []
    return [value for value in found if value is not None]


def bounds_of(swept: Swept, direction: str) -> dict[str, float]:
    """What arithmetic lets TCP through at a point, in b/s: by its window, by the loss that was set, by the line."""
    rtts_s, segments = (_values(swept.series, name, direction) for name in ("rtt-min", "segment-payload"))
    ceilings = _values(swept.series, "ceiling", direction)
    loss = swept.number(f"{direction}.loss", "loss")
    buffer_bytes, flows = swept.number("socket-buffer"), swept.number("flows") or 1.0
    bounds = {}
    if buffer_bytes and rtts_s and min(rtts_s) > 0:
        bounds["window / RTT"] = window_bound_bps(buffer_bytes, min(rtts_s)) * flows
    if loss and rtts_s and segments and min(rtts_s) > 0:
        bounds["square-root law"] = square_root_bps(max(segments), min(rtts_s), loss) * flows
    if ceilings:
        bounds["ceiling less loss"] = max(ceilings) * (1 - (loss or 0.0))
    return bounds


def knee_of(points: Sequence[SweptPoint], roles: dict[str, Role], baseline: Summary | None = None) -> Knee | None:
    """Where a curve over numbers bends.

    None where it still climbs at the end (a condition: is below the baseline from the start), over two settings, over
    names, and where the tester was the limit.
    """
    if len(points) < 3 or any(len(one.settings) != 1 or one.settings[0].number is None for one in points):
        return None
    ordered = sorted(points, key=lambda one: one.settings[0].number or 0.0)
    if any(one.by_tester for one in ordered):
        return None
    name = ordered[0].settings[0].name
    if roles[name] == "condition" and name != "frame-size":
        return _harm(ordered, max(ordered[0].summary.mean, baseline.mean if baseline else 0.0))
    for number, point in enumerate(ordered[:-1]):
        later = max(one.summary.mean for one in ordered[number + 1 :])
        if later <= point.summary.mean * (1 + _NOTHING_GAINED):
            return Knee("gain", point)
    return None


def _harm(ordered: Sequence[SweptPoint], unharmed_value: float) -> Knee | None:
    """The last point before the first that lost something; the last of all where none did."""
    unharmed = unharmed_value * (1 - _NOTHING_GAINED)
    first = next((number for number, one in enumerate(ordered) if one.summary.mean < unharmed), None)
    if first == 0:
        return None
    return Knee("harm", ordered[-1 if first is None else first - 1])


def best_of(points: Sequence[SweptPoint], roles: dict[str, Role]) -> list[SweptPoint]:
    """For each condition, of all points within what repeats differ by of the highest there, the one with the smallest
    settings. Nothing where nothing was the engineer's to choose, and where the tester was the limit."""
    if "setting" not in roles.values():
        return []
    groups: dict[Point, list[SweptPoint]] = {}
    for point in points:
        given = tuple(setting for setting in point.settings if roles[setting.name] != "setting")
        groups.setdefault(given, []).append(point)
    return [_cheapest(group) for group in groups.values() if len(group) > 1 and not any(one.by_tester for one in group)]


def _cheapest(points: Sequence[SweptPoint]) -> SweptPoint:
    highest = max(point.summary.mean for point in points)
    good = [point for point in points if point.summary.mean >= highest * (1 - _NOTHING_GAINED)]
    return min(good, key=lambda one: [math.inf if s.number is None else s.number for s in one.settings])
