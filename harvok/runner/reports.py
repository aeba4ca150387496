"""Puts reports together from the logbook: of a run, of series, of a comparison, of a plan."""

import getpass
import tempfile
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from contextlib import closing
from dataclasses import dataclass, replace
from functools import partial
from pathlib import Path

from harvok import __version__
from harvok.clock import SYSTEM, Clock, local_words
from harvok.core.events import EVENT
from harvok.core.judgement.assessment import Criterion
from harvok.core.judgement.compare import Criteria, compare
from harvok.core.judgement.conditions import Difference
from harvok.core.judgement.criteria import JudgedFigure
from harvok.core.judgement.finding import Finding, verdict_of, worst_first
from harvok.core.judgement.stability import oddities
from harvok.core.kinds.table import kind_of
from harvok.core.labels import label_text
from harvok.core.models.run import PortRecord, RigRecord, RunRecord
from harvok.core.quantities import QUANTITIES
from harvok.core.sweeps.reading import SweepReading
from harvok.core.sweeps.words import matrix_of, words_of
from harvok.core.trials.frames import FrameTrial, FrameTrialResult
from harvok.core.units import format_duration, format_frame_rate, format_quantity, format_share, format_speed
from harvok.errors import NothingFoundError
from harvok.logbook.store import Logbook
from harvok.reports.document import Picture, PictureKind, Report, Table, digest_of
from harvok.runner.plans import PlanRequest, judge_plan
from harvok.runner.report_page import (
    comparison_of,
    decided_of,
    devices_of,
    front_of,
    limiters_of,
    notices_of,
    untested_of,
)
from harvok.runner.samples import series_of, summaries_of
from harvok.runner.stored_sweeps import is_sweep, stored_sweep

Sweeps = Mapping[str, Sequence[SweepReading]]
"""What sweeps say, by name."""


@dataclass(frozen=True, slots=True)
class Signature:
    """Who signs a report, when it is made, and with what."""

    operator: str = ""
    clock: Clock = SYSTEM
    pictures: PictureKind | None = None
    """Which kind of pictures to draw, if any: drawing takes most of the time."""
    over: str = ""
    """A numeric attribute to draw the main figures over."""


def report_of_runs(place: str, names: Sequence[str], changed: Collection[str], signature: Signature) -> Report:
    """A report of a run, a series or a sweep, or of two series as before and after, between which `changed` differs on
    purpose. Raises NothingFoundError."""
    with closing(Logbook(place)) as logbook:
        groups = {name: _records(logbook, name) for name in names}
        known = logbook.series()
        every = [series_of(logbook, name) for name in names if name in known]
        sweeps = {name: stored_sweep(logbook, name).readings() for name in names if is_sweep(logbook, name)}
    report = _report(" and ".join(names), groups, signature, sweeps)
    remarks = [*(remark for series in every for remark in oddities(series)), *_said_of(sweeps)]
    findings = _own_findings(groups)
    if len(every) == 2:
        found = compare(every[0], every[1], Criteria(), changed)
        findings = [*found.findings, *findings]
        asked = f"is {names[1]} as good as {names[0]}?"
        report = _with_answers(report, found.answers, found.differences, asked)
    if not findings:
        return replace(report, remarks=remarks)
    return replace(report, verdict=verdict_of(findings), findings=findings, remarks=remarks)


def _with_answers(
    report: Report, answers: Sequence[JudgedFigure], differences: Sequence[Difference] = (), asked: str = ""
) -> Report:
    """The report with what was judged, and what was asked."""
    return replace(
        report,
        front=front_of(report.records, asked, report.operator),
        decided=decided_of(answers),
        comparison=[*comparison_of(answers), *report.comparison],
        notices=notices_of(report.records, differences),
    )


