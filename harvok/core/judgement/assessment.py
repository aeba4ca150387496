"""One criterion for one figure, assessed over the repeats of a series."""

import math
import statistics
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field

from harvok.core.figures import Figure, FigureKey
from harvok.core.judgement.blame import by_tester, limiter_of, usual_limiter, weigh_limiter
from harvok.core.judgement.estimate import (
    Estimate,
    difference_interval,
    estimate,
    is_known,
    paired_interval,
    ratio_interval,
)
from harvok.core.judgement.finding import Finding, blamed_on_tester
from harvok.core.judgement.limits import Limit
from harvok.core.judgement.sample import RunSample, Series
from harvok.core.judgement.spans import MAX_TELLING_WIDTH, percent_span, quantity_span
from harvok.core.judgement.stability import drift_of, judge_repeats, repeats_apart
from harvok.core.labels import label_text
from harvok.core.measures.drift import SURE
from harvok.core.measures.statistics import Interval, repeats_needed
from harvok.core.quantities import QUANTITIES, Quantity
from harvok.core.units import format_quantity, format_share

_FIND_OUT = "Find out what makes the repeats differ, then measure again."
_MAX_LEANING = 0.5
"""Of the allowed regression, by which repeats of the baseline that stand apart may move its mean: with more, they and
not the change decide whether the limit is met."""


@dataclass(frozen=True, slots=True)
class Criterion:
    """One limit. `quantity` of the series `step` is to be at least or at most something (in the unit of the quantity),
    or no worse than in the series `against` by more than `max_regression` (a ratio) or `margin` (in the unit of the
    quantity), whichever is more. `labels` narrow it down to a direction, a frame size, a load; without them it holds
    for each figure of the quantity. `changed` names conditions that differ on purpose."""

    quantity: str
    step: str
    minimum: float | None = None
    maximum: float | None = None
    max_regression: float | None = None
    margin: float = 0.0
    against: str | None = None
    labels: dict[str, str] = field(default_factory=dict)
    changed: tuple[str, ...] = ()
    exact: bool = False
    """Whether `labels` are all that the figure has, so that it is about one figure alone."""

    def is_about(self, figure: Figure) -> bool:
        """Whether a figure is one that it may set a limit to; of the exact ones, the key tells which."""
        return figure.quantity == self.quantity and self.labels.items() <= figure.labels.items()

    @property
    def bounds_words(self) -> list[str]:
        """The smallest and the largest value that it may have, for people."""
        unit = QUANTITIES[self.quantity].unit
        bounds = (("at least", self.minimum), ("at most", self.maximum))
        return [f"{words} {format_quantity(value, unit)}" for words, value in bounds if value is not None]

    @property
    def regression_words(self) -> str:
        """How much worse it may be, for people; empty where nothing is said of that."""
        if self.max_regression is None:
            return ""
        margin = f" or {format_quantity(self.margin, QUANTITIES[self.quantity].unit)}" if self.margin else ""
        return f"{format_share(self.max_regression)}{margin}"

    @property
    def limit_words(self) -> str:
        """The limit for people, or the limits."""
        worse = [f"{self.regression_words} worse"] if self.regression_words else []
        return ", ".join([*self.bounds_words, *worse])

    @property
    def limits(self) -> int:
        """How many limits it sets."""
        return sum(limit is not None for limit in (self.minimum, self.maximum, self.max_regression))


@dataclass(frozen=True, slots=True)
class Advice:
    """What to do about what allows no verdict, in the words of whoever asks; `series` and `missing` are filled in."""

    more_repeats: str = "Run the plan again: it goes on where it stopped."
    unlike: str = "Measure again under like conditions, or name in the plan what is changed on purpose."


@dataclass(frozen=True, slots=True)
class Rules:
    """How sure a judgement is to be. `paired`: the runs of two series alternated, and are compared pair by pair, so
    that drift cancels out."""

    min_repeats: int = 5
    max_spread: float | None = None
    confidence: float = 0.95
    paired: bool = False
    ignore_conditions: bool = False
    names_series: bool = True
    """Whether findings name the series that they are about: where there is but one, that is clear."""
    advice: Advice = Advice()


