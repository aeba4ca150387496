"""Runs of the logbook that show what two hosts can do: they filled the ceiling, over whatever path that was."""

from harvok.core.figures import find
from harvok.core.kinds.table import kind_of
from harvok.core.limiter import MAX_SHARE
from harvok.core.models.run import RunRecord
from harvok.core.tcp.case import KnownGood
from harvok.core.tcp.limiter import FULL_SHARE
from harvok.logbook.store import Logbook
from harvok.runner.samples import conditions_of

_LOOK_BACK = 20
_MAY_DIFFER = ("test.duration", "test.amount", "test.settling", "test.direction", "near.harvok", "far.harvok")
"""What changes neither what a host can do nor what a ceiling is."""


def known_good(logbook: Logbook, record: RunRecord) -> dict[str, KnownGood]:
    """By direction, the newest run in which these hosts filled a ceiling of this height under like conditions. Empty
    for tests that have no ceiling."""
    if "ceiling-share" not in kind_of(record.test).quantities:
        return {}
    found: dict[str, KnownGood] = {}
    wanted = _conditions(record)
    for before in logbook.newest_with("ceiling-share", FULL_SHARE, _LOOK_BACK):
        if _conditions(before) != wanted:
            continue
        for reading in before.readings:
            share = find(before.figures, "ceiling-share", direction=reading.direction) or 0.0
            goodput_bps = find(before.figures, "goodput-settled", direction=reading.direction) or 0.0
            if FULL_SHARE <= share <= MAX_SHARE and reading.limiter.kind == "link":
                found.setdefault(reading.direction, KnownGood(before.id, goodput_bps, share))
    return found


def _conditions(record: RunRecord) -> dict[str, str]:
    """Those that have to be alike; the link's own speed is among them, what lies on the path is not."""
    every = conditions_of(record)
    return {name: value for name, value in every.items() if name not in _MAY_DIFFER and not name.startswith("path.")}
