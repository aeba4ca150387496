"""What one figure of a pair was over the weeks: its level at the beginning, and where that changed."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from harvok.core.measures.changes import LevelChange, find_changes

_BASELINE_RUNS = 50
_HOUR_S = 3600.0


@dataclass(frozen=True, slots=True)
class Seen:
    """A value, when it was measured (seconds since 1970), and by which run."""

    at_s: float
    value: float
    run: str


@dataclass(frozen=True, slots=True)
class History:
    """Values in the order of time, and their changes of level. The baseline is the first level: `low` to `high` hold
    nine of ten of its first fifty values, `level` is their median."""

    seen: Sequence[Seen]
    changes: Sequence[LevelChange]
    level: float
    low: float
    high: float

    @property
    def newest(self) -> Seen:
        return self.seen[-1]

    @property
    def levels(self) -> list[tuple[int, int, float]]:
        """Each stretch of one level: from which value to before which other, and its median."""
        bounds = [0, *(change.index for change in self.changes), len(self.seen)]
        values = [self.changes[0].before if self.changes else self._median()]
        values += [change.after for change in self.changes]
        return list(zip(bounds, bounds[1:], values, strict=False))

    def _median(self) -> float:
        return float(np.median([one.value for one in self.seen]))


def hours_of(seen: Sequence[Seen], utc_offset_s: float) -> list[float]:
    """When values were measured, in hours since midnight of a day long ago by clocks that are so far ahead of UTC."""
    return [(one.at_s + utc_offset_s) / _HOUR_S for one in seen]


def history_of(seen: Sequence[Seen], utc_offset_s: float = 0.0) -> History:
    """The history of values, at least one; `utc_offset_s` is what the site's clocks are ahead of UTC by, for the rhythm
    of the day."""
    hours = hours_of(seen, utc_offset_s)
    values = [one.value for one in seen]
    changes = find_changes(values, hours)
    first = values[: min(changes[0].index if changes else len(values), _BASELINE_RUNS)]
    low, level, high = np.quantile(first, (0.05, 0.5, 0.95))
    return History(seen, changes, float(level), float(low), float(high))
