"""Compares two series of a logbook."""

from collections.abc import Collection

from harvok.core.judgement.compare import Comparison, Criteria, compare
from harvok.logbook.store import Logbook
from harvok.runner.samples import series_of


def compare_series(
    place: str, before: str, after: str, criteria: Criteria, changed: Collection[str] = ()
) -> Comparison:
    """Reads both series from the logbook at `place` and compares them. Raises NothingFoundError, LogbookError."""
    logbook = Logbook(place)
    try:
        return compare(series_of(logbook, before), series_of(logbook, after), criteria, changed)
    finally:
        logbook.close()
