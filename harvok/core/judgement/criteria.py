"""Acceptance criteria that were set beforehand, judged figure by figure over the series of a plan.

A limit is judged by the confidence interval of the trimmed mean, as in harvok.core.judgement.compare. When many figures
are judged at once, chance would break some limit sooner or later: the intervals are widened so that all of them
together hold with the confidence asked for (Bonferroni).
"""

import math
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field

from harvok.core.figures import Figure
from harvok.core.judgement.compare import usual_limiter, weigh_limiter
from harvok.core.judgement.conditions import differences, fits
from harvok.core.judgement.finding import Finding, Verdict, blamed_on_tester, worst_first, worst_verdict
from harvok.core.judgement.sample import Series
from harvok.core.judgement.spans import percent_span, quantity_span
from harvok.core.labels import label_text
from harvok.core.measures.drift import LIKELY, SURE, is_trend, kendall_score, median_slope
from harvok.core.measures.statistics import Interval, Summary, relative_change, repeats_needed, summarise
from harvok.core.quantities import QUANTITIES
from harvok.core.units import counted, format_quantity, format_share


@dataclass(frozen=True, slots=True)
class Criterion:
    """One limit. `quantity` of the series `step` is to be at least or at most something (in the unit of the quantity),
    or no worse than in the series `against` by more than `largest_regression` (a ratio). `labels` narrow it down to a
    direction, a frame size, a load; without them it holds for each figure of the quantity. `changed` names conditions
    that differ on purpose."""

    quantity: str
    step: str
    minimum: float | None = None
    maximum: float | None = None
    max_regression: float | None = None
    against: str | None = None
    labels: dict[str, str] = field(default_factory=dict)
    changed: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Rules:
    """How sure a judgement is to be. `paired`: the runs of two series alternated, and are compared pair by pair, so
    that drift cancels out."""

    min_repeats: int = 5
    max_spread: float | None = None
    confidence: float = 0.95
    paired: bool = False


@dataclass(frozen=True, slots=True)
class Judgement:
    """What came of all criteria, worst first."""

    findings: list[Finding]
    remarks: list[str] = field(default_factory=list)

    @property
    def verdict(self) -> Verdict:
        """REJECT if any finding says so, else RETEST if any does, else ACCEPT; RETEST when nothing was judged."""
        return worst_verdict(self.findings)


def judge(criteria: Sequence[Criterion], series: Mapping[str, Series], rules: Rules) -> Judgement:
    """Judges every criterion for every figure that it is about; a series that is not there calls for a RETEST."""
    questions = [(c, key) for c in criteria for key in _keys(c, series)]
    confidence = 1 - (1 - rules.confidence) / max(sum(_bounds(c) for c, _ in questions), 1)
    findings = [*_too_few(criteria, series, rules), *_unlike(criteria, series), *_missing(criteria, series)]
    for criterion, key in questions:
        findings += _judge_figure(criterion, key, series, rules, confidence)
    remarks = [remark for sery in series.values() for remark in oddities(sery)]
    return Judgement(sorted(findings, key=worst_first), remarks)


def _bounds(criterion: Criterion) -> int:
    return sum(limit is not None for limit in (criterion.minimum, criterion.maximum, criterion.max_regression))


_Key = tuple[str, tuple[tuple[str, str], ...]]


def _keys(criterion: Criterion, series: Mapping[str, Series]) -> list[_Key]:
    """The figures that a criterion is about."""
    runs = series[criterion.step].runs if criterion.step in series else []
    found = [figure for run in runs for figure in run.figures if figure.quantity == criterion.quantity]
    return list(dict.fromkeys(f.key for f in found if criterion.labels.items() <= f.labels.items()))


def _missing(criteria: Sequence[Criterion], series: Mapping[str, Series]) -> Iterator[Finding]:
    for criterion in criteria:
        if criterion.step in series and series[criterion.step].runs and not _keys(criterion, series):
            name = QUANTITIES[criterion.quantity].name
            of = label_text(criterion.labels)
            yield Finding(
                "RETEST",
                criterion.step,
                f"no run has a figure '{name}'{f' of {of}' if of else ''}",
                "Correct the criterion, or add a test to the plan that measures it.",
            )


def _too_few(criteria: Sequence[Criterion], series: Mapping[str, Series], rules: Rules) -> Iterator[Finding]:
    for name in dict.fromkeys(n for c in criteria for n in (c.step, c.against) if n):
        runs = len(series[name].runs) if name in series else 0
        if runs < rules.min_repeats:
            yield Finding(
                "RETEST",
                name,
                f"{counted(runs, 'complete run')}, and {rules.min_repeats} are required",
                "Run the plan again: it goes on where it stopped.",
            )


