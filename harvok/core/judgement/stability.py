"""Whether the repeats of a series agree with one another, which a trimmed mean alone does not show.

The trimmed mean leaves the highest and the lowest of five repeats out, so that one that the host spoilt does not
decide. An intermittent fault looks just like that, and it is *the* fault to catch: so every repeat is looked at as
well. One that stands apart, or that the path broke off, calls for a RETEST. It counts against the equipment where it
alone takes the mean of all repeats past the limit, and where one that misses the limit by far comes more than once. A
repeat that is a few percent low is what a busy host does as well: of those, no number rejects a device by itself.
"""

import statistics
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from harvok.core.figures import Figure, FigureKey
from harvok.core.judgement.blame import limiter_of, weigh_limiter
from harvok.core.judgement.estimate import at_best
from harvok.core.judgement.finding import Finding
from harvok.core.judgement.limits import Limit
from harvok.core.judgement.sample import FailedRun, RunSample, Series
from harvok.core.labels import label_text
from harvok.core.measures.drift import LIKELY, is_trend, kendall_score, median_slope
from harvok.core.measures.outliers import METHOD, apart
from harvok.core.measures.statistics import Summary, summarise
from harvok.core.quantities import QUANTITIES
from harvok.core.units import counted, format_quantity

_ADVICE = (
    "An intermittent fault looks like this: re-seat the leads, look at the error counters of every port, and take a "
    "new series with more repeats."
)
_GROSS = 0.1
"""Of the limit, by which a repeat misses it by far: a host that is spoilt for a moment costs a few percent of a run of
ten seconds, and a link that went down for one second of it costs a tenth."""
_MIN_FOR_TREND = 5
"""Repeats: four in order happen by chance in one of twelve series."""
_MIN_OF_NOTE = 0.002
"""Of the median: less is within what counters and clocks of a host differ by from run to run."""


@dataclass(frozen=True, slots=True)
class Apart:
    """A repeat that stands apart: its number from 1, its run, its value, and whether that is worse than the rest."""

    number: int
    run: RunSample
    value: float
    worse: bool


def repeats_apart(key: FigureKey, runs: Sequence[RunSample]) -> list[Apart]:
    """The repeats whose figure stands apart from the others, in the order in which they were taken."""
    meaning = QUANTITIES[key[0]]
    known = [(number, run, figure.value) for number, run in enumerate(runs, 1) if (figure := run.figure(key))]
    if not known:
        return []
    values = [value for _, _, value in known]
    median = summarise(values).median
    return [
        Apart(number, run, value, meaning.better != "neither" and (value < median) == (meaning.better == "higher"))
        for number, run, value in (known[place] for place in apart(values, meaning.margin))
    ]


def judge_repeats(
    key: FigureKey, series: Series, runs: Sequence[RunSample], limit: Limit, place: str, changed: Sequence[str]
) -> Iterator[Finding]:
    """A finding where repeats stand apart; none where all agree."""
    found = repeats_apart(key, runs)
    if not found:
        return
    clause, worse = _clause(key, found, runs), [one for one in found if one.worse]
    figures = [figure for run in runs if (figure := run.figure(key))]
    mean = statistics.fmean(figure.value for figure in figures)
    gross = [one for one in worse if _misses([one.run.by_key[key]], limit.with_slack(_GROSS))]
    if worse and _misses(figures, limit):
        shown = format_quantity(mean, QUANTITIES[key[0]].unit)
        reason = f"{clause}; with it the mean of all repeats is {shown}, which misses {limit.words}"
        yield _against(worse[-1], key, Finding("REJECT", place, reason, _ADVICE), changed)
    elif gross and len(gross) + len(_by_path(series)) > 1:
        yield _against(gross[-1], key, Finding("REJECT", place, f"{clause}: it happened again", _ADVICE), changed)
    else:
        yield Finding("RETEST", place, clause, _ADVICE)


