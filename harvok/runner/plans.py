"""Reads plans, runs them step by step, and judges what came of them.

The runs of a plan go into the logbook as series, one for each step: `NAME.STEP`. A plan that was interrupted goes on
where it stopped when it is run again under the same name, since the series say what is done.
"""

import hashlib
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import closing, contextmanager
from dataclasses import dataclass, field
from pathlib import Path

from harvok.clock import SYSTEM, Clock
from harvok.core.judgement.criteria import Judgement, judge
from harvok.core.judgement.sample import Series
from harvok.core.models.impairment import ImpairmentFile
from harvok.core.models.plan import PLAN, FramesStep, Plan, Step
from harvok.core.models.rig import RigFile, VirtualRig
from harvok.core.models.run import RunRecord
from harvok.core.observer import Observer
from harvok.errors import ImpairmentError, NothingFoundError, PlanError
from harvok.logbook.store import Logbook
from harvok.rigs.files import parse_toml, read_rig, read_text
from harvok.rigs.impairment_files import read_impairment
from harvok.rigs.stations import StationsSettings
from harvok.runner.flows import FlowRequest, run_flows
from harvok.runner.frames import FrameRequest, run_frames
from harvok.runner.impair import ask, borrowed_bridge
from harvok.runner.keeping import Label, OnRecord
from harvok.runner.samples import series_of

_HINT = "docs/plans.md has every key; `harvok plan new` writes a plan that works."
_DIGEST_LETTERS = 12
_AROUND_A_TCP_RUN_S = 2.0

Bench = Callable[[str, str], None]
"""Tells the person at the bench what to do before a step (name, instruction), and returns when it is done."""


@dataclass(frozen=True, slots=True)
class PlanFile:
    """A plan that was read: the plan, the folder that its rig file is looked for in, and the digest of its text."""

    plan: Plan
    folder: Path
    digest: str

    @property
    def rig(self) -> RigFile | None:
        """The rig of the plan, read. Raises RigFileError."""
        return read_rig(self.folder / self.plan.rig) if self.plan.rig else None


@dataclass(frozen=True, slots=True)
class PlanRequest:
    """Everything that `harvok run` was asked for. `name` begins the names of the series; `unit` is what is known of the
    unit under test."""

    file: PlanFile
    name: str
    unit: dict[str, str]
    logbook: str
    command: list[str]
    token: str = ""
    wait_s: float = 0.0
    near_name: str | None = None
    station: str | None = None
    """Instead of the plan's."""

    def series(self, step: Step) -> str:
        """The name of the series of a step."""
        return f"{self.name}.{step.name}"


@dataclass(frozen=True, slots=True)
class PlanOutcome:
    """What came of a plan: the judgement, and the records of each step."""

    judgement: Judgement
    records: Mapping[str, list[RunRecord]] = field(default_factory=dict)


def read_plan(path: Path) -> PlanFile:
    """The plan in a TOML file. Raises PlanError, naming line and key."""
    return parse_plan_file(read_text(path, "plan", _HINT, PlanError), path)


def parse_plan_file(text: str, path: Path) -> PlanFile:
    """The plan in the text of a file. Raises PlanError, naming line and key."""
    plan = parse_toml(text, path, PLAN, "plan", _HINT, PlanError)
    return PlanFile(plan, path.parent, hashlib.sha256(text.encode()).hexdigest()[:_DIGEST_LETTERS])


def expected_s(file: PlanFile) -> float:
    """How long all runs of a plan should take, in seconds; swapping leads is not counted."""
    total_s = 0.0
    for step in file.plan.steps:
        if not isinstance(step, FramesStep):
            _impairment(step)
            once_s = (step.made().expected_s or 0.0) + _AROUND_A_TCP_RUN_S
        else:
            rig_of(file, step)
            once_s = step.made(_line_bps(file)).expected_s if not _is_simulated(file) else 1.0
        total_s += once_s * file.plan.repeats_of(step)
    return total_s


def rig_of(file: PlanFile, step: FramesStep) -> RigFile:
    """The rig of a step. Raises PlanError when its impairment has no virtual rig to stand in."""
    rig = file.rig
    assert rig  # the model sees to it
    if step.impairment is None:
        return rig
    if not isinstance(rig, VirtualRig):
        raise PlanError(
            f"step {step.name} names an impairment, and {rig.name} is not a virtual rig",
            "Put the impairment between real ports yourself: harvok impair start.",
        )
    _impairment(step)  # refused here, where the step is known
    changed = rig.model_dump() | {"device": "impairment", "impairment": step.impairment, "shape": None}
    return VirtualRig.model_validate(changed)


