"""Changes of level in what is measured again and again.

Binary segmentation: of all places at which a history could be cut in two, the one is taken at which the ranks of the
two sides differ most (rank sum, Wilcoxon 1945; over all cuts, Pettitt 1979), and each side is cut again. A cut is a
change where the ranks differ by more than chance makes them over a year of looking every hour, or where the sides are
further apart than anything that either of them does; and where it is of some size. Ranks let single runs that went
wrong count for no more than one. A rhythm of the day is taken out first. docs/decision-quality.md says how often that
is right.
"""

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise

import numpy as np
import numpy.typing as npt
from scipy.stats import rankdata

_MIN_SIDE = 5
_MIN_SCORE = 5.5
"""Of the standardised rank sum at the best cut."""
_MIN_GAP = 8.0
"""Between the medians of both sides, in robust standard deviations of what is within them."""
_MAD_TO_SIGMA = 1.4826
_MIN_NOISE_SHARE = 5e-4
"""Of a level: no test resolves less, so that a history without any noise has some."""
SMALLEST_SHARE = 0.02
"""A change of level by less than this is none that anybody acts upon."""
_HOURS_OF_DAY, _MIN_DAYS, _MIN_GAIN = 24, 7, 0.7

Values = npt.NDArray[np.float64]


@dataclass(frozen=True, slots=True)
class Change:
    """The level of a history changed with the value at `index`, from one median to another."""

    index: int
    before: float
    after: float

    @property
    def share(self) -> float:
        """By how much, as a ratio to the level before; infinite from nothing."""
        return (self.after - self.before) / abs(self.before) if self.before else float("inf")


def find_changes(
    values: Sequence[float], hours: Sequence[float] | None = None, smallest_share: float = SMALLEST_SHARE
) -> list[Change]:
    """The changes of level in a history, in order. `hours` are when each value was measured, in hours since midnight of
    any day by the site's clock: with a week of them a rhythm of the day is taken out, where there is one."""
    history = np.asarray(values, dtype=np.float64)
    if hours is not None:
        history = _without_rhythm(history, np.asarray(hours, dtype=np.float64))
    cuts = sorted(_cuts(history, 0, len(history), smallest_share))
    bounds = [0, *cuts, len(history)]
    levels = [float(np.median(history[begin:end])) for begin, end in pairwise(bounds)]
    return [Change(cut, levels[number], levels[number + 1]) for number, cut in enumerate(cuts)]


def _cuts(history: Values, begin: int, end: int, smallest_share: float) -> list[int]:
    part = history[begin:end]
    cut = _best_cut(part, smallest_share)
    if cut is None:
        return []
    at = begin + cut
    return [*_cuts(history, begin, at, smallest_share), at, *_cuts(history, at, end, smallest_share)]


def _best_cut(part: Values, smallest_share: float) -> int | None:
    """Where a stretch is best cut in two; None where it is of one level."""
    count = len(part)
    if count < 2 * _MIN_SIDE:
        return None
    left = np.arange(_MIN_SIDE, count - _MIN_SIDE + 1)
    ranks = rankdata(part)
    excess = np.cumsum(ranks)[left - 1] - left * (count + 1) / 2
    deviation = np.sqrt(left * (count - left) * ranks.var() / (count - 1))
    if not deviation.all():
        return None
    scores = np.abs(excess) / deviation
    cut = int(left[scores.argmax()])
    before, after = part[:cut], part[cut:]
    levels = np.median(before), np.median(after)
    gap, scale = abs(levels[1] - levels[0]), max(abs(levels[0]), abs(levels[1]))
    if gap <= smallest_share * scale:
        return None
    noise = max(_spread(before), _spread(after), _MIN_NOISE_SHARE * scale)
    return cut if scores.max() >= _MIN_SCORE or gap >= _MIN_GAP * noise else None


def _spread(values: Values) -> float:
    """A standard deviation that single values far off do not move."""
    return float(np.median(np.abs(values - np.median(values)))) * _MAD_TO_SIGMA


def _without_rhythm(history: Values, hours: Values) -> Values:
    """The history without what each hour of the day adds as a rule; as it is where that explains little."""
    if len(hours) == 0 or hours.max() - hours.min() < _MIN_DAYS * _HOURS_OF_DAY:
        return history
    of_day = hours.astype(np.int64) % _HOURS_OF_DAY
    level = np.median(history)
    rhythm = np.zeros(_HOURS_OF_DAY)
    for hour in np.unique(of_day):
        rhythm[hour] = np.median(history[of_day == hour]) - level
    without = history - rhythm[of_day]
    return without if _spread(without) < _MIN_GAIN * _spread(history) else history
