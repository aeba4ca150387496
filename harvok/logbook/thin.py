"""Removes from old runs what they were from moment to moment, and keeps what they came to."""

from collections.abc import Sequence
from datetime import datetime

from harvok.core.models.run import RunRecord
from harvok.logbook.store import Logbook


def thin_runs(logbook: Logbook, ids: Sequence[str], now: datetime) -> int:
    """Thins runs, one transaction each, so that it may be broken off; returns how many had anything to lose."""
    thinned = 0
    for record in logbook.records(ids):
        if any(trial.samples for trial in record.trials):
            logbook.rewrite(_without_intervals(record, now))
            thinned += 1
    if thinned:
        logbook.give_back_room()
    return thinned


def _without_intervals(record: RunRecord, now: datetime) -> RunRecord:
    trials = [trial.model_copy(update={"samples": []}) for trial in record.trials]
    said = f"its intervals were removed on {now:%Y-%m-%d}, to make room"
    return record.model_copy(update={"trials": trials, "notices": [*record.notices, said]})
