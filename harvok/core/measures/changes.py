"""Changes of level in what is measured again and again.

Binary segmentation: of all places at which a history could be cut in two, the one is taken at which the ranks of the
two sides differ most (rank sum, Wilcoxon 1945; over all cuts, Pettitt 1979), and each side is cut again. A cut is a
change where the ranks differ by more than chance makes them over a year of looking every hour, or where the sides are
further apart than anything that either of them does; and where it is of some size. Ranks let single runs that went
wrong count for no more than one. A rhythm of the day is taken out first. docs/decision-quality.md says how often that
is right.
"""

from collections.abc import Iterator
from dataclasses import dataclass
from itertools import pairwise

import numpy as np
import numpy.typing as npt

_MIN_SIDE = 5
_MIN_SCORE = 5.5
"""Of the standardised rank sum at the best cut."""
_MIN_GAP = 8.0
"""Between the medians of both sides, in robust standard deviations of what is within them."""
_APART = 0.85
"""Of the most that the ranks of two stretches can differ by; less cannot have such a gap."""
_MAD_TO_SIGMA = 1.4826
_MIN_NOISE_SHARE = 5e-4
"""Of a level: no test resolves less, so that a history without any noise has some."""
SMALLEST_SHARE = 0.02
"""A change of level by less than this is none that anybody acts upon."""
_HOURS_OF_DAY, _MIN_DAYS, _MIN_GAIN = 24, 7, 0.7

Values = npt.NDArray[np.float64]


@dataclass(frozen=True, slots=True)
class LevelChange:
    """The level of a history changed with the value at `index`, from one median to another."""

    index: int
    before: float
    after: float

    @property
    def share(self) -> float:
        """By how much, as a ratio to the level before; infinite from nothing."""
        return (self.after - self.before) / abs(self.before) if self.before else float("inf")


def find_changes(
    values: npt.ArrayLike, hours: npt.ArrayLike | None = None, smallest_share: float = SMALLEST_SHARE
) -> list[LevelChange]:
    """The changes of level in a history, in order. `hours` are when each value was measured, in hours since midnight of
    any day by the site's clock: with a week of them a rhythm of the day is taken out, where there is one."""
    history = np.asarray(values, dtype=np.float64)
    if hours is not None:
        history = _without_rhythm(history, np.asarray(hours, dtype=np.float64))
    cuts = _pruned(history, sorted(_cuts(history, 0, len(history))), smallest_share)
    levels = [float(np.median(history[begin:end])) for begin, end in pairwise([0, *cuts, len(history)])] if cuts else []
    return [LevelChange(cut, levels[number], levels[number + 1]) for number, cut in enumerate(cuts)]


def _cuts(history: Values, begin: int, end: int) -> list[int]:
    """Where a stretch is to be cut, each side again; some cuts may turn out to be none beside others."""
    best, best_weight = 0, 1.0
    for first, cut, last in _candidates(history, begin, end):
        weight = _weight(history[first:cut], history[cut:last])
        if weight >= best_weight:
            best, best_weight = cut, weight
    return [*_cuts(history, begin, best), best, *_cuts(history, best, end)] if best else []


def _candidates(history: Values, begin: int, end: int) -> Iterator[tuple[int, int, int]]:
    """Windows of a stretch with the cut at which the ranks of both sides differ most, where it may be a change: the
    whole stretch, its overlapping halves, quarters and so on, since what came and went again shows only from near by
    (seeded binary segmentation, Kovács et al. 2023)."""
    length = end - begin
    while length >= 2 * _MIN_SIDE:
        firsts = np.unique([*range(begin, end - length + 1, max(length // 2, 1)), end - length])
        ranks = np.apply_along_axis(_ranks, 1, np.stack([history[first : first + length] for first in firsts]))
        left = np.arange(_MIN_SIDE, length - _MIN_SIDE + 1)
        excess = np.abs(np.cumsum(ranks, axis=1)[:, left - 1] - left * (length + 1) / 2)
        scores = excess / np.sqrt(left * (length - left) * (length + 1) / 12)
        for window, at in enumerate(scores.argmax(axis=1)):
            apart = excess[window, at] / (left[at] * (length - left[at]) / 2)
            if scores[window, at] >= _MIN_SCORE or apart >= _APART:
                first = int(firsts[window])
                yield first, first + int(left[at]), first + length
        length //= 2


def _ranks(values: Values) -> Values:
    """The place of each value in the order of all, from 1; equal ones share the mean of their places."""
    _, which, counts = np.unique(values, return_inverse=True, return_counts=True)
    ranks: Values = (np.cumsum(counts) - (counts - 1) / 2)[which]
    return ranks


def _weight(before: Values, after: Values) -> float:
    """How sure it is that two stretches are of different levels; from 1 on it is."""
    count = len(before) + len(after)
    ranks = _ranks(np.concatenate((before, after)))
    variance = ranks.var() * len(before) * len(after) / (count - 1)
    excess = abs(float(ranks[: len(before)].sum()) - len(before) * (count + 1) / 2)
    levels = float(np.median(before)), float(np.median(after))
    noise = max(
        _spread(before), _spread(after), _steps(before), _steps(after), _MIN_NOISE_SHARE * max(map(abs, levels))
    )
    score = excess / float(np.sqrt(variance)) if variance else 0.0
    return max(score / _MIN_SCORE, abs(levels[1] - levels[0]) / noise / _MIN_GAP if noise else 0.0)


def _pruned(history: Values, cuts: list[int], smallest_share: float) -> list[int]:
    """The cuts that are changes between the stretches to either side of them, and of some size; the weakest goes
    first."""
    while cuts:
        bounds = [0, *cuts, len(history)]
        sides = [(history[a:b], history[b:c]) for a, b, c in zip(bounds, bounds[1:], bounds[2:], strict=False)]
        weights = [_weight(*both) if _is_of_size(*both, smallest_share) else 0.0 for both in sides]
        weakest = int(np.argmin(weights))
        if weights[weakest] >= 1:
            break
        cuts = cuts[:weakest] + cuts[weakest + 1 :]
    return cuts


def _is_of_size(before: Values, after: Values, smallest_share: float) -> bool:
    levels = float(np.median(before)), float(np.median(after))
    return abs(levels[1] - levels[0]) > smallest_share * max(map(abs, levels))


def _steps(values: Values) -> float:
    """A standard deviation by what is between one value and the next."""
    return float(np.median(np.abs(np.diff(values)))) * _MAD_TO_SIGMA / 2**0.5


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
