"""Two series side by side, and the verdict under criteria that were set beforehand.

A limit is judged by the confidence interval, never by a single number: a result is within the limit when its whole
interval is, beyond it when its whole interval is, and otherwise undecided, which calls for a RETEST.
"""

import math
from collections.abc import Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Literal

from harvok.core.figures import Figure
from harvok.core.judgement.conditions import Difference, differences
from harvok.core.judgement.sample import Series
from harvok.core.measures.statistics import Change, Summary, relative_change, summarise
from harvok.core.quantities import QUANTITIES
from harvok.core.tcp.limiter import Limiter
from harvok.core.units import format_share
from harvok.errors import UsageError

Verdict = Literal["ACCEPT", "REJECT", "RETEST"]

_WORST_FIRST: tuple[Verdict, ...] = ("REJECT", "RETEST", "ACCEPT")
JUDGED = {
    "goodput-settled": "ceiling-share",
    "throughput": "throughput-share",
    "udp-received": "",
    "udp-throughput": "",
}
"""The quantities that are judged, each with the one that says its share of what is possible; empty for none."""
_SETTING_BEHIND = {"receive-window": "socket-buffer", "send-buffer": "socket-buffer", "pacing": "pacing"}
"""The setting which, when it was changed on purpose, makes a limiter among the settings part of what is judged."""


@dataclass(frozen=True, slots=True)
class Criteria:
    """What is acceptable, as ratios. None asks nothing of that kind."""

    min_share: float | None = None
    largest_regression: float | None = 0.02
    min_repeats: int = 5
    confidence: float = 0.95
    despite_conditions: bool = False


@dataclass(frozen=True, slots=True)
class Row:
    """One figure in both series; `change` is None where there is no ratio to form."""

    quantity: str
    labels: dict[str, str]
    before: Summary
    after: Summary
    change: Change | None
    by_tester: bool = False
    """Whether a figure of either series is marked as the tester's limit."""


@dataclass(frozen=True, slots=True)
class Finding:
    """One criterion judged for one figure, with its reason and advice; `where` names direction and frame size, and is
    empty for what concerns everything."""

    verdict: Verdict
    where: str
    reason: str
    advice: str = ""


@dataclass(frozen=True, slots=True)
class Comparison:
    """Everything that compare has to say. `findings` stand worst first."""

    before: Series
    after: Series
    criteria: Criteria
    rows: list[Row]
    differences: list[Difference]
    findings: list[Finding] = field(default_factory=list)

    @property
    def verdict(self) -> Verdict:
        """REJECT if any finding says so, else RETEST if any does, else ACCEPT; unlike conditions allow no verdict."""
        if any(not f.where and f.verdict == "RETEST" for f in self.findings):
            return "RETEST"
        return worst_verdict(self.findings)


def worst_verdict(findings: Sequence[Finding]) -> Verdict:
    """The verdict that all findings come to; RETEST when there is none."""
    return min((finding.verdict for finding in findings), key=_WORST_FIRST.index, default="RETEST")


def worst_first(finding: Finding) -> int:
    """The key that sorts findings, worst first."""
    return _WORST_FIRST.index(finding.verdict)


def compare(before: Series, after: Series, criteria: Criteria, changed: Collection[str] = ()) -> Comparison:
    """Compares two series. Raises UsageError when they have no goodput in a common direction."""
    rows = list(_rows(before, after, criteria.confidence))
    if not any(row.quantity in JUDGED for row in rows):
        raise UsageError(
            f"'{before.name}' and '{after.name}' have no complete run in a common direction",
            "Measure both in the same directions; `harvok logbook list` shows what there is.",
        )
    found = differences(before, after, changed)
    findings = [*_overall(before, after, criteria, found)]
    for row in rows:
        if row.quantity in JUDGED:
            findings += _judge(row, rows, before, after, criteria, changed)
    findings.sort(key=lambda finding: (bool(finding.where), _WORST_FIRST.index(finding.verdict)))
    return Comparison(before, after, criteria, rows, found, findings)


def _rows(before: Series, after: Series, confidence: float) -> Iterator[Row]:
    """One row for every figure that both series have."""
    was, now = _by_key(before), _by_key(after)
    for key, figures in was.items():
        if key in now:
            summaries = summarise([f.value for f in figures]), summarise([f.value for f in now[key]])
            change = relative_change(*summaries, confidence) if summaries[0].mean else None
            marked = any(figure.mark == "tester-limit" for figure in (*figures, *now[key]))
            yield Row(figures[0].quantity, figures[0].labels, *summaries, change, marked)


