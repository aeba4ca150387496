"""Two series side by side, and the verdict under criteria that were set beforehand."""

from collections.abc import Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace

from harvok.core.figures import FigureKey, figure_key
from harvok.core.judgement.assessment import Advice, Criterion, Rules
from harvok.core.judgement.conditions import Difference, differences
from harvok.core.judgement.criteria import JudgedFigure, judge
from harvok.core.judgement.finding import Finding, Verdict, verdict_of
from harvok.core.judgement.sample import RunSample, Series
from harvok.core.labels import label_text
from harvok.core.measures.statistics import Change, Summary, relative_change, summarise
from harvok.core.quantities import QUANTITIES, Quantity
from harvok.errors import UsageError

_ADVICE = Advice(
    more_repeats="Add repeats to it: --series {series} --repeat {missing}.",
    unlike="Measure again under like conditions, name what was changed on purpose with --changed, or judge all the "
    "same with --ignore-conditions.",
)


@dataclass(frozen=True, slots=True)
class Criteria:
    """What is acceptable, as ratios; None asks nothing of that kind. `max_regression` is that of rates; of everything
    else, what the registry says of the quantity. `limits` are judged besides: criteria whose series are left open."""

    min_share: float | None = None
    max_regression: float | None = 0.02
    min_repeats: int = 5
    confidence: float = 0.95
    ignore_conditions: bool = False
    max_spread: float | None = None
    limits: tuple[Criterion, ...] = ()


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

    @property
    def key(self) -> FigureKey:
        """What the figure is of."""
        return figure_key(self.quantity, self.labels)


@dataclass(frozen=True, slots=True)
class Comparison:
    """Everything that compare has to say. `findings` stand worst first."""

    before: Series
    after: Series
    criteria: Criteria
    rows: list[ComparedFigure]
    differences: list[Difference]
    findings: list[Finding] = field(default_factory=list)
    remarks: list[str] = field(default_factory=list)
    answers: list[JudgedFigure] = field(default_factory=list)

    @property
    def verdict(self) -> Verdict:
        """REJECT if any finding says so, else RETEST if any does, else ACCEPT; a finding that bars a verdict allows
        neither."""
        return verdict_of(self.findings)


Pair = tuple[Series, Series]


def compare(before: Series, after: Series, criteria: Criteria, changed: Collection[str] = ()) -> Comparison:
    """Compares two series. Raises UsageError when they have nothing in common that could be judged."""
    return _compare(before, after, {"": (before, after)}, criteria, tuple(changed))


def compare_points(
    names: tuple[str, str], points: Mapping[str, Pair], criteria: Criteria, changed: Collection[str] = ()
) -> Comparison:
    """Compares two sweeps, called `names`, point by point. Raises UsageError when they have no point in common."""
    before, after = (_joined(name, [pair[side] for pair in points.values()]) for side, name in enumerate(names))
    return _compare(before, after, points, criteria, tuple(changed))


def _joined(name: str, points: Sequence[Series]) -> Series:
    """All runs of the points of a sweep, to be named in what is printed."""
    runs = [run for point in points for run in point.runs]
    return Series(name, runs, [run for point in points for run in point.failed])


def _compare(
    before: Series, after: Series, pairs: Mapping[str, Pair], criteria: Criteria, changed: tuple[str, ...]
) -> Comparison:
    rows: list[ComparedFigure] = []
    asked: list[Criterion] = []
    series: dict[str, Series] = {}
    found: dict[str, Difference] = {}
    for point, pair in pairs.items():
        was, now = _apart(pair)
        mine = list(_rows(was, now, criteria.confidence))
        asked += _criteria(was, now, mine, criteria, changed)
        rows += [replace(row, labels={**row.labels, "point": point}) if point else row for row in mine]
        series |= {was.name: was, now.name: now}
        found |= {one.condition: one for one in differences(was, now, changed)}
    if not asked:
        raise UsageError(
            f"'{before.name}' and '{after.name}' have no complete run in which the same was measured: "
            f"{_measured(before)}; {_measured(after)}",
            "Measure both the same way, in the same directions; `harvok logbook list` shows what there is.",
        )
    rules = Rules(
        min_repeats=criteria.min_repeats,
        max_spread=criteria.max_spread,
        confidence=criteria.confidence,
        ignore_conditions=criteria.ignore_conditions,
        names_series=list(pairs) != [""],
        advice=_ADVICE,
    )
    judgement = judge(asked, series, rules)
    unlike = sorted(found.values(), key=lambda one: (one.declared, one.condition))
    return Comparison(before, after, criteria, rows, unlike, judgement.findings, judgement.remarks, judgement.answers)