def _unlike(criteria: Sequence[Criterion], series: Mapping[str, Series]) -> Iterator[Finding]:
    """Series that are compared under conditions which differ, and were not said to."""
    pairs: dict[tuple[str, str], set[str]] = {}
    for c in criteria:
        if c.against in series and c.step in series and c.against:
            pairs.setdefault((c.against, c.step), set()).update(c.changed)
    for (before, after), changed in pairs.items():
        known = {key for name in (before, after) for run in series[name].runs for key in run.conditions}
        declared = [name for name in changed if any(fits(key, name) for key in known)]
        undeclared = [d.condition for d in differences(series[before], series[after], declared) if not d.declared]
        if undeclared:
            yield Finding(
                "RETEST",
                after,
                f"it and {before} were taken under unlike conditions ({', '.join(undeclared)})",
                "Measure again under like conditions, or name in the plan what is changed on purpose.",
            )


def _judge_figure(
    criterion: Criterion, key: _Key, series: Mapping[str, Series], rules: Rules, confidence: float
) -> Iterator[Finding]:
    here, figures = series[criterion.step], _figures(series[criterion.step], key)
    labels = dict(key[1])
    place = ", ".join(filter(None, (criterion.step, label_text(labels))))
    limiter = usual_limiter(here, labels.get("direction", ""))
    if any(figure.mark for figure in figures) or (limiter and limiter.blame == "tester"):
        yield blamed_on_tester(place, limiter)
        return
    summary = summarise([figure.value for figure in figures])
    if rules.max_spread is not None and summary.spread > rules.max_spread:
        yield Finding(
            "RETEST",
            place,
            f"{_name(key)} spreads over {format_share(summary.spread)} where {format_share(rules.max_spread)} is "
            "allowed",
            "Find out what makes the repeats differ, then measure again.",
        )
        return
    for finding in _bounds_of(criterion, key, summary, series, rules, confidence, place):
        yield weigh_limiter(finding, limiter, criterion.changed, None)


def _figures(series: Series, key: _Key) -> list[Figure]:
    return [figure for run in series.runs for figure in run.figures if figure.key == key]


def _name(key: _Key) -> str:
    return QUANTITIES[key[0]].name


def _bounds_of(
    criterion: Criterion,
    key: _Key,
    summary: Summary,
    series: Mapping[str, Series],
    rules: Rules,
    confidence: float,
    place: str,
) -> Iterator[Finding]:
    unit = QUANTITIES[key[0]].unit
    interval = summary.interval(confidence)
    for limit, sign, words in ((criterion.minimum, 1, "at least"), (criterion.maximum, -1, "at most")):
        if limit is not None:
            clause = f"{_name(key)} is {quantity_span(interval.low, interval.high, limit, unit)}"
            shown = f"the limit of {words} {format_quantity(limit, unit)}"
            yield _against(interval, limit, sign, place, clause, shown, summary, confidence)
    if criterion.max_regression is not None and criterion.against in series:
        yield _regression(criterion, key, summary, series[criterion.against or ""], rules, confidence, place)


def _against(
    interval: Interval,
    limit: float,
    sign: int,
    place: str,
    clause: str,
    words: str,
    summary: Summary,
    confidence: float,
) -> Finding:
    """Holds an interval against a limit; `sign` is 1 where more is better, −1 where less is."""
    if not math.isfinite(interval.low) or not math.isfinite(interval.high):
        return Finding("RETEST", place, "a single run says nothing about spread", "Take at least five repeats.")
    low, high = sorted((sign * interval.low, sign * interval.high))
    if low >= sign * limit:
        return Finding("ACCEPT", place, f"{clause}, which meets {words}")
    if high < sign * limit:
        return Finding("REJECT", place, f"{clause}, which misses {words}")
    needed = repeats_needed(summary.deviation, abs(summary.mean - limit), confidence)
    return Finding("RETEST", place, f"{clause}, which straddles {words}", _more(needed, len(summary.values)))


def _more(needed: int | None, have: int) -> str:
    if needed is None or needed <= have:
        return "The result stands right at the limit: more repeats will not decide it; look for what makes them differ."
    return f"About {needed} repeats would decide it, if they spread as these {have} do."