_Key = tuple[str, tuple[tuple[str, str], ...]]


def _by_key(series: Series) -> dict[_Key, list[Figure]]:
    found: dict[_Key, list[Figure]] = {}
    for run in series.runs:
        for figure in run.figures:
            found.setdefault(figure.key, []).append(figure)
    return found


def _overall(before: Series, after: Series, criteria: Criteria, found: Sequence[Difference]) -> Iterator[Finding]:
    undeclared = [d.condition for d in found if not d.declared]
    if undeclared and not criteria.despite_conditions:
        yield Finding(
            "RETEST",
            "",
            f"the two series were taken under unlike conditions ({', '.join(undeclared)})",
            "Measure again under like conditions, name what was changed on purpose with --changed, "
            "or judge all the same with --despite-conditions.",
        )
    for series in (before, after):
        if len(series.runs) < criteria.min_repeats:
            yield Finding(
                "RETEST",
                "",
                f"'{series.name}' has {len(series.runs)} complete runs where {criteria.min_repeats} are asked for",
                f"Add repeats to it: --series {series.name} --repeat {criteria.min_repeats - len(series.runs)}.",
            )


def _judge(
    row: Row, rows: Sequence[Row], before: Series, after: Series, criteria: Criteria, changed: Collection[str]
) -> Iterator[Finding]:
    direction = row.labels["direction"]
    if row.by_tester:
        yield blamed_on_tester(where(row.labels), None)
        return
    limiter = usual_limiter(after, direction)
    if limiter and limiter.blame == "tester":
        yield blamed_on_tester(where(row.labels), limiter)
        return
    if criteria.largest_regression is not None and row.change:
        finding = _regression(row, row.change, criteria.largest_regression)
        yield weigh_limiter(finding, limiter, changed, usual_limiter(before, direction))
    if criteria.min_share is not None:
        wanted = (JUDGED[row.quantity], row.labels)
        share = next((r for r in rows if (r.quantity, r.labels) == wanted), None)
        yield weigh_limiter(_share(row, share, criteria.min_share, criteria.confidence), limiter, changed, None)


def blamed_on_tester(place: str, limiter: Limiter | None) -> Finding:
    """No verdict, since the tester itself was the limit."""
    if limiter:
        return Finding("RETEST", place, f"the tester itself was the limit: {limiter.evidence}", limiter.advice)
    return Finding(
        "RETEST",
        place,
        "the tester itself was the limit: it could not offer more than the device carried",
        "Test on a faster host; `harvok calibrate` shows what this one can do.",
    )


def where(labels: Mapping[str, str]) -> str:
    """What a figure is of, in words: `send`, or `send, 64 B`."""
    size = labels.get("frame-size")
    parts = [labels.get("direction", ""), f"{size} B" if size else "", labels.get("load", "")]
    return ", ".join(part for part in parts if part)


def _regression(row: Row, change: Change, largest: float) -> Finding:
    low, high = change.interval.low, change.interval.high
    if not math.isfinite(low):
        return Finding(
            "RETEST",
            where(row.labels),
            "a single run on one side says nothing about spread",
            "Take at least five repeats.",
        )
    name = QUANTITIES[row.quantity].name
    said = f"{name} changed by {low * 100:+.1f} to {high * 100:+.1f} %"
    return _against(low, high, -largest, where(row.labels), said, ("a loss beyond", "within"), format_share(largest))


def _share(row: Row, share: Row | None, least: float, confidence: float) -> Finding:
    if share is None:
        return Finding(
            "RETEST",
            where(row.labels),
            "no rated speed is known, so there is no ceiling to take a share of",
            "Measure with --rated and the speed that the equipment is sold for.",
        )
    interval = share.after.interval(confidence)
    name = QUANTITIES[row.quantity].name
    said = f"{name} was {interval.low * 100:.1f} to {interval.high * 100:.1f} % of the ceiling"
    words = ("short of", "at least")
    return _against(interval.low, interval.high, least, where(row.labels), said, words, format_share(least))


def _against(
    low: float, high: float, limit: float, place: str, said: str, words: tuple[str, str], shown: str
) -> Finding:
    """Holds an interval against its lower limit; `words` say how it is beyond or within it."""
    beyond, within = words
    if low >= limit:
        return Finding("ACCEPT", place, f"{said}, {within} the {shown} that is the limit")
    if high < limit:
        return Finding("REJECT", place, f"{said}, {beyond} the {shown} that is the limit")
    advice = "Take more repeats, or find out what makes them differ so much."
    return Finding("RETEST", place, f"{said}, which straddles the {shown} that is the limit", advice)


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
