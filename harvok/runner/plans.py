"""Runs plans step by step, and judges what came of them.

The runs of a plan go into the logbook as series, one for each step: `NAME.STEP`. A plan that was interrupted goes on
where it stopped when it is run again under the same name, since the series say what is done.
"""

from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import closing, contextmanager
from dataclasses import dataclass, field, replace

from harvok.clock import SYSTEM, Clock
from harvok.core.events import parse_events
from harvok.core.judgement.agreement import judge_agreement
from harvok.core.judgement.criteria import Judgement, judge, with_findings
from harvok.core.judgement.finding import Finding, over_repeats
from harvok.core.judgement.sample import Series
from harvok.core.kinds.kind import RigNeed
from harvok.core.kinds.step import Step
from harvok.core.kinds.table import kind_of
from harvok.core.models.impairment import ImpairmentFile
from harvok.core.models.judgement import encode_judgement
from harvok.core.models.plan import Plan
from harvok.core.models.run import RunRecord
from harvok.core.observer import Observer
from harvok.core.sweeps.axes import BASELINES
from harvok.core.sweeps.reading import SweepReading
from harvok.errors import PlanError
from harvok.logbook.store import Logbook, StoredJudgement
from harvok.rigs.device_files import DeviceSettings
from harvok.rigs.stations import StationsSettings
from harvok.runner.impair import ask, borrowed_bridge
from harvok.runner.places import place_between
from harvok.runner.plan_files import PlanFile, device_of_plan, impairment_of, rig_of, runs_of, runs_of_sweep, test_of
from harvok.runner.recorder import OnRecord
from harvok.runner.request import Label, Place, RigPlace, TestRequest
from harvok.runner.run import run_test
from harvok.runner.samples import as_series
from harvok.runner.setups import Setups
from harvok.runner.stored_sweeps import is_sweep, stored_sweep
from harvok.runner.sweeps import SweepRequest, run_sweep
from harvok.station.contact import Access

Bench = Callable[[str, str], None]
"""Tells the person at the bench what to do before a step (name, instruction), and returns when it is done."""


@dataclass(frozen=True, slots=True)
class PlanRequest:
    """Everything that `harvok run` was asked for. `name` begins the names of the series; `unit` is what is known of the
    unit under test."""

    file: PlanFile
    name: str
    unit: dict[str, str]
    logbook: str
    command: list[str]
    access: Access = field(default_factory=lambda: Access(""))
    wait_s: float = 0.0
    near_name: str | None = None
    station: str | None = None
    """Instead of the plan's."""

    def series(self, part: str) -> str:
        """The name of the series of a step, or of one point of a sweep."""
        return f"{self.name}.{part}"


@dataclass(frozen=True, slots=True)
class PlanOutcome:
    """What came of a plan: the judgement, the records of each step, what its sweeps say, how the same runs were judged
    before by other criteria, and whether two ways of measuring agree, which the judgement has as well."""

    judgement: Judgement
    records: Mapping[str, list[RunRecord]] = field(default_factory=dict)
    sweeps: Mapping[str, list[SweepReading]] = field(default_factory=dict)
    earlier: Sequence[StoredJudgement] = ()
    agreements: Sequence[Finding] = ()


def run_plan(
    request: PlanRequest,
    observer: Observer,
    on_record: OnRecord,
    bench: Bench,
    clock: Clock = SYSTEM,
    follow: Callable[[TestRequest], None] = lambda _: None,
) -> PlanOutcome:
    """Runs what is not yet in the logbook, and judges the whole; `follow` hears of each run that is no sweep's before
    it is taken.

    Raises whatever broke a run off, and PlanError when the series belong to another plan.
    """
    plan = request.file.plan
    done = _done(request)
    before: Step | None = None
    device = device_of_plan(request.file)
    with _bridge(plan) as usual, Setups(device, observer.notice) as setups:
        for step, number in plan.rounds():
            if done[step.name] >= (runs_of_sweep(plan, step) if step.over else number + 1):
                continue
            if step is not before:
                bench(step.name, (number and step.instruction_again) or step.instruction)
                before = step
                setups.prepare(step)
            if usual and step.place == "station":
                ask("change", impairment_of(step) or usual)
            asked = _asked(request, step, number, device)
            if step.over:
                sweep = SweepRequest(asked, step.axes(), repeats=plan.repeats_of(step), resume=True)
                run_sweep(sweep, observer, on_record, _say_nothing, clock)
            else:
                follow(asked)
                run_test(asked, observer, on_record, clock)
    return judge_plan(request, clock)


def _say_nothing(number: int, of: int, what: str) -> None:
    """Each run is told of when it is there."""


@contextmanager
def _bridge(plan: Plan) -> Iterator[ImpairmentFile | None]:
    """What the bridge of this host does by itself, while steps of flows may have it do something else; None when none
    of them asks for it. Raises PlanError for an impairment that there is not, NothingFoundError without a bridge."""
    asked = [impairment_of(step) for step in plan.steps if step.place == "station"]
    if not any(asked):
        yield None
        return
    with borrowed_bridge() as usual:
        yield usual