def _regression(
    criterion: Criterion, key: _Key, after: Summary, baseline: Series, rules: Rules, confidence: float, place: str
) -> Finding:
    figures, largest = _figures(baseline, key), criterion.max_regression or 0.0
    if any(figure.mark for figure in figures):
        return blamed_on_tester(f"{baseline.name}, {place}", None)
    if not figures or not summarise([f.value for f in figures]).mean:
        return Finding("RETEST", place, f"{baseline.name} has no such figure to compare with", "Measure it there too.")
    before = summarise([figure.value for figure in figures])
    if rules.paired and len(before.values) == len(after.values) and all(before.values):
        ratios = summarise([a / b - 1 for a, b in zip(after.values, before.values, strict=True)])
        interval, deviation = ratios.interval(confidence), ratios.deviation
    else:
        if drifting := _drifting(baseline.name, before, after, largest):
            return Finding("RETEST", place, drifting, "Set alternate = true in the plan, so that drift cancels out.")
        interval = relative_change(before, after, confidence).interval
        deviation = math.hypot(before.deviation / before.mean, after.deviation / before.mean)
    sign = -1 if QUANTITIES[key[0]].better == "lower" else 1
    if not math.isfinite(interval.low):
        return Finding("RETEST", place, "a single run says nothing about spread", "Take at least five repeats.")
    low, high = sorted((sign * interval.low, sign * interval.high))
    changed = percent_span(interval.low, interval.high, -sign * largest, signed=True)
    clause = f"{_name(key)} changed by {changed} against {baseline.name}"
    words = f"the limit of {format_share(largest)} regression"
    if low >= -largest:
        return Finding("ACCEPT", place, f"{clause}, which meets {words}")
    if high < -largest:
        return Finding("REJECT", place, f"{clause}, which misses {words}")
    gap = abs((low + high) / 2 + largest)
    return Finding(
        "RETEST",
        place,
        f"{clause}, which straddles {words}",
        _more(repeats_needed(deviation, gap, confidence), len(after.values)),
    )


_OUTLIER = 5.0
"""Times the scaled median deviation. The median deviation of five values is a poor one: the usual 3.5 points at a
value of every fifth good series of five, this of every ninth (20 000 drawn series), and nothing is dropped for it."""
_SCALE = 1.4826
"""Of the median deviation to the standard deviation of normal values: 1 / Φ⁻¹(3/4)."""
_MIN_FOR_ODDITIES = 5
"""Repeats: with fewer, no value stands apart from enough others."""
_MIN_OF_NOTE = 0.002
"""Of the median: less is within what counters and clocks of a host differ by from run to run."""


def oddities(series: Series) -> list[str]:
    """What a person should look at in a series: values far from the rest, and a steady rise or fall. Nothing of it is
    left out of any figure."""
    found = []
    for key in dict.fromkeys(f.key for run in series.runs for f in run.figures if f.meaning.rank == "headline"):
        values = [figure.value for figure in _figures(series, key)]
        if len(values) < _MIN_FOR_ODDITIES:
            continue
        of = ", ".join(filter(None, (series.name, label_text(dict(key[1])))))
        unit = QUANTITIES[key[0]].unit
        for number, value in _outliers(values):
            found.append(f"{of}: repeat {number} stands apart with {format_quantity(value, unit)}; it is not left out")
        if trend := _trend(values):
            change = f"from {format_quantity(values[0], unit)} to {format_quantity(values[-1], unit)}"
            found.append(
                f"{of}: {trend} from repeat to repeat, {change}: warming up, throttling, or something filling?"
            )
    return found


def _outliers(values: Sequence[float]) -> Iterator[tuple[int, float]]:
    summary = summarise(values)
    deviations = sorted(abs(value - summary.median) for value in values)
    usual = max(_SCALE * deviations[len(deviations) // 2], _MIN_OF_NOTE * abs(summary.median))
    for number, value in enumerate(values, 1):
        if abs(value - summary.median) > _OUTLIER * usual:
            yield number, value


def _drifting(name: str, before: Summary, after: Summary, largest: float) -> str:
    """Says when one of two series drifts by more than the margin, which would pass for a change or hide one."""
    for which, summary in ((name, before), ("it", after)):
        slope = median_slope(range(len(summary.values)), summary.values) or 0.0
        drift = slope * (len(summary.values) - 1) / abs(summary.mean)
        if abs(drift) > largest and is_trend(summary.values, SURE):
            return f"{which} drifts by {drift * 100:+.1f} % from first to last, more than the margin"
    return ""


def _trend(values: Sequence[float]) -> str:
    """`rises` or `falls` when values do so beyond chance, and by enough to matter."""
    if not is_trend(values, LIKELY) or summarise(values).spread < _MIN_OF_NOTE:
        return ""
    return "rises" if kendall_score(values) > 0 else "falls"
