"""Plans as files: read, checked, and how long they take. Knows no logbook and no traffic, so that it loads fast."""

import hashlib
import json
from dataclasses import dataclass, replace
from difflib import get_close_matches
from pathlib import Path
from typing import Any, cast

from harvok.core.conditions import HOST_CONDITIONS
from harvok.core.events import parse_events
from harvok.core.judgement.conditions import fits
from harvok.core.kinds.kind import check_events
from harvok.core.kinds.step import Step
from harvok.core.kinds.table import kind_of
from harvok.core.models.impairment import ImpairmentFile
from harvok.core.models.plan import PLAN, Plan
from harvok.core.models.rig import RigFile, VirtualRig
from harvok.core.procedure import Test
from harvok.core.sweeps.axes import BASELINES
from harvok.errors import ImpairmentError, PlanError, UsageError
from harvok.rigs.device_files import DeviceSettings, anchored, settings_of
from harvok.rigs.files import parse_toml, read_text
from harvok.rigs.impairment_files import read_impairment
from harvok.rigs.named_files import readers_beside
from harvok.rigs.rig_files import read_rig

_HINT = "docs/plans.md has every key; `harvok plan new` writes a plan that works."
_DIGEST_LETTERS = 12
_AROUND_A_RUN_S = 2.0
_VIRTUAL_TIME_S = 1.0  # what a run on a model takes of ours


@dataclass(frozen=True, slots=True)
class PlanFile:
    """A plan that was read: the plan, the folder that its rig file is looked for in, and its text."""

    plan: Plan
    folder: Path
    text: str

    @property
    def digest(self) -> str:
        """Stands for what is measured: runs under another may not be mixed with these."""
        measured = self.plan.model_dump(mode="json", include=_MEASURED)
        for step in measured["steps"]:
            step.pop("instruction")
            step.pop("instruction_again")
            step.pop("repeats")
            for key in ("events", "setup", "check", "expect", "undo"):
                if not step[key]:  # as plans were before there were any
                    step.pop(key)
        if self.plan.device:
            measured["device"] = self.plan.device.name
        else:
            measured.pop("device")  # as plans were before there was any
        return _digest_of_text(json.dumps(measured, sort_keys=True))

    @property
    def criteria_digest(self) -> str:
        """Stands for how it is judged, which may be corrected afterwards."""
        judged = self.plan.model_dump(mode="json", include=_JUDGED)
        if not judged["agreements"]:  # as plans were before there were any
            judged.pop("agreements")
        return _digest_of_text(json.dumps(judged, sort_keys=True))

    @property
    def text_digest(self) -> str:
        """What runs of Harvok 0.1 were marked with: it stood for everything."""
        return _digest_of_text(self.text)

    @property
    def rig(self) -> RigFile | None:
        """The rig of the plan, read. Raises RigFileError."""
        return read_rig(self.folder / self.plan.rig) if self.plan.rig else None


def read_plan(path: Path) -> PlanFile:
    """The plan in a TOML file. Raises PlanError, naming line and key."""
    return parse_plan_file(read_text(path, "plan", _HINT, PlanError), path)


def parse_plan_file(text: str, path: Path) -> PlanFile:
    """The plan in the text of a file. Raises PlanError, naming line and key."""
    plan = parse_toml(text, path, PLAN, "plan", _HINT, PlanError, readers_beside(path))
    _check_conditions(plan, path)
    _check_events(plan, path)
    if plan.device:
        plan = plan.model_copy(update={"device": anchored(plan.device, path.parent)})
    return PlanFile(plan, path.parent, text)


def _check_events(plan: Plan, path: Path) -> None:
    """Raises PlanError for events in a step whose test takes none."""
    for step in plan.steps:
        try:
            check_events(kind_of(step.example), parse_events(step.events))
        except UsageError as error:
            raise PlanError(f"{path}: 'events' of step {step.name}: {error.message}", error.hint) from error


def _check_conditions(plan: Plan, path: Path) -> None:
    """Raises PlanError for a condition that no run records: one that is misspelt would declare nothing."""
    tests = [step.example for step in plan.steps]
    known = {*HOST_CONDITIONS, *(name for test in tests for name, _ in kind_of(test).conditions(test))}
    for number, criterion in enumerate(plan.criteria, 1):
        for name in criterion.changed:
            if not any(fits(condition, name) for condition in known):
                last = {part for condition in known for part in (condition, condition.split(".")[-1])}
                near = get_close_matches(name, last, n=1)
                hint = f"Did you mean '{near[0]}'?" if near else f"Conditions are: {', '.join(sorted(known))}."
                raise PlanError(f"{path}: 'changed' of criterion {number}: there is no condition '{name}'", hint)


_MEASURED = {"station", "rated", "rig", "device", "alternate", "steps"}
"""The keys of a plan that say what is measured. More repeats only add to it."""
_JUDGED = {"criteria", "agreements", "min_repeats", "max_spread", "confidence", "alternate"}


def _digest_of_text(text: str) -> str:
    return hashlib.sha256(text.encode()).hexdigest()[:_DIGEST_LETTERS]


def device_of_plan(file: PlanFile) -> DeviceSettings | None:
    """The device that a plan has watched, with its secrets; None for none. Raises DeviceFileError."""
    return settings_of(file.plan.device) if file.plan.device else None


def expected_s(file: PlanFile) -> float:
    """How long all runs of a plan should take, in seconds; swapping leads is not counted."""
    total_s = 0.0
    for step in file.plan.steps:
        if step.place == "rig":
            rig_of(file, step)
        else:
            impairment_of(step)
        once_s = (test_of(file, step).expected_s or 0.0) + _AROUND_A_RUN_S
        if is_simulated(file) and step.place == "rig":
            once_s = _VIRTUAL_TIME_S
        total_s += once_s * runs_of(file.plan, step)
    return total_s


def test_of(file: PlanFile, step: Step) -> Test:
    """The test of a step, between ports of the plan's rig where it has one."""
    test = step.build(file.rig.rated if file.rig else 0.0)
    if file.rig and step.place == "rig":
        sending = cast(Any, test)
        return cast(Test, replace(sending, settings=replace(sending.settings, aging_s=file.rig.aging)))
    return test


def rig_of(file: PlanFile, step: Step) -> RigFile:
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
    impairment_of(step)  # refused here, where the step is known
    changed = rig.model_dump() | {"device": "impairment", "impairment": step.impairment, "shape": None}
    return VirtualRig.model_validate(changed)


def is_simulated(file: PlanFile) -> bool:
    rig = file.rig
    return rig is not None and rig.kind == "simulated"


def impairment_of(step: Step) -> ImpairmentFile | None:
    """The impairment that a step names, if any. Raises PlanError when there is none of that name."""
    if step.impairment is None:
        return None
    try:
        return read_impairment(step.impairment)
    except ImpairmentError as error:
        raise PlanError(f"step {step.name}: {error.message}", error.hint) from error


def runs_of(plan: Plan, step: Step) -> int:
    """How many runs a step comes to, a sweep's with its baselines."""
    return runs_of_sweep(plan, step) if step.over else plan.repeats_of(step)


def runs_of_sweep(plan: Plan, step: Step) -> int:
    return plan.repeats_of(step) * (len(step.parts()) + len(BASELINES))
