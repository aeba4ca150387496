"""What the repeats of one figure say of its true value: by chance, and by what the measurement resolves.

Repeats of a search that all end at the same load have no spread, and still say no more than that the truth lies
between it and the next load that was tried. So that no limit is missed or met by a digit that was never measured,
intervals are widened by the resolution of the search, of the histogram or of the clocks. It does not average out, so
that it is added as it stands, and not under a square root. A share that was counted is never known better than such a
count can be: repeats that all lost nothing of a thousand frames do not say that less than one of ten thousand is lost.
"""

import math
import statistics
from collections.abc import Sequence
from dataclasses import dataclass

from harvok.core.figures import Figure, FigureKey
from harvok.core.judgement.sample import RunSample
from harvok.core.measures.statistics import Interval, Summary, difference, relative_change, share_interval, summarise
from harvok.core.quantities import QUANTITIES

_CHANCE = 0.95
_HISTOGRAM = 1 / 256
"""Of the value: half a bin of a histogram whose bins are 1/128 of it wide."""


@dataclass(frozen=True, slots=True)
class Estimate:
    """The summary of the repeats, and how far the truth may lie `below` and `above` each value, in their unit. `count`
    is how many were seen of how many, in all repeats, where the figure is such a share."""

    summary: Summary
    below: float = 0.0
    above: float = 0.0
    count: tuple[int, int] | None = None

    def interval(self, confidence: float) -> Interval:
        """Where the true mean lies; infinite for a single value."""
        chance = self.summary.interval(confidence)
        low, high = chance.low - self.below, chance.high + self.above
        if self.count:
            counted = share_interval(*self.count, confidence)
            low, high = min(low, counted.low), max(high, counted.high)
        return Interval(low, high, confidence)


def estimate(key: FigureKey, runs: Sequence[RunSample]) -> Estimate:
    """The estimate of what runs that all have a figure say of it. Raises ValueError when there are none."""
    figures = [figure for run in runs if (figure := run.figure(key))]
    summary = summarise([figure.value for figure in figures])
    kind = QUANTITIES[key[0]].resolution
    if kind == "search":
        return Estimate(summary, above=max(figure.resolution for figure in figures))
    if kind == "histogram":
        coarse = _HISTOGRAM * abs(summary.mean)
        return Estimate(summary, coarse, coarse)
    if kind == "clock":
        error = _clock_error(figures, runs)
        return Estimate(summary, error, error)
    return Estimate(summary, count=_count(figures))


def at_best(figures: Sequence[Figure], at_least: bool) -> float:
    """The mean of figures of one quantity; of shares that were counted, what chance allows it to be at best, where the
    best is the highest (`at_least`) or the lowest. Raises ValueError when there are none."""
    count = _count(figures)
    if not count:
        return statistics.fmean(figure.value for figure in figures)
    interval = share_interval(*count, _CHANCE)
    return interval.high if at_least else interval.low


def _count(figures: Sequence[Figure]) -> tuple[int, int] | None:
    """How many of how many in all repeats, of a share that was counted; None where older records do not say."""
    if not all(figure.resolution and figure.meaning.is_counted_share for figure in figures):
        return None
    seen = sum(figure.value / figure.resolution for figure in figures)
    return max(round(seen), 0), round(sum(1 / figure.resolution for figure in figures))


def _clock_error(figures: Sequence[Figure], runs: Sequence[RunSample]) -> float:
    """The mean bound on the offset between the ends' clocks, of the same labels; 0 where none is recorded."""
    errors = [run.figure(("clock-error", figures[0].key[1])) for run in runs]
    return statistics.fmean(error.value for error in errors if error) if any(errors) else 0.0


def ratio_interval(before: Estimate, after: Estimate, confidence: float) -> Interval:
    """After against before as a ratio less one. Raises ValueError when the mean before is zero."""
    chance = relative_change(before.summary, after.summary, confidence).interval
    scale, ratio = abs(before.summary.mean), abs(after.summary.mean / before.summary.mean)
    low = (after.below + ratio * before.above) / scale
    high = (after.above + ratio * before.below) / scale
    return Interval(chance.low - low, chance.high + high, confidence)


def difference_interval(before: Estimate, after: Estimate, confidence: float) -> Interval:
    """After less before, in the unit of the figure."""
    chance = difference(before.summary, after.summary, confidence)
    low, high = chance.low - after.below - before.above, chance.high + after.above + before.below
    return Interval(low, high, confidence)


def paired_interval(before: Summary, after: Summary, confidence: float) -> tuple[Interval, float]:
    """The mean ratio less one of runs that alternated, pair by pair, and its standard deviation."""
    ratios = summarise([a / b - 1 for a, b in zip(after.values, before.values, strict=True)])
    return ratios.interval(confidence), ratios.deviation


def is_known(interval: Interval) -> bool:
    """Whether it has two ends: a single run has none."""
    return math.isfinite(interval.low) and math.isfinite(interval.high)