def _apart(pair: Pair) -> Pair:
    """The same under two names, where a series is compared with itself."""
    before, after = pair
    return before, (after if after.name != before.name else replace(after, name=f"{after.name} (again)"))


def _criteria(
    before: Series, after: Series, rows: Sequence[ComparedFigure], criteria: Criteria, changed: tuple[str, ...]
) -> Iterator[Criterion]:
    """What is judged: the limits that were set, and every figure of both series that is judged by default, unless its
    regression has a limit of its own."""
    for limit in criteria.limits:
        yield replace(limit, step=after.name, against=before.name, changed=changed)
    common = _default_keys(before.runs) & _default_keys(after.runs)
    for row in rows:
        meaning, allowed = QUANTITIES[row.quantity], _max_regression(QUANTITIES[row.quantity], criteria)
        if row.key not in common:
            continue
        if allowed is not None and not _has_own_limit(row, criteria.limits):
            yield Criterion(
                quantity=row.quantity,
                step=after.name,
                max_regression=allowed,
                margin=meaning.margin,
                against=before.name,
                labels=row.labels,
                changed=changed,
                exact=True,
            )
        if criteria.min_share is not None and meaning.share:
            yield Criterion(
                quantity=meaning.share,
                step=after.name,
                minimum=criteria.min_share,
                against=before.name,
                labels=row.labels,
                changed=changed,
                exact=True,
            )


def _has_own_limit(row: ComparedFigure, limits: Sequence[Criterion]) -> bool:
    """Whether somebody said how much a figure may regress."""
    own = [limit for limit in limits if limit.max_regression is not None and limit.quantity == row.quantity]
    return any(limit.labels.items() <= row.labels.items() for limit in own)


def _max_regression(meaning: Quantity, criteria: Criteria) -> float | None:
    if meaning.is_rate or criteria.max_regression is None:
        return criteria.max_regression
    return meaning.max_regression


def _default_keys(runs: Sequence[RunSample]) -> set[FigureKey]:
    """The figures that are judged when nobody asks for others. The delay at a load that is too much for the device is
    not: its loss is."""
    return {
        key
        for run in runs
        for key, figure in run.by_key.items()
        if figure.meaning.judged and (run.default is None or key in run.default)
        if not (figure.mark == "lossy" and "load" in figure.labels)
    }


def _measured(series: Series) -> str:
    """What a series has to judge, in words."""
    if not series.runs:
        return f"'{series.name}' has none at all"
    names = dict.fromkeys(
        f"{QUANTITIES[quantity].name} ({label_text(dict(labels))})" if labels else QUANTITIES[quantity].name
        for quantity, labels in sorted(_default_keys(series.runs))
    )
    return f"'{series.name}' has {', '.join(names) or 'nothing that is judged'}"


def _rows(before: Series, after: Series, confidence: float) -> Iterator[ComparedFigure]:
    """One row for every figure that both series have."""
    was, now = _by_key(before), _by_key(after)
    for key, runs in was.items():
        if key in now:
            every = (*runs, *now[key])
            figures = [figure for run in every if (figure := run.figure(key))]
            values = [figure.value for figure in figures]
            summaries = summarise(values[: len(runs)]), summarise(values[len(runs) :])
            change = relative_change(*summaries, confidence) if summaries[0].mean else None
            marked = any(figure.mark == "tester-limit" for figure in figures)
            yield ComparedFigure(figures[0].quantity, figures[0].labels, *summaries, change, marked)


def _by_key(series: Series) -> dict[FigureKey, list[RunSample]]:
    """The runs that have each figure."""
    found: dict[FigureKey, list[RunSample]] = {}
    for run in series.runs:
        for key in run.by_key:
            found.setdefault(key, []).append(run)
    return found
