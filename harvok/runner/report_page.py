"""What stands on the first pages of a report: the device, what was asked, what decided, what limited the result, and
what was not tested."""

from collections import Counter
from collections.abc import Iterator, Sequence
from typing import get_args

from harvok.clock import local_words
from harvok.core.judgement.conditions import Difference
from harvok.core.judgement.criteria import JudgedFigure
from harvok.core.judgement.estimate import is_known
from harvok.core.judgement.finding import worst_first
from harvok.core.judgement.spans import change_span
from harvok.core.labels import label_text
from harvok.core.limiter import Limiter
from harvok.core.measures.statistics import Summary, relative_change
from harvok.core.models.run import RunRecord
from harvok.core.quantities import QUANTITIES, Quantity
from harvok.core.units import format_byte_rate, format_measured, format_quantity, format_span
from harvok.reports.document import Table

_DECIDED = 3
_DASH = "–"
_LINE_RATE = 1 - 1e-6
HEADER = ["figure", "of", "before", "after", "change", "95 % interval", "limit", "verdict"]


def front_of(records: Sequence[RunRecord], asked: str, operator: str) -> list[tuple[str, str]]:
    """The device, what was asked of it, by whom, and when; what people said of it (`--with`) under their own words."""
    found: dict[str, list[str]] = {"asked": [asked], "operator": [operator]}
    for record in records:
        said = {"device": _device(record), "between": record.between, **record.attributes}
        for key, value in said.items():
            if value and value not in found.setdefault(key, []):
                found[key].append(value)
    if records:
        first, last = min(r.started for r in records), max(r.ended or r.started for r in records)
        span = format_span(round((last - first).total_seconds()))
        found["taken"] = [f"{local_words(first)}, {len(records)} runs within {span}"]
    return [(key, "; ".join(values)) for key, values in found.items() if any(values)]


def _device(record: RunRecord) -> str:
    """What the device says of itself, where it was asked."""
    if not record.device:
        return ""
    facts = record.device.facts
    firmware = f"firmware {facts.firmware}" if facts.firmware else ""
    return ", ".join(filter(None, (record.device.name, facts.description, firmware)))


def decided_of(answers: Sequence[JudgedFigure]) -> Table | None:
    """The figures that decided: the worst, and of these the main ones first."""
    worst = sorted(answers, key=lambda one: (worst_first(one.finding), QUANTITIES[one.key[0]].rank != "headline"))
    return _answers("What decided", worst[:_DECIDED]) if answers else None


def comparison_of(answers: Sequence[JudgedFigure]) -> list[Table]:
    """Every figure that was judged, in the order of the figures."""
    order = {quantity: place for place, quantity in enumerate(QUANTITIES)}
    ordered = sorted(answers, key=lambda one: order[one.key[0]])
    return [_answers("Every figure that was judged", ordered)] if answers else []


def _answers(title: str, answers: Sequence[JudgedFigure]) -> Table:
    steps = {answer.criterion.step for answer in answers}
    return Table(title, HEADER, [_row(answer, len(steps) > 1) for answer in answers])


def _row(answer: JudgedFigure, with_step: bool) -> list[str]:
    meaning = QUANTITIES[answer.key[0]]
    step = [answer.criterion.step] if with_step else []
    change, interval = _change(answer.before, answer.after, meaning.unit)

    def shown(summary: Summary | None) -> str:
        return _measured(summary, meaning) if summary else _DASH

    of = ", ".join(filter(None, [*step, label_text(dict(answer.key[1]))]))
    limit, verdict = answer.criterion.limit_words, answer.finding.verdict
    return [meaning.name, of, shown(answer.before), shown(answer.after), change, interval, limit, verdict]


def _measured(summary: Summary, meaning: Quantity) -> str:
    """A mean with the digits that its repeats allow; of goodput also in the unit in which people know a file copy."""
    shown = format_measured(summary.mean, meaning.unit, summary.uncertainty)
    if meaning.layer != "goodput" or meaning.unit != "b/s":
        return shown
    return f"{shown} = {format_byte_rate(summary.mean, summary.uncertainty)}"


def _change(before: Summary | None, after: Summary | None, unit: str) -> tuple[str, str]:
    """The change with its interval; without anything before, the interval of the figure itself."""
    if not after:
        return _DASH, _DASH
    if not before:
        own = after.interval()
        low, high = (format_measured(end, unit, after.uncertainty) for end in (own.low, own.high))
        known = f"{low} to {high}"
        return _DASH, known if is_known(own) else "unknown"
    if unit == "ratio" or not before.mean or min(len(before.values), len(after.values)) < 2:
        return _DASH, _DASH
    change = relative_change(before, after)
    return f"{change.ratio * 100:+.1f} %", change_span(change.interval.low, change.interval.high)