def _own_findings(groups: Mapping[str, Sequence[RunRecord]]) -> list[Finding]:
    """What became of the limits that the tests themselves set, such as the promises of services, run by run: the first
    of a group is called so every time."""
    found = [
        replace(finding, where=", ".join(filter(None, (_numbered(record, number, records), finding.where))))
        for records in groups.values()
        for number, record in enumerate(records, 1)
        for finding in record.findings
    ]
    return sorted(found, key=worst_first)


def _numbered(record: RunRecord, number: int, records: Sequence[RunRecord]) -> str:
    return f"{record.series or record.test.title}{f', run {number}' if len(records) > 1 else ''}"


def report_of_plan(request: PlanRequest, signature: Signature) -> Report:
    """A report of what the logbook has of a plan. Raises NothingFoundError when that is nothing."""
    outcome = judge_plan(request)
    if not any(outcome.records.values()):
        raise NothingFoundError(f"the logbook has no run of '{request.name}'", "Run the plan first; check the name.")
    plan, judgement = request.file.plan, outcome.judgement
    title, criteria = f"{request.name}: {plan.about or plan.name}", plan.build_criteria()
    report = _report(title, outcome.records, signature, outcome.sweeps, criteria)
    earlier = [
        f"judged before by other criteria, {one.judged:%Y-%m-%d %H:%M}: {one.verdict}" for one in outcome.earlier
    ]
    remarks = [*judgement.remarks, *_said_of(outcome.sweeps), *earlier]
    report = _with_answers(report, judgement.answers, asked=plan.about or f"what the plan {plan.name} asks")
    two_ways = [f"{finding.where}: {finding.reason}" for finding in outcome.agreements]
    return replace(
        report,
        verdict=judgement.verdict,
        findings=judgement.findings,
        remarks=remarks,
        limiters=[*report.limiters, *two_ways],
    )


def verify(place: str, runs: Sequence[str], digest: str) -> bool:
    """Whether the logbook still has the very records that a report rests on. Raises NothingFoundError for one that is
    gone."""
    with closing(Logbook(place)) as logbook:
        return digest_of(list(logbook.records(runs))) == digest


def _records(logbook: Logbook, name: str) -> list[RunRecord]:
    """The records of a series or a sweep, or the one of a run."""
    if name in logbook.series():
        return logbook.series_records(name)
    if is_sweep(logbook, name):
        return stored_sweep(logbook, name).every_record()
    return [logbook.record(logbook.find(name))]


def _report(
    title: str,
    groups: Mapping[str, Sequence[RunRecord]],
    signature: Signature,
    sweeps: Sweeps,
    criteria: Sequence[Criterion] = (),
) -> Report:
    single = {name: group for name, group in groups.items() if name not in sweeps}
    pictures: list[Picture] = []
    if signature.pictures:
        pictures = [*_sweep_pictures(sweeps, signature.pictures), *_pictures(single, signature, criteria)]
    records = [record for group in groups.values() for record in group]
    return Report(
        title=title,
        made=signature.clock.utc(),
        operator=signature.operator or getpass.getuser(),
        version=__version__,
        records=records,
        facts=_facts(records),
        drawing=_drawings(records),
        front=front_of(records, "what is measured, without a limit", signature.operator or getpass.getuser()),
        limiters=limiters_of(records),
        untested=untested_of(records),
        notices=notices_of(records),
        comparison=[_matrix(name, reading) for name, readings in sweeps.items() for reading in readings],
        tables=[
            *([_results(single)] if single else []),
            *devices_of(records),
            _every_run(records),
            *_every_trial(records),
        ],
        pictures=pictures,
    )


_MAX_DRAWINGS = 2


def _drawings(records: Sequence[RunRecord]) -> list[str]:
    """How it was wired, beneath each other where that differs."""
    each = list(dict.fromkeys("\n".join(_drawing(record)) for record in records))
    return "\n".join(each[:_MAX_DRAWINGS]).splitlines()