@dataclass(frozen=True, slots=True)
class Assessment:
    """A criterion for one figure; `confidence` is that of this figure alone, so that all of them hold together."""

    criterion: Criterion
    key: FigureKey
    series: Mapping[str, Series]
    rules: Rules
    confidence: float

    @property
    def _place(self) -> str:
        series = self.criterion.step if self.rules.names_series else ""
        return ", ".join(filter(None, (series, label_text(dict(self.key[1])))))

    @property
    def _meaning(self) -> Quantity:
        return QUANTITIES[self.key[0]]

    @property
    def _name(self) -> str:
        return self._meaning.name

    @property
    def _higher_is_better(self) -> bool:
        return self._meaning.better != "lower"

    @property
    def _here(self) -> Series:
        return self.series[self.criterion.step]

    def answer(self) -> Iterator[Finding]:
        """The findings: one for every limit, or the reasons why there is none."""
        if blamed := self._blamed(self._here):
            yield blamed
            return
        runs = self._usable(self._here)
        found = estimate(self.key, runs)
        spread, allowed = found.summary.spread, self.rules.max_spread
        if allowed is not None and spread > allowed:
            reason = f"{self._name} spreads over {format_share(spread)} where {format_share(allowed)} is allowed"
            yield Finding("RETEST", self._place, reason, _FIND_OUT)
        limiter = usual_limiter(runs, self._direction)
        weighed = limiter if self._meaning.is_rate else None
        proven = self._baseline_proves_the_tester()
        for finding in self._bounds(found, runs):
            yield weigh_limiter(finding, weighed, self.criterion.changed, proven)

    @property
    def _direction(self) -> str:
        return dict(self.key[1]).get("direction", "")

    def _baseline_proves_the_tester(self) -> bool:
        """Whether the link, and not the hosts, was the limit of the series that this one is compared with."""
        baseline = self.series.get(self.criterion.against or "")
        limiter = usual_limiter(baseline.runs, self._direction) if baseline else None
        return limiter is not None and limiter.kind == "link"

    def _usable(self, series: Series) -> list[RunSample]:
        """The runs that have the figure, unmarked, and that the tester did not hold down."""
        there = ((run, run.figure(self.key)) for run in series.runs)
        return [run for run, figure in there if figure and not figure.mark and not by_tester(run, self.key)]

    def _blamed(self, series: Series) -> Finding | None:
        """Says when the tester held so many runs down, or so many lost frames, that too few are left."""
        marked = [run for run in series.runs if (figure := run.figure(self.key)) and figure.mark == "lossy"]
        held = [run for run in series.runs if by_tester(run, self.key)]
        usable = self._usable(series)
        if not (held or marked) or len(usable) >= self.rules.min_repeats:
            return None
        place = self._place if series is self._here else f"{series.name}, {self._place}"
        if not held:
            reason = f"{self._name} is of streams that lost frames: that of a full queue, not of the device"
            return Finding(
                "RETEST", place, reason, "Find what loses frames first; `harvok ramp` shows from which load."
            )
        return blamed_on_tester(place, limiter_of(held[-1], self.key))

    def _bounds(self, found: Estimate, runs: list[RunSample]) -> Iterator[Finding]:
        criterion, unit = self.criterion, self._meaning.unit
        for value, at_least in ((criterion.minimum, True), (criterion.maximum, False)):
            if value is not None:
                words = f"the limit of at {'least' if at_least else 'most'} {format_quantity(value, unit)}"
                limit = Limit(value, at_least, words)
                yield self._absolute(found, limit)
                yield from judge_repeats(self.key, self._here, runs, limit, self._place, criterion.changed)
        if criterion.max_regression is not None and criterion.against in self.series:
            yield from self._regression(runs, self.series[criterion.against or ""], criterion.max_regression)

    def _absolute(self, found: Estimate, limit: Limit) -> Finding:
        interval, summary = found.interval(self.confidence), found.summary
        if not is_known(interval):
            return self._single_run()
        by_chance = summary.interval(self.confidence)
        if found.count and not limit.value:
            interval = by_chance  # that nothing at all is lost is asked of this test, and not of all time
        elif found.count and limit.is_surely_met_by(by_chance):
            return self._counted(found.count, interval, by_chance, limit)
        span = quantity_span(interval.low, interval.high, limit.value, self._meaning.unit)
        needed = repeats_needed(summary.deviation, abs(summary.mean - limit.value), self.confidence)
        return limit.hold(interval, self._place, f"{self._name} is {span}", _more(needed, len(summary.values)))

    def _counted(self, count: tuple[int, int], interval: Interval, by_chance: Interval, limit: Limit) -> Finding:
        """Of a share whose repeats meet a limit: whether so many were counted that this is no chance."""
        unit = self._meaning.unit
        if limit.is_surely_met_by(interval):
            span = quantity_span(by_chance.low, by_chance.high, limit.value, unit)
            return limit.hold(interval, self._place, f"{self._name} is {span}")
        seen, of = (format_quantity(number, "count") for number in count)
        clause = f"{self._name} is {seen} of {of}, by which it may be up to {format_quantity(interval.high, unit)}"
        needed = format_quantity(_two_digits(count[1] * interval.high / limit.value), "count")
        return limit.hold(interval, self._place, clause, f"Count {needed} or more: by longer runs, or more of them.")

    def _single_run(self) -> Finding:
        return Finding("RETEST", self._place, "a single run says nothing about spread", "Take at least five repeats.")

    def _regression(self, runs: list[RunSample], baseline: Series, largest: float) -> Iterator[Finding]:
        if blamed := self._blamed(baseline):
            yield blamed
            return
        before_runs = self._usable(baseline)
        if self.rules.paired:
            before_runs, runs = _in_pairs(baseline, before_runs, self._here, runs)
        if not before_runs:
            reason = f"{baseline.name} has no such figure to compare with"
            yield Finding("RETEST", self._place, reason, "Measure it there too.")
            return
        before, after = estimate(self.key, before_runs), estimate(self.key, runs)
        mean, margin = before.summary.mean, self.criterion.margin
        allowed = max(largest * abs(mean), margin)
        if repeats_apart(self.key, before_runs) and _leaning(before) > _MAX_LEANING * allowed:
            reason = f"the repeats of {baseline.name} do not agree among themselves, so it is no baseline"
            yield Finding("RETEST", self._place, reason, "Take the baseline anew.")
            return
        relative = bool(mean) and largest * abs(mean) >= margin
        sign = "+" if self._meaning.better == "lower" else "-"
        shown = f"{sign}{format_quantity(margin, self._meaning.unit)}"
        words = f"the limit of {format_share(largest)} regression" if relative else f"the limit of {shown}"
        yield self._relative(before, after, largest, words) if relative else self._by_margin(before, after, words)
        limit = self._worse_by(allowed, words, mean)
        yield from judge_repeats(self.key, self._here, runs, limit, self._place, self.criterion.changed)

    def _drifting(self, before: Estimate, after: Estimate, largest: float) -> str:
        names = self.criterion.against or "", "it"
        both = zip(names, (before, after), strict=True)
        return next((text for name, one in both if (text := drift_of(name, one.summary, largest, SURE))), "")

    def _relative(self, before: Estimate, after: Estimate, largest: float, words: str) -> Finding:
        if self.rules.paired and all(before.summary.values):
            interval, deviation = paired_interval(before.summary, after.summary, self.confidence)
        elif drifting := self._drifting(before, after, largest):
            advice = "Let the runs alternate (alternate = true in a plan), so that drift cancels out."
            return Finding("RETEST", self._place, drifting, advice)
        else:
            interval = ratio_interval(before, after, self.confidence)
            deviation = math.hypot(before.summary.deviation, after.summary.deviation) / abs(before.summary.mean)
        if not is_known(interval):
            return self._single_run()
        limit = self._worse_by(largest, words)
        if interval.high - interval.low > MAX_TELLING_WIDTH and interval.low < limit.value < interval.high:
            reason = f"the repeats of {self._name} differ so much that its change against {self._against} is unknown"
            return Finding("RETEST", self._place, reason, _FIND_OUT)
        changed = percent_span(interval.low, interval.high, limit.value, signed=True)
        return self._held(interval, limit, f"changed by {changed}", deviation, len(after.summary.values))

    def _by_margin(self, before: Estimate, after: Estimate, words: str) -> Finding:
        interval, unit = difference_interval(before, after, self.confidence), self._meaning.unit
        if not is_known(interval):
            return self._single_run()
        limit = self._worse_by(self.criterion.margin, words)
        means = [format_quantity(one.summary.mean, unit) for one in (before, after)]
        clause = f"went from {means[0]} to {means[1]}, a change of {_signed_span(interval, limit.value, unit)}"
        deviation = math.hypot(before.summary.deviation, after.summary.deviation)
        return self._held(interval, limit, clause, deviation, len(after.summary.values))

    def _worse_by(self, allowed: float, words: str, than: float = 0.0) -> Limit:
        """The limit that lies `allowed` from a value on the side that is worse."""
        value = than - allowed if self._higher_is_better else than + allowed
        return Limit(value, self._higher_is_better, words)

    def _held(self, interval: Interval, limit: Limit, clause: str, deviation: float, have: int) -> Finding:
        gap = abs((interval.low + interval.high) / 2 - limit.value)
        advice = _more(repeats_needed(deviation, gap, self.confidence), have)
        return limit.hold(interval, self._place, f"{self._name} {clause} against {self._against}", advice)

    @property
    def _against(self) -> str:
        return self.criterion.against or ""