def limiters_of(records: Sequence[RunRecord]) -> list[str]:
    """What limited the results, with the evidence: of flows once for each series and direction, of frames each once."""
    frames = [line for record in records for line in _limited_frames(record)]
    return [*_limited_flows(records), *dict.fromkeys(frames)]


def _limited_flows(records: Sequence[RunRecord]) -> Iterator[str]:
    """The limiters of a series in one direction, the most frequent first, with the evidence of the latest run."""
    found: dict[tuple[str, str], list[Limiter]] = {}
    for record in records:
        for reading in record.readings:
            found.setdefault((record.series or "", reading.direction), []).append(reading.limiter)
    for (series, direction), limiters in found.items():
        where = ", ".join(filter(None, (series, direction)))
        for kind, times in Counter(limiter.kind for limiter in limiters).most_common():
            last = next(limiter for limiter in reversed(limiters) if limiter.kind == kind)
            how_often = f" in {times} of {len(limiters)} runs" if len(limiters) > 1 else ""
            yield f"{where}: {last.name}{how_often}; {last.evidence}"


def _limited_frames(record: RunRecord) -> Iterator[str]:
    series = f"{record.series}, " if record.series else ""
    at_line_rate = []
    for figure in record.figures:
        if figure.quantity != "throughput-share":
            continue
        of = label_text(figure.labels)
        if figure.mark == "tester-limit":
            yield f"{series}{of}: the TESTER, which could offer no more"
        elif figure.value < _LINE_RATE:
            share = format_quantity(figure.value, "ratio")
            yield f"{series}{of}: the device, which lost frames above {share} of line rate"
        else:
            at_line_rate.append(figure.labels.get("frame-size", of))
    if at_line_rate:
        yield f"{series}line rate at {', '.join(at_line_rate)} B: nothing but the line"


def untested_of(records: Sequence[RunRecord]) -> list[str]:
    """What a reader might take for tested, and was not."""
    if not records:
        return []
    ways = {figure.labels.get("direction") for record in records for figure in record.figures} - {None}
    both = (("send", "receive"), ("receive", "send"))
    lines = [f"the other direction ({other})" for one, other in both if ways == {one}]
    kinds = {record.test.kind for record in records}
    tests = [record.test for record in records if record.test.kind == "rfc2544"]
    if tests:
        lines += [f"RFC 2544 {name}" for name in _left_out(tests)]
        versions = {test.settings.ip_version for test in tests}
        lines += [f"IPv{other}" for one, other in ((4, 6), (6, 4)) if versions == {one}]
    if not kinds & {"app", "rfc9411"}:
        lines.append("application traffic")
    lines.append("anything but what stands above: other loads, other temperatures, longer than the runs took")
    return lines


def _left_out(tests: Sequence[object]) -> Iterator[str]:
    from harvok.core.procedures.rfc2544 import TestName

    done = {name for test in tests for name in getattr(test, "tests", ())}
    yield from (name for name in get_args(TestName) if name not in done)


def notices_of(records: Sequence[RunRecord], differences: Sequence[Difference] = ()) -> list[str]:
    """What runs noticed, conditions that differ, calibrations that they were held against, and what the device told."""
    lines = []
    for one in differences:
        why = "changed on purpose" if one.declared else "NOT declared as changed"
        lines.append(f"{one.condition}: {', '.join(one.before)} before, {', '.join(one.after)} after ({why})")
    calibrations = sorted({record.calibration for record in records if record.calibration})
    lines += [f"the tester was calibrated in run {run}" for run in calibrations]
    lines += [notice for record in records for notice in record.notices]
    for record in records:
        for trial in record.trials:
            lines += [f"{record.id}: {remark}" for remark in (trial.device.remarks if trial.device else ())]
            told = [event for event in trial.events if event.name in _TOLD]
            lines += [f"{record.id}, at {event.at_s:.1f} s: {event.name}" for event in told]
    return list(dict.fromkeys(lines))


_TOLD = ("device-reset", "link-down", "link-up")


def devices_of(records: Sequence[RunRecord]) -> list[Table]:
    """What the device under test counted, as figures of each run."""
    rows = [
        [record.id, figure.meaning.name, label_text(figure.labels), format_quantity(figure.value, figure.meaning.unit)]
        for record in records
        for figure in record.figures
        if figure.quantity.startswith("device-")
    ]
    return [Table("What the device counted", ["run", "figure", "of", "value"], rows)] if rows else []