def _line_bps(file: PlanFile) -> float:
    rig = file.rig
    assert rig  # a plan with a frame step has a rig
    return rig.rated


def _is_simulated(file: PlanFile) -> bool:
    rig = file.rig
    return rig is not None and rig.kind == "simulated"


def run_plan(
    request: PlanRequest, observer: Observer, on_record: OnRecord, bench: Bench, clock: Clock = SYSTEM
) -> PlanOutcome:
    """Runs what is not yet in the logbook, and judges the whole.

    Raises whatever broke a run off, and PlanError when the series belong to another plan.
    """
    plan = request.file.plan
    done = _done(request)
    before: Step | None = None
    with _bridge(plan) as usual:
        for step, number in plan.rounds():
            if number < done[step.name]:
                continue
            if step is not before:
                bench(step.name, step.instruction)
                before = step
            if usual and not isinstance(step, FramesStep):
                ask("change", _impairment(step) or usual)
            _take(request, step, number, observer, on_record, clock)
    return judge_plan(request)


@contextmanager
def _bridge(plan: Plan) -> Iterator[ImpairmentFile | None]:
    """What the bridge of this host does by itself, while steps of flows may have it do something else; None when none
    of them asks for it. Raises PlanError for an impairment that there is not, NothingFoundError without a bridge."""
    asked = [_impairment(step) for step in plan.steps if not isinstance(step, FramesStep)]
    if not any(asked):
        yield None
        return
    with borrowed_bridge() as usual:
        yield usual


def _impairment(step: Step) -> ImpairmentFile | None:
    """The impairment that a step names, if any. Raises PlanError when there is none of that name."""
    if step.impairment is None:
        return None
    try:
        return read_impairment(step.impairment)
    except ImpairmentError as error:
        raise PlanError(f"step {step.name}: {error.message}", error.hint) from error


def judge_plan(request: PlanRequest) -> PlanOutcome:
    """Judges what the logbook has of a plan. Raises PlanError when its runs are of another version of the plan."""
    plan = request.file.plan
    with closing(Logbook(request.logbook)) as logbook:
        series, records = {}, {}
        for step in plan.steps:
            try:
                found = series_of(logbook, request.series(step))
                records[step.name] = logbook.series_records(request.series(step))
            except NothingFoundError:
                found = Series(request.series(step), [])
            _check_same_plan(request, step, records.get(step.name, []))
            series[step.name] = Series(step.name, found.runs, found.left_out)
    return PlanOutcome(judge(plan.made_criteria(), series, plan.rules), records)


def _done(request: PlanRequest) -> dict[str, int]:
    """How many complete runs each step has. Raises PlanError when they are of another version of the plan."""
    found = {}
    with closing(Logbook(request.logbook)) as logbook:
        known = logbook.series()
        for step in request.file.plan.steps:
            records = logbook.series_records(request.series(step)) if request.series(step) in known else []
            _check_same_plan(request, step, records)
            found[step.name] = sum(record.state == "complete" for record in records)
    return found


def _check_same_plan(request: PlanRequest, step: Step, records: Sequence[RunRecord]) -> None:
    if {record.attributes.get("plan-digest") for record in records} - {request.file.digest}:
        raise PlanError(
            f"the logbook has runs of '{request.series(step)}' that another version of the plan took",
            "Give this one a name of its own with --name.",
        )


def _take(request: PlanRequest, step: Step, number: int, observer: Observer, on_record: OnRecord, clock: Clock) -> None:
    """Takes one run of a step."""
    plan = request.file.plan
    attributes = {"plan": plan.name, "plan-digest": request.file.digest, **request.unit}
    label = Label(request.series(step), attributes, step.instruction)
    if isinstance(step, FramesStep):
        rig = rig_of(request.file, step)
        test = step.made(rig.rated)
        frames = FrameRequest(rig, test, request.logbook, request.command, label, 1, request.wait_s, number)
        run_frames(frames, observer, on_record, clock)
        return
    station = request.station or plan.station
    assert station
    settings = StationsSettings(station, request.token, near_name=request.near_name, rated_bps=plan.rated)
    tcp = FlowRequest(settings, step.made(), request.logbook, request.command, label, 1, 0.0, request.wait_s)
    run_flows(tcp, observer, on_record, clock)
