"""Two series side by side, and the verdict under criteria that were set beforehand.

A limit is judged by the confidence interval, never by a single number: a result is within the limit when its whole
interval is, beyond it when its whole interval is, and otherwise undecided, which calls for a RETEST.
"""

import math
from collections.abc import Collection, Iterator, Sequence
from dataclasses import dataclass, field

from harvok.core.figures import Figure
from harvok.core.judgement.conditions import Difference, differences
from harvok.core.judgement.finding import Finding, Verdict, blamed_on_tester, worst_first, worst_verdict
from harvok.core.judgement.sample import Series
from harvok.core.judgement.spans import percent_span
from harvok.core.labels import label_text
from harvok.core.limiter import Limiter
from harvok.core.measures.statistics import Change, Summary, relative_change, summarise
from harvok.core.quantities import QUANTITIES
from harvok.core.units import counted, format_share
from harvok.errors import UsageError

_SETTING_BEHIND = {"receive-window": "socket-buffer", "send-buffer": "socket-buffer", "pacing": "pacing"}
"""The setting which, when it was changed on purpose, makes a limiter among the settings part of what is judged."""


@dataclass(frozen=True, slots=True)
class Criteria:
    """What is acceptable, as ratios. None asks nothing of that kind."""

    min_share: float | None = None
    max_regression: float | None = 0.02
    min_repeats: int = 5
    confidence: float = 0.95
    ignore_conditions: bool = False


@dataclass(frozen=True, slots=True)
class ComparedFigure:
    """One figure in both series; `change` is None where there is no ratio to form."""

    quantity: str
    labels: dict[str, str]
    before: Summary
    after: Summary
    change: Change | None
    by_tester: bool = False
    """Whether a figure of either series is marked as the tester's limit."""


@dataclass(frozen=True, slots=True)
class Comparison:
    """Everything that compare has to say. `findings` stand worst first."""

    before: Series
    after: Series
    criteria: Criteria
    rows: list[ComparedFigure]
    differences: list[Difference]
    findings: list[Finding] = field(default_factory=list)

    @property
    def verdict(self) -> Verdict:
        """REJECT if any finding says so, else RETEST if any does, else ACCEPT; unlike conditions allow no verdict."""
        if any(not f.where and f.verdict == "RETEST" for f in self.findings):
            return "RETEST"
        return worst_verdict(self.findings)


def compare(before: Series, after: Series, criteria: Criteria, changed: Collection[str] = ()) -> Comparison:
    """Compares two series. Raises UsageError when they have no goodput in a common direction."""
    rows = list(_rows(before, after, criteria.confidence))
    if not any(QUANTITIES[row.quantity].judged for row in rows):
        raise UsageError(
            f"'{before.name}' and '{after.name}' have no complete run in a common direction",
            "Measure both in the same directions; `harvok logbook list` shows what there is.",
        )
    found = differences(before, after, changed)
    findings = [*_overall(before, after, criteria, found)]
    for row in rows:
        if QUANTITIES[row.quantity].judged:
            findings += _judge(row, rows, before, after, criteria, changed)
    findings.sort(key=lambda finding: (bool(finding.where), worst_first(finding)))
    return Comparison(before, after, criteria, rows, found, findings)


def _rows(before: Series, after: Series, confidence: float) -> Iterator[ComparedFigure]:
    """One row for every figure that both series have."""
    was, now = _by_key(before), _by_key(after)
    for key, figures in was.items():
        if key in now:
            summaries = summarise([f.value for f in figures]), summarise([f.value for f in now[key]])
            change = relative_change(*summaries, confidence) if summaries[0].mean else None
            marked = any(figure.mark == "tester-limit" for figure in (*figures, *now[key]))
            yield ComparedFigure(figures[0].quantity, figures[0].labels, *summaries, change, marked)


_Key = tuple[str, tuple[tuple[str, str], ...]]


def _by_key(series: Series) -> dict[_Key, list[Figure]]:
    found: dict[_Key, list[Figure]] = {}
    for run in series.runs:
        for figure in run.figures:
            found.setdefault(figure.key, []).append(figure)
    return found


def _overall(before: Series, after: Series, criteria: Criteria, found: Sequence[Difference]) -> Iterator[Finding]:
    undeclared = [d.condition for d in found if not d.declared]
    if undeclared and not criteria.ignore_conditions:
        yield Finding(
            "RETEST",
            "",
            f"the two series were taken under unlike conditions ({', '.join(undeclared)})",
            "Measure again under like conditions, name what was changed on purpose with --changed, "
            "or judge all the same with --ignore-conditions.",
        )
    for series in (before, after):
        if len(series.runs) < criteria.min_repeats:
            yield Finding(
                "RETEST",
                "",
                f"'{series.name}' has {counted(len(series.runs), 'complete run')}, and {criteria.min_repeats} are "
                "required",
                f"Add repeats to it: --series {series.name} --repeat {criteria.min_repeats - len(series.runs)}.",
            )