def _leaning(found: Estimate) -> float:
    """How far the mean of all repeats is from the trimmed mean."""
    return abs(statistics.fmean(found.summary.values) - found.summary.mean)


def _in_pairs(
    before: Series, before_runs: Sequence[RunSample], after: Series, after_runs: Sequence[RunSample]
) -> tuple[list[RunSample], list[RunSample]]:
    """The runs of those rounds in which both sides can be used."""
    before_ids, after_ids = ({run.id for run in runs} for runs in (before_runs, after_runs))
    rounds = zip(before.runs, after.runs, strict=False)
    usable = [(was, now) for was, now in rounds if was.id in before_ids and now.id in after_ids]
    return [was for was, _ in usable], [now for _, now in usable]


def _signed_span(interval: Interval, limit: float, unit: str) -> str:
    if unit == "ratio":
        return percent_span(interval.low, interval.high, limit, signed=True)
    ends = interval.low, interval.high
    low, high = (f"{'-' if value < 0 else '+'}{format_quantity(abs(value), unit)}" for value in ends)
    return low if low == high else f"{low} to {high}"


def _two_digits(number: float) -> int:
    """A number that is no smaller, and round."""
    step = int(10 ** max(math.floor(math.log10(number)) - 1, 0))
    return math.ceil(number / step) * step


def _more(needed: int | None, have: int) -> str:
    if needed is None or needed <= have:
        return "The result stands right at the limit: more repeats will not decide it; look for what makes them differ."
    return f"About {needed} repeats would decide it, if they spread as these {have} do."
