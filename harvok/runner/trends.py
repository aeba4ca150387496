"""Finds one figure of the same things over all of a logbook."""

from collections.abc import Sequence
from contextlib import closing
from dataclasses import dataclass, field

from harvok.core.judgement.trend import Point, Trend, trend
from harvok.core.quantities import QUANTITIES
from harvok.errors import NothingFoundError, UsageError
from harvok.logbook.store import FigureValue, Logbook

_DAY_S = 86400.0
_BETWEEN = " – "
_KINDS = (" (simulated)", " (virtual)")
MAX_LINES = 12


@dataclass(frozen=True, slots=True)
class TrendQuery:
    """Which figure, and of what: each of the `names` is a rig, a pair of hosts, one end of such pairs, or a series;
    `labels` such as a direction narrow it down."""

    figure: str
    names: Sequence[str]
    test: str = ""
    labels: dict[str, str] = field(default_factory=dict)
    baseline: int = 5


def find_trends(place: str, query: TrendQuery) -> dict[str, Trend]:
    """The figure over time, of each thing that the names stand for. Raises UsageError for a figure that there is not,
    or that several directions or sizes have; NothingFoundError for a name that nothing has, and where there are fewer
    runs than the baseline needs."""
    if query.figure not in QUANTITIES:
        raise UsageError(f"there is no figure '{query.figure}'", "docs/figures.md lists them.")
    with closing(Logbook(place)) as logbook:
        rigs, series = logbook.rigs(), logbook.series()
        found: dict[str, list[FigureValue]] = {}
        for name in query.names:
            if name in series:
                found[name] = logbook.values(query.figure, test=query.test, series=name)
            meant = [] if name in series else _meant(name, rigs)
            found |= {rig: logbook.values(query.figure, rig, query.test) for rig in meant}
            if name not in series and not meant:
                _refuse(name, rigs, query.baseline)
    if len(found) > MAX_LINES:
        raise UsageError(
            f"the names stand for {len(found)} things, and no plot shows more than {MAX_LINES}", "Name fewer."
        )
    several = len(found) > 1
    trends = {name: _trend(name, rows, query, several) for name, rows in found.items()}
    return {name: one for name, one in trends.items() if one}


def _meant(name: str, rigs: Sequence[str]) -> list[str]:
    """The rigs that a name stands for: by what a list shows, by the name in its file, by both ends or one of them."""
    pair = _BETWEEN.join(part.strip() for part in name.replace(">", "–").replace(" - ", "–").split("–"))
    exact = [rig for rig in rigs if rig in (name, pair, *(name + kind for kind in _KINDS))]
    return exact or [rig for rig in rigs if name in rig.split(_BETWEEN)]


def _refuse(name: str, rigs: Sequence[str], baseline: int) -> None:
    known = f" Runs were taken of: {', '.join(rigs[:8])}." if rigs else ""
    raise NothingFoundError(
        f"0 complete runs of '{name}' have that figure, where {baseline} make a baseline",
        f"Name a rig, two hosts as 'dome > hall', one of them, or a series.{known}",
    )


def _trend(name: str, rows: Sequence[FigureValue], query: TrendQuery, several: bool) -> Trend | None:
    """The trend of one thing; None where one of several has not enough runs."""
    fitting = [row for row in rows if query.labels.items() <= row.labels.items()]
    kinds = {tuple(sorted(row.labels.items())) for row in fitting}
    if len(kinds) > 1:
        shown = "; ".join(", ".join(f"{key} {value}" for key, value in kind) for kind in sorted(kinds))
        raise UsageError(f"there are several such figures: {shown}", "Narrow it: --direction, --frame-size, --load.")
    if len(fitting) < max(query.baseline, 2):
        if several:
            return None
        raise NothingFoundError(
            f"{len(fitting)} complete runs of '{name}' have that figure, where {query.baseline} make a baseline",
            "See `harvok logbook list` for rigs and tests; --baseline asks for fewer.",
        )
    first = fitting[0].started
    points = [Point(row.run, (row.started - first).total_seconds() / _DAY_S, row.value) for row in fitting]
    return trend(points, query.baseline, first)
