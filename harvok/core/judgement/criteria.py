"""Acceptance criteria that were set beforehand, judged figure by figure: the one judge of comparisons and of plans.

A limit is judged by the confidence interval of the trimmed mean, widened by what the measurement resolves, and never by
a single number; but every repeat is held against the others as well (harvok.core.judgement.stability). When many
figures are judged at once, chance would break some limit sooner or later: the intervals are widened so that all of
them together hold with the confidence asked for (Bonferroni). Runs that the tester itself held down are set aside, and
when too few are left there is no verdict. A share of more than all there is shows that something else was measured
than was meant, and is never accepted.
"""

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace

from harvok.core.figures import FigureKey, figure_key
from harvok.core.judgement.assessment import Assessment, Criterion, Rules
from harvok.core.judgement.conditions import differences, fits
from harvok.core.judgement.finding import Finding, Verdict, verdict_of, worst_first
from harvok.core.judgement.sample import Series
from harvok.core.judgement.stability import judge_failures, oddities
from harvok.core.labels import label_text
from harvok.core.limiter import MAX_SHARE
from harvok.core.measures.statistics import Summary, summarise
from harvok.core.quantities import QUANTITIES
from harvok.core.units import counted, format_share


@dataclass(frozen=True, slots=True)
class JudgedFigure:
    """What came of one criterion for one figure: what it was before, where it is compared, and after, each over all
    runs that have it."""

    criterion: Criterion
    key: FigureKey
    before: Summary | None
    after: Summary | None
    finding: Finding


@dataclass(frozen=True, slots=True)
class Judgement:
    """What came of all criteria, worst first. `answers` are the findings that are about figures, each with these."""

    findings: list[Finding]
    remarks: list[str] = field(default_factory=list)
    answers: list[JudgedFigure] = field(default_factory=list)

    @property
    def verdict(self) -> Verdict:
        """REJECT if any finding says so, else RETEST if any does, else ACCEPT; RETEST when nothing was judged, and
        when what was done forbids any verdict (the series are unlike, or the impossible was measured)."""
        return verdict_of(self.findings)


def judge(criteria: Sequence[Criterion], series: Mapping[str, Series], rules: Rules) -> Judgement:
    """Judges every criterion for every figure that it is about; a series that is not there calls for a RETEST."""
    keys = [(criterion, _keys(criterion, series)) for criterion in criteria]
    asked = [(criterion, key) for criterion, found in keys for key in found]
    confidence = 1 - (1 - rules.confidence) / max(sum(criterion.limits for criterion, _ in asked), 1)
    findings = [*_too_few(criteria, series, rules), *_missing(keys, series)]
    if not rules.ignore_conditions:
        findings += _unlike(criteria, series, rules.advice.unlike)
    for name in _names(criteria):
        if name in series:
            findings += judge_failures(series[name])
            findings += impossible_shares(series[name])
    answers = [
        JudgedFigure(criterion, key, *_summaries(criterion, key, series), finding)
        for criterion, key in asked
        for finding in Assessment(criterion, key, series, rules, confidence).answer()
    ]
    findings += [answer.finding for answer in answers]
    remarks = [remark for name in _names(criteria) if name in series for remark in oddities(series[name])]
    return with_findings(Judgement([], remarks, sorted(answers, key=lambda one: worst_first(one.finding))), findings)


def with_findings(judgement: Judgement, more: Sequence[Finding]) -> Judgement:
    """A judgement with findings besides, each once: one reason may stand in the way of several limits."""
    once = dict.fromkeys([*judgement.findings, *more])
    ordered = sorted(once, key=lambda one: (not one.bars_verdict, worst_first(one)))
    return replace(judgement, findings=ordered)


def _summaries(
    criterion: Criterion, key: FigureKey, series: Mapping[str, Series]
) -> tuple[Summary | None, Summary | None]:
    """A figure in the series that is compared with, and in the one that is judged."""

    def summary(name: str | None) -> Summary | None:
        runs = series[name].runs if name and name in series else []
        values = [figure.value for run in runs if (figure := run.figure(key))]
        return summarise(values) if values else None

    return summary(criterion.against), summary(criterion.step)


def _names(criteria: Sequence[Criterion]) -> list[str]:
    """The series that criteria are about, each once."""
    return list(dict.fromkeys(name for c in criteria for name in (c.against, c.step) if name))


def _keys(criterion: Criterion, series: Mapping[str, Series]) -> list[FigureKey]:
    """The figures that a criterion is about."""
    runs = series[criterion.step].runs if criterion.step in series else []
    if criterion.exact:
        key = figure_key(criterion.quantity, criterion.labels)
        return [key] if any(run.figure(key) for run in runs) else []
    return list(dict.fromkeys(key for run in runs for key, figure in run.by_key.items() if criterion.is_about(figure)))


def _missing(keys: Sequence[tuple[Criterion, list[FigureKey]]], series: Mapping[str, Series]) -> Iterator[Finding]:
    for criterion, found in keys:
        if criterion.step in series and series[criterion.step].runs and not found:
            name = QUANTITIES[criterion.quantity].name
            of = label_text(criterion.labels)
            yield Finding(
                "RETEST",
                criterion.step,
                f"no run has a figure '{name}'{f' of {of}' if of else ''}",
                "Measure with --rated and the speed that the equipment is sold for."
                if criterion.quantity in _SHARES
                else "Correct the criterion, or add a test that measures it.",
            )


def _too_few(criteria: Sequence[Criterion], series: Mapping[str, Series], rules: Rules) -> Iterator[Finding]:
    for name in _names(criteria):
        runs = len(series[name].runs) if name in series else 0
        if runs < rules.min_repeats:
            yield Finding(
                "RETEST",
                name,
                f"{counted(runs, 'complete run')}, and {rules.min_repeats} are required",
                rules.advice.more_repeats.format(series=name, missing=rules.min_repeats - runs),
                bars_verdict=True,
            )


def _unlike(criteria: Sequence[Criterion], series: Mapping[str, Series], advice: str) -> Iterator[Finding]:
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
                advice,
                bars_verdict=True,
            )


_SHARES = {quantity.share for quantity in QUANTITIES.values() if quantity.share}
"""The quantities that are a share of what is possible."""


def impossible_shares(series: Series) -> Iterator[Finding]:
    """A finding where more was measured than the link can carry: once for each figure of a series."""
    seen: set[FigureKey] = set()
    for run in series.runs:
        for figure in run.figures:
            if figure.quantity in _SHARES and figure.value > MAX_SHARE and figure.key not in seen:
                seen.add(figure.key)
                share = format_share(figure.value)
                yield Finding(
                    "RETEST",
                    ", ".join(filter(None, (series.name, label_text(figure.labels)))),
                    f"{figure.meaning.name} was {share}, which no link can carry: the traffic took another way, or the "
                    f"rating is wrong{_interfaces(run.conditions)}",
                    "Check --rated, and that the addresses are those of the ports under test: `harvok preflight`.",
                    bars_verdict=True,
                )


def _interfaces(conditions: Mapping[str, str]) -> str:
    """The interfaces that the traffic took, where they are known."""
    ends = {"near end": conditions.get("near.interface"), "far end": conditions.get("far.interface")}
    known = [f"{name} ({end})" for end, name in ends.items() if name]
    return f"; it went by {' and '.join(known)}" if known else ""