def _drawing(record: RunRecord) -> list[str]:
    if isinstance(record.rig, RigRecord):
        speed = f" {format_speed(record.link.rated_bps)} " if record.link.rated_bps else ""
        far = record.far.name if record.far else record.rig.station
        return [f"{record.near.name} ──{speed}── {far}"]
    if isinstance(record.rig, PortRecord):
        return [f"{record.near.name} [{record.rig.port.name}]──"]
    from harvok.reports.rig_drawing import drawing

    return drawing(record.rig.file)


def _facts(records: Sequence[RunRecord]) -> list[tuple[str, str]]:
    """What holds for the records; several values where they differ."""
    found: dict[str, list[str]] = {}
    for record in records:
        near, port = record.near, record.near.interface if record.far else None
        facts = {
            "taken": f"{record.started:%Y-%m-%d}",
            "between": record.between,
            "rated": format_speed(record.link.rated_bps) if record.link.rated_bps else "",
            "near end": f"{near.system} {near.kernel}, {near.cores} × {near.cpu_model or near.machine}",
            "far end": f"{record.far.system} {record.far.kernel}" if record.far else "",
            "interface": f"{port.name} ({port.driver or port.kind}), MTU {port.mtu_bytes} B" if port else "",
            "Harvok": record.harvok,
            "command": " ".join(record.command),
            **record.attributes,
        }
        for key, value in facts.items():
            if value and value not in found.setdefault(key, []):
                found[key].append(value)
    return [(key, "; ".join(values)) for key, values in found.items() if values]


def _results(groups: Mapping[str, Sequence[RunRecord]]) -> Table:
    """Trimmed mean and spread of each figure, a pair of columns for each group."""
    header = ["figure", "layer"] + [column for name in groups for column in (name, "spread", "repeats")]
    rows = []
    for (quantity, of), by_group in summaries_of(groups).items():
        meaning = QUANTITIES[quantity]
        row = [f"{meaning.name}, {of}" if of else meaning.name, meaning.layer]
        for name in groups:
            summary = by_group.get(name)
            row += (
                [format_quantity(summary.mean, meaning.unit), format_share(summary.spread), str(len(summary.values))]
                if summary
                else ["–", "–", "0"]
            )
        rows.append(row)
    return Table("Results: trimmed means of the repeats", header, rows)


def _every_run(records: Sequence[RunRecord]) -> Table:
    rows = []
    for record in records:
        headline = kind_of(record.test).headline
        shown = [f for f in record.figures if f.quantity in headline]
        results = "; ".join(f"{label_text(f.labels)} {format_quantity(f.value, f.meaning.unit)}".strip() for f in shown)
        limiters = ", ".join(f"{way}: {kind}" for way, kind in record.limiters.items())
        taken = local_words(record.started, seconds=True)
        rows.append([record.id, taken, record.state, record.series or "", results, limiters])
    return Table("Every run", ["run", "taken", "state", "series", "main figures", "limited by"], rows)


def _every_trial(records: Sequence[RunRecord]) -> list[Table]:
    rows = [
        [f"{record.id} {number}", *row]
        for record in records
        for number, (trial, result) in enumerate(record.trials_of(FrameTrial, FrameTrialResult), 1)
        for row in _frame_rows(trial, result)
    ]
    header = ["run and trial", "what for", "direction", "intended", "offered", "lost", "median delay"]
    return [Table("Every trial", header, rows)] if rows else []


def _frame_rows(trial: FrameTrial, result: FrameTrialResult) -> Iterator[list[str]]:
    """What was offered and what came of it, a row for each direction."""
    load = " then ".join(format_frame_rate(step.load_fps) for step in trial.steps)
    for got in result.directions:
        yield [
            trial.about,
            got.direction,
            f"{load} frames/s, {format_duration(trial.duration_s)}",
            f"{format_frame_rate(got.offered_load_fps)} frames/s",
            f"{got.lost_frames} ({format_share(got.loss)})",
            format_duration(got.delay.median_s) if got.delay else "–",
        ]