def _misses(figures: Sequence[Figure], limit: Limit) -> bool:
    """Whether the mean of figures misses a limit, and not by the chance of what was counted alone."""
    return not limit.is_met_by(at_best(figures, limit.at_least))


def _against(one: Apart, key: FigureKey, finding: Finding, changed: Sequence[str]) -> Finding:
    """Blames equipment for a repeat only where that repeat's own limiter does."""
    return weigh_limiter(finding, limiter_of(one.run, key) if QUANTITIES[key[0]].is_rate else None, changed)


def _clause(key: FigureKey, found: Sequence[Apart], runs: Sequence[RunSample]) -> str:
    unit, odd = QUANTITIES[key[0]].unit, {one.run.id for one in found}
    rest = [figure.value for run in runs if run.id not in odd and (figure := run.figure(key))]
    low, high = format_quantity(min(rest), unit), format_quantity(max(rest), unit)
    others = low if low == high else f"{low} to {high}"
    values = " and ".join(format_quantity(one.value, unit) for one in found)
    numbers = " and ".join(str(one.number) for one in found)
    stand = f"repeat {numbers} stands" if len(found) == 1 else f"repeats {numbers} stand"
    name = QUANTITIES[key[0]].name
    return f"{stand} apart: {name} was {values}, and {others} in the others ({METHOD})"


def judge_failures(series: Series) -> Iterator[Finding]:
    """A finding where runs of a series did not come to their end; none for those that a person broke off."""
    if lost := _by_path(series):
        runs = ", ".join(run.id for run in lost)
        reason = f"{counted(len(lost), 'repeat')} broke off ({runs}): {lost[-1].message}"
        yield Finding("REJECT" if len(lost) > 1 else "RETEST", series.name, reason, _ADVICE)
    if failed := [run for run in series.failed if run.fault == "tester"]:
        reason = f"the tester failed in {counted(len(failed), 'repeat')} ({failed[-1].id}): {failed[-1].message}"
        yield Finding("RETEST", series.name, reason, "Mend that, and take a new series.")


def _by_path(series: Series) -> list[FailedRun]:
    return [run for run in series.failed if run.fault == "path"]


def oddities(series: Series) -> list[str]:
    """What a person should look at in a series: repeats that stand apart, and a steady rise or fall, of every figure of
    rank headline."""
    found = []
    for key in dict.fromkeys(f.key for run in series.runs for f in run.figures if f.meaning.rank == "headline"):
        of = ", ".join(filter(None, (series.name, label_text(dict(key[1])))))
        if odd := repeats_apart(key, series.runs):
            found.append(f"{of}: {_clause(key, odd, series.runs)}")
        values = [figure.value for run in series.runs if (figure := run.figure(key))]
        if trend := _trend(values):
            unit = QUANTITIES[key[0]].unit
            change = f"from {format_quantity(values[0], unit)} to {format_quantity(values[-1], unit)}"
            found.append(
                f"{of}: {trend} from repeat to repeat, {change}: warming up, throttling, or something filling?"
            )
    return found


def _trend(values: Sequence[float]) -> str:
    """`rises` or `falls` when values do so beyond chance, and by enough to matter."""
    if len(values) < _MIN_FOR_TREND or not is_trend(values, LIKELY) or summarise(values).spread < _MIN_OF_NOTE:
        return ""
    return "rises" if kendall_score(values) > 0 else "falls"


def drift_of(name: str, summary: Summary, margin: float, level: float) -> str:
    """Says when a series drifts by more than `margin` (a ratio) from first to last, which would pass for a change or
    hide one."""
    slope = median_slope(range(len(summary.values)), summary.values) or 0.0
    drift = slope * (len(summary.values) - 1) / abs(summary.mean) if summary.mean else 0.0
    if abs(drift) <= margin or not is_trend(summary.values, level):
        return ""
    return f"{name} drifts by {drift * 100:+.1f} % from first to last, more than the margin"
