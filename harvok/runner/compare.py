"""Compares two series or two sweeps of a logbook."""

from collections.abc import Collection
from contextlib import closing

from harvok.core.judgement.compare import Comparison, Criteria, Pair, compare, compare_points
from harvok.errors import UsageError
from harvok.logbook.store import Logbook
from harvok.runner.samples import series_of
from harvok.runner.stored_sweeps import is_sweep, stored_sweep


def compare_series(
    place: str, before: str, after: str, criteria: Criteria, changed: Collection[str] = ()
) -> Comparison:
    """Reads both from the logbook at `place` and compares them: series run by run, sweeps point by point.

    Raises NothingFoundError, LogbookError, and UsageError where they have nothing in common.
    """
    with closing(Logbook(place)) as logbook:
        known = logbook.series()
        swept = [name not in known and is_sweep(logbook, name) for name in (before, after)]
        if all(swept):
            return compare_points((before, after), _common_points(logbook, before, after), criteria, changed)
        return compare(series_of(logbook, before), series_of(logbook, after), criteria, changed)


def _common_points(logbook: Logbook, before: str, after: str) -> dict[str, Pair]:
    """What was measured in both sweeps, baselines included, by the last part of its name. Raises UsageError."""
    was, now = stored_sweep(logbook, before), stored_sweep(logbook, after)
    common = {part: (was.series(part), now.series(part)) for part in was.records if part in now.records}
    if not common:
        raise UsageError(
            f"the sweeps '{before}' and '{after}' have no point in common: "
            f"{', '.join(was.records)}; {', '.join(now.records)}",
            "Sweep both over the same values; `harvok logbook sweep NAME` shows them.",
        )
    return common