def _matrix(name: str, reading: SweepReading) -> Table:
    head, rows = matrix_of(reading)
    return Table(f"Sweep {name}, {reading.direction}: against the baseline", head, rows)


def _said_of(sweeps: Sweeps) -> list[str]:
    """What sweeps say in sentences, each with the sweep that says it."""
    return [
        f"{name}, {reading.direction}: {sentence}"
        for name, readings in sweeps.items()
        for reading in readings
        for sentence in words_of(reading)
    ]


def _sweep_pictures(sweeps: Sweeps, kind: PictureKind) -> Iterator[Picture]:
    from harvok.reports.sweep import draw_sweep

    for name, readings in sweeps.items():
        if readings:
            yield from _drawn(f"sweep {name}", kind, partial(draw_sweep, readings, name))


def _drawn(title: str, kind: PictureKind, draw: Callable[[Path], object]) -> Iterator[Picture]:
    """What is drawn into a file, as a picture; nothing where nothing was."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / f"picture.{kind}"
        draw(path)
        if path.exists():
            yield Picture(title, path.read_bytes())


def _pictures(
    groups: Mapping[str, Sequence[RunRecord]], signature: Signature, criteria: Sequence[Criterion]
) -> list[Picture]:
    from harvok.reports.repeats import draw_over_attribute, draw_over_time, draw_repeats

    assert signature.pictures
    kind, over, pictures = signature.pictures, signature.over, list[Picture]()
    records = [record for group in groups.values() for record in group]
    benchmarks = [r for g in groups.values() for r in g[:1] if r.test.kind == "rfc2544"]
    if benchmarks:  # what its readers look for stands before the repeats of each figure
        pictures += _frame_pictures(benchmarks, kind, criteria)
    headlines = dict.fromkeys(key for record in records for key in kind_of(record.test).headline)
    for quantity in headlines:
        if picture := draw_repeats(groups, quantity, kind, criteria):
            pictures.append(picture)
        if over and (picture := draw_over_attribute(records, quantity, over, kind)):
            pictures.append(picture)
    if picture := draw_over_time(records, kind):
        pictures.append(picture)
    firsts = [record for group in groups.values() for record in group[:1]]
    return [
        *pictures,
        *_ramp_picture(firsts, kind),
        *_level_pictures(firsts, kind),
        *_timeline_pictures(records, kind),
    ]


def _timeline_pictures(records: Sequence[RunRecord], kind: PictureKind) -> Iterator[Picture]:
    """What happened over time, of runs in which something was done on purpose."""
    from harvok.reports.timeline import draw_timeline

    for record in records:
        if any(event.name == EVENT for trial in record.trials for event in trial.events):
            yield from _drawn(f"over time: {record.id}", kind, partial(draw_timeline, record))


def _ramp_picture(records: Sequence[RunRecord], kind: PictureKind) -> Iterator[Picture]:
    """Loss and delay over the load, of a run that held several."""
    from harvok.reports.ramp import draw_ramp

    for record in (record for record in records if kind_of(record.test).over_load):
        yield from _drawn("what became of the load", kind, partial(draw_ramp, record))


def _level_pictures(records: Sequence[RunRecord], kind: PictureKind) -> Iterator[Picture]:
    """What became of users, of a run with several levels of them, and what a search found for objects."""
    from harvok.reports.levels import draw_levels, draw_objects

    for record in records:
        yield from _drawn("what became of users, by level", kind, partial(draw_levels, record))
        yield from _drawn("what was found, by object", kind, partial(draw_objects, record))


def _frame_pictures(records: Sequence[RunRecord], kind: PictureKind, criteria: Sequence[Criterion]) -> list[Picture]:
    """The plots of the first frame run of each group."""
    from harvok.reports.frames import draw

    with tempfile.TemporaryDirectory() as folder:
        return [Picture(path.stem, path.read_bytes()) for path in draw(records, Path(folder), [kind], criteria)]