def _judge(
    row: ComparedFigure,
    rows: Sequence[ComparedFigure],
    before: Series,
    after: Series,
    criteria: Criteria,
    changed: Collection[str],
) -> Iterator[Finding]:
    direction = row.labels.get("direction", "")
    if row.by_tester:
        yield blamed_on_tester(label_text(row.labels), None)
        return
    limiter = usual_limiter(after, direction)
    if limiter and limiter.blame == "tester":
        yield blamed_on_tester(label_text(row.labels), limiter)
        return
    if criteria.max_regression is not None and row.change:
        finding = _regression(row, row.change, criteria.max_regression)
        yield weigh_limiter(finding, limiter, changed, usual_limiter(before, direction))
    if criteria.min_share is not None:
        wanted = (QUANTITIES[row.quantity].share, row.labels)
        share = next((r for r in rows if (r.quantity, r.labels) == wanted), None)
        yield weigh_limiter(_share(row, share, criteria.min_share, criteria.confidence), limiter, changed, None)


def _regression(row: ComparedFigure, change: Change, largest: float) -> Finding:
    low, high = change.interval.low, change.interval.high
    if not math.isfinite(low):
        return Finding(
            "RETEST",
            label_text(row.labels),
            "a single run on one side says nothing about spread",
            "Take at least five repeats.",
        )
    name = QUANTITIES[row.quantity].name
    clause = f"{name} changed by {percent_span(low, high, -largest, signed=True)}"
    return _against(low, high, -largest, label_text(row.labels), clause, f"{format_share(largest)} regression")


def _share(row: ComparedFigure, share: ComparedFigure | None, minimum: float, confidence: float) -> Finding:
    if share is None:
        return Finding(
            "RETEST",
            label_text(row.labels),
            "no rated speed is known, so there is no ceiling to take a share of",
            "Measure with --rated and the speed that the equipment is sold for.",
        )
    interval = share.after.interval(confidence)
    name = QUANTITIES[row.quantity].name
    clause = f"{name} was {percent_span(interval.low, interval.high, minimum)} of the ceiling"
    limit = f"at least {format_share(minimum)}"
    return _against(interval.low, interval.high, minimum, label_text(row.labels), clause, limit)


def _against(low: float, high: float, limit: float, place: str, clause: str, shown: str) -> Finding:
    """Holds an interval against its lower limit, which is `shown` so."""
    if low >= limit:
        return Finding("ACCEPT", place, f"{clause}, which meets the limit of {shown}")
    if high < limit:
        return Finding("REJECT", place, f"{clause}, which misses the limit of {shown}")
    advice = "Take more repeats, or find out what makes them differ so much."
    return Finding("RETEST", place, f"{clause}, which straddles the limit of {shown}", advice)


def weigh_limiter(
    finding: Finding, limiter: Limiter | None, changed: Collection[str], baseline: Limiter | None
) -> Finding:
    """Takes back a verdict that the limiter does not bear out.

    A rejection needs the equipment, or a setting that was itself under test, as the limiter. An acceptance against
    a baseline needs a baseline that the tester did not hold down.
    """
    if finding.verdict == "REJECT" and limiter and limiter.blame == "settings":
        if _SETTING_BEHIND.get(limiter.kind) not in changed:
            return Finding("RETEST", finding.where, f"{finding.reason}; but {limiter.evidence}", limiter.advice)
        return Finding("REJECT", finding.where, f"{finding.reason}: {limiter.evidence}", limiter.advice)
    if finding.verdict == "REJECT" and limiter:
        return Finding("REJECT", finding.where, f"{finding.reason}: {limiter.evidence}", limiter.advice)
    if finding.verdict == "ACCEPT" and baseline and baseline.blame == "tester":
        return Finding(
            "RETEST",
            finding.where,
            f"{finding.reason}; but the baseline was held down by the tester: {baseline.evidence}",
            baseline.advice,
        )
    return finding


def usual_limiter(series: Series, direction: str) -> Limiter | None:
    """The limiter of most runs of a series in a direction; the latest run speaks for its kind."""
    found = [run.limiters[direction] for run in series.runs if direction in run.limiters]
    kinds = [limiter.kind for limiter in found]
    return max(reversed(found), key=lambda limiter: kinds.count(limiter.kind)) if found else None