def judge_plan(request: PlanRequest, clock: Clock | None = None) -> PlanOutcome:
    """Judges what the logbook has of a plan; with a clock, keeps the judgement there beside earlier ones.

    Raises PlanError when its runs are of a plan that measures something else.
    """
    plan = request.file.plan
    with closing(Logbook(request.logbook)) as logbook:
        series: dict[str, Series] = {}
        records, sweeps = {}, {}
        for step in plan.steps:
            kept = _kept(logbook, request, step)
            series |= {part: as_series(part, kept.get(part, [])) for part in step.parts()}
            if kept:
                every = (record for group in kept.values() for record in group)
                records[step.name] = sorted(every, key=lambda record: record.started)
            if step.over and is_sweep(logbook, request.series(step.name)):
                sweeps[step.name] = stored_sweep(logbook, request.series(step.name)).readings()
        agreements = [one for asked in plan.build_agreements() for one in judge_agreement(asked, series)]
        besides = [*agreements, *_unfinished(request.file, records), *_own_findings(records)]
        judgement = with_findings(judge(plan.build_criteria(), series, plan.rules), besides)
        outcome = PlanOutcome(judgement, records, sweeps, agreements=agreements)
        digest = request.file.criteria_digest
        earlier = [one for one in logbook.judgements(request.name) if one.criteria != digest]
        if clock and any(records.values()):
            document = document_of(request, outcome)
            logbook.add_judgement(
                request.name, StoredJudgement(clock.utc(), outcome.judgement.verdict, digest, document)
            )
    return replace(outcome, earlier=earlier)


def _unfinished(file: PlanFile, records: Mapping[str, Sequence[RunRecord]]) -> Iterator[Finding]:
    """Steps of which runs are missing."""
    plan = file.plan
    for step in plan.steps:
        there = sum(record.state == "complete" for record in records.get(step.name, []))
        if there < (wanted := runs_of(plan, step)):
            reason = f"the plan is not finished: {there} of {wanted} runs are there"
            yield Finding("RETEST", step.name, reason, "Run the plan again: it goes on where it stopped.")


def _own_findings(records: Mapping[str, Sequence[RunRecord]]) -> Iterator[Finding]:
    """What the tests of a plan judged by themselves, such as promises of services."""
    for name, runs in records.items():
        yield from over_repeats(name, [run.findings for run in runs if run.state == "complete"])


def document_of(request: PlanRequest, outcome: PlanOutcome) -> str:
    """What came of a plan as an open JSON document."""
    runs = {step: [record.id for record in records] for step, records in outcome.records.items()}
    digests = {"plan_digest": request.file.digest, "criteria_digest": request.file.criteria_digest}
    return encode_judgement(request.name, digests, request.unit, outcome.judgement, runs)


def _done(request: PlanRequest) -> dict[str, int]:
    """How many complete runs each step has. Raises PlanError when they are of another version of the plan."""
    found = {}
    with closing(Logbook(request.logbook)) as logbook:
        for step in request.file.plan.steps:
            kept = _kept(logbook, request, step)
            found[step.name] = sum(record.state == "complete" for group in kept.values() for record in group)
    return found


def _kept(logbook: Logbook, request: PlanRequest, step: Step) -> dict[str, list[RunRecord]]:
    """The runs that the logbook has of each part of a step, the baselines of a sweep included. Raises PlanError when
    one of them is of another version of the plan."""
    known = logbook.series()
    parts = [*(f"{step.name}.{name}" for name in BASELINES), *step.parts()] if step.over else step.parts()
    kept = {part: logbook.series_records(request.series(part)) for part in parts if request.series(part) in known}
    _check_same_plan(request, step, [record for group in kept.values() for record in group])
    return kept


def _check_same_plan(request: PlanRequest, step: Step, records: Sequence[RunRecord]) -> None:
    own = {request.file.digest, request.file.text_digest}
    if {record.attributes.get("plan-digest") for record in records} - own:
        raise PlanError(
            f"the logbook has runs of '{request.series(step.name)}' that a plan took which measures something else",
            "Give this one a name of its own with --name.",
        )


def _asked(request: PlanRequest, step: Step, number: int, device: DeviceSettings | None) -> TestRequest:
    """One run of a step, or what a sweep varies."""
    plan, test = request.file.plan, test_of(request.file, step)
    attributes = {"plan": plan.name, "plan-digest": request.file.digest, **request.unit}
    return TestRequest(
        place=_PLACES[kind_of(test).rig](request, step),
        test=test,
        logbook=request.logbook,
        command=request.command,
        label=Label(request.series(step.name), attributes, step.instruction),
        first=number if step.place == "rig" else 0,
        wait_s=request.wait_s,
        events=parse_events(step.events),
        device=device,
        limits=tuple(limit for limit in plan.build_criteria() if limit.step == step.name),
    )


def _stations(request: PlanRequest, step: Step) -> Place:
    plan = request.file.plan
    station = request.station or plan.station
    assert station  # the model sees to it
    settings = StationsSettings(station, request.access, near_name=request.near_name, rated_bps=plan.rated)
    return place_between(settings, step)


def _rig(request: PlanRequest, step: Step) -> RigPlace:
    return RigPlace(rig_of(request.file, step))


_PLACES: dict[RigNeed, Callable[[PlanRequest, Step], Place]] = {
    "stations": _stations,
    "users": _stations,
    "reflector": _stations,
    "frames": _rig,
}
"""Where a step runs, by what its kind of test needs."""
