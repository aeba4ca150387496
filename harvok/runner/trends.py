"""Finds one figure of the same rig and test over all of a logbook."""

from contextlib import closing
from dataclasses import dataclass, field

from harvok.core.judgement.trend import Point, Trend, trend
from harvok.core.quantities import QUANTITIES
from harvok.errors import NothingFoundError, UsageError
from harvok.logbook.store import Logbook

_DAY_S = 86400.0


@dataclass(frozen=True, slots=True)
class TrendQuery:
    """Which figure, and of what: `rig` and `test` as `harvok logbook list` shows them, `labels` such as a direction."""

    figure: str
    rig: str
    test: str = ""
    labels: dict[str, str] = field(default_factory=dict)
    baseline: int = 5


def find_trend(place: str, query: TrendQuery) -> Trend:
    """The figure over time. Raises UsageError for a figure that there is not, or that several directions or sizes have;
    NothingFoundError when there are fewer runs than the baseline needs."""
    if query.figure not in QUANTITIES:
        raise UsageError(f"there is no figure '{query.figure}'", "docs/figures.md lists them.")
    with closing(Logbook(place)) as logbook:
        rows = logbook.values(query.figure, query.rig, query.test)
    fitting = [row for row in rows if query.labels.items() <= row.labels.items()]
    kinds = {tuple(sorted(row.labels.items())) for row in fitting}
    if len(kinds) > 1:
        shown = "; ".join(", ".join(f"{key} {value}" for key, value in kind) for kind in sorted(kinds))
        raise UsageError(f"there are several such figures: {shown}", "Narrow it: --direction, --frame-size, --load.")
    if len(fitting) < max(query.baseline, 2):
        raise NothingFoundError(
            f"{len(fitting)} complete runs of '{query.rig}' have that figure, where {query.baseline} make a baseline",
            "See `harvok logbook list` for rigs and tests; --baseline asks for fewer.",
        )
    first = fitting[0].started
    points = [Point(row.run, (row.started - first).total_seconds() / _DAY_S, row.value) for row in fitting]
    return trend(points, query.baseline)
