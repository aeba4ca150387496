"""A plan as a TOML file: what a senior engineer writes once and anyone can run. docs/plans.md explains every key."""

import re
from collections.abc import Iterator
from typing import TYPE_CHECKING, Annotated, Any, Literal, Union

from pydantic import Field, TypeAdapter, ValidationError, field_validator, model_validator

from harvok.core.fields import Model, Rate, Share, with_new_names
from harvok.core.judgement.agreement import RATES_L2, Agreement
from harvok.core.judgement.assessment import Criterion, Rules
from harvok.core.kinds.step import Name, Step
from harvok.core.kinds.table import KINDS, kind_of
from harvok.core.models.device import NamedDevice
from harvok.core.quantities import DEVICE_QUANTITIES, EVENT_QUANTITIES, QUANTITIES
from harvok.core.units import format_quantity, parse_quantity
from harvok.errors import BadQuantityError, UsageError

_FORMER_CRITERION_KEYS = {"least": "min", "most": "max", "largest_regression": "max_regression"}
_FORMER_PLAN_KEYS = {"least_repeats": "min_repeats", "largest_spread": "max_spread"}


def _steps() -> Any:
    """All kinds of step there are when this file is loaded, told apart by their `test`."""
    steps = tuple(kind.step for kind in KINDS.values() if kind.step)
    return Annotated[Union[steps], Field(discriminator="test")]  # noqa: UP007


if TYPE_CHECKING:
    AnyStep = Step
else:
    AnyStep = _steps()


_UNITS_TO_WRITE = {"b/s": '"940M"', "s": '"5ms"', "B": '"64k"'}
"""Units that a limit is written with, and how."""
_PERCENT = re.compile(r"^(\d+(?:\.\d+)?)\s*%")


class PlanCriterion(Model):
    """One limit; see harvok.core.judgement.criteria. Limits are written with their unit: "940M", "95%", "20us"."""

    figure: str
    step: str | None = None
    at: str | None = None
    minimum: Annotated[str | float | None, Field(alias="min")] = None
    maximum: Annotated[str | float | None, Field(alias="max")] = None
    max_regression: Share | None = None
    margin: str | float | None = None
    against: str | None = None
    direction: str | None = None
    frame_size: str | int | None = None
    load: str | None = None
    service: str | None = None
    labels: dict[str, str] = {}
    changed: list[str] = []

    @model_validator(mode="before")
    @classmethod
    def _former_keys(cls, values: Any) -> Any:
        return with_new_names(values, _FORMER_CRITERION_KEYS)

    @field_validator("figure")
    @classmethod
    def _known(cls, key: str) -> str:
        if key not in QUANTITIES:
            raise ValueError(f"there is no figure '{key}'; docs/figures.md lists them")
        return key

    @model_validator(mode="after")
    def _has_a_limit(self) -> "PlanCriterion":
        if self.minimum is None and self.maximum is None and self.max_regression is None:
            raise ValueError("a criterion needs a limit: min, max or max_regression")
        if (self.max_regression is None) != (self.against is None):
            raise ValueError("max_regression and against go together: worse than what?")
        for key, limit in (("min", self.minimum), ("max", self.maximum), ("margin", self.margin)):
            self._check_limit(key, limit)
        if self.max_regression is not None and QUANTITIES[self.figure].better == "neither":
            raise ValueError(f"'{self.figure}' has no better and worse, so it cannot regress")
        return self

    def _check_limit(self, key: str, limit: str | float | None) -> None:
        """Raises ValueError for a limit without its unit, and for one that no result can have."""
        if limit is None:
            return
        quantity = QUANTITIES[self.figure]
        if not isinstance(limit, str) and quantity.unit in _UNITS_TO_WRITE:
            unit = _UNITS_TO_WRITE[quantity.unit]
            raise ValueError(f"{key} = {limit:g} has no unit; write it with one, such as {unit}")
        try:
            value = self._number(limit) or 0.0
        except BadQuantityError as error:
            raise ValueError(error.message) from error
        shown = format_quantity(value, quantity.unit)
        if value < 0:
            raise ValueError(f"{key} is {shown}, and no {quantity.name} is below zero")
        if quantity.max_value is not None and value > quantity.max_value:
            raise ValueError(f"{key} is {shown}, and no {quantity.name} is above 100 %")

    @property
    def narrowed(self) -> dict[str, str]:
        """The labels that a figure must have for the criterion to be about it."""
        named = {
            "direction": self.direction,
            "frame-size": self.frame_size,
            "load": _PERCENT.sub(r"\1 %", self.load) if self.load else None,
            "service": self.service,
        }
        return {key: str(value) for key, value in named.items() if value is not None} | self.labels

    def build(self, step: str) -> Criterion:
        """The criterion for one step."""
        return Criterion(
            quantity=self.figure,
            step=step,
            minimum=self._number(self.minimum),
            maximum=self._number(self.maximum),
            max_regression=self.max_regression,
            margin=self._number(self.margin) or 0.0,
            against=self.against,
            labels=self.narrowed,
            changed=tuple(self.changed),
        )

    def _number(self, limit: str | float | None) -> float | None:
        return parse_quantity(limit, QUANTITIES[self.figure].unit) if isinstance(limit, str) else limit


class PlanAgreement(Model):
    """Two steps that measure one thing by two ways, and how far apart they may be."""

    steps: Annotated[list[Name], Field(min_length=2, max_length=2)]
    within: Annotated[Share, Field(gt=0, le=0.5)] = 0.03

    def build(self) -> Agreement:
        first, second = self.steps
        return Agreement(first, second, self.within)


_ANY_BASELINE = "baseline"


def parse_limit(text: str) -> Criterion:
    """A limit as it is typed: a figure and the keys of a criterion, `rtt-mean max=2ms direction=send`; its series are
    left open. Raises UsageError."""
    figure, *pairs = text.split() or [""]
    keys = dict(pair.split("=", 1) for pair in pairs if "=" in pair)
    if len(keys) != len(pairs):
        raise UsageError(f"--limit '{text}' is no figure followed by KEY=VALUE", _LIMIT_HINT)
    if "max_regression" in keys:
        keys["against"] = _ANY_BASELINE
    try:
        return PlanCriterion.model_validate({"figure": figure, **keys}).build("")
    except ValidationError as error:
        first = error.errors()[0]
        what = {"extra_forbidden": "is no key of a limit"}.get(
            first["type"], first["msg"].removeprefix("Value error, ")
        )
        where = " ".join(map(str, first["loc"]))
        raise UsageError(f"--limit '{text}': {f'{where}: ' if where else ''}{what}", _LIMIT_HINT) from error


_LIMIT_HINT = (
    'Write it as "goodput-settled min=940M", "latency-median max_regression=10% frame_size=64" or "two-way-loss '
    'max=0.1%"; docs/figures.md lists the figures.'
)


def quantities_of(step: Step) -> tuple[str, ...]:
    """What the figures of a step may be of; any test may be watched, and those with events have outages."""
    return (*kind_of(step.example).quantities, *(EVENT_QUANTITIES if step.events else ()), *DEVICE_QUANTITIES)


class Plan(Model):
    """A plan: between what, which steps, what is acceptable. Steps on a rig need a `rig`, all others a `station`.

    `unit` names what is to be recorded of the unit under test. `alternate` takes the repeats of the steps in turn
    (A B A B), so that drift cancels out.
    """

    version: Literal[1]
    name: Name
    about: str = ""
    station: str | None = None
    rated: Rate | None = None
    rig: str | None = None
    device: NamedDevice | None = None
    unit: list[Name] = []
    repeats: Annotated[int, Field(ge=1, le=1000)] = 5
    alternate: bool = False
    min_repeats: Annotated[int, Field(ge=2, le=1000)] = 5
    max_spread: Share | None = None
    confidence: Annotated[Share, Field(ge=0.5, lt=1)] = 0.95
    steps: Annotated[list[AnyStep], Field(min_length=1)]
    criteria: list[PlanCriterion] = []
    agreements: list[PlanAgreement] = []

    @model_validator(mode="before")
    @classmethod
    def _former_keys(cls, values: Any) -> Any:
        return with_new_names(values, _FORMER_PLAN_KEYS)

    @model_validator(mode="after")
    def _holds_together(self) -> "Plan":
        names = [step.name for step in self.steps]
        repeated = {name for name in names if names.count(name) > 1}
        if repeated:
            raise ValueError(f"two steps are called {min(repeated)}")
        for step in self.steps:
            if getattr(self, step.place) is None:
                raise ValueError(f"step {step.name} is a test of {step.test}, so the plan needs a {step.place}")
        for criterion in self.criteria:
            for name in (criterion.step, criterion.against):
                if name is not None and name not in names:
                    raise ValueError(f"a criterion names the step '{name}', which there is not: {', '.join(names)}")
            self._check_sweeps(criterion)
        self._check_judged()
        self._check_agreements()
        if self.alternate and any(step.over for step in self.steps):
            raise ValueError("a sweep takes its points in turn by itself: leave out alternate, or over")
        return self

    def _check_judged(self) -> None:
        """Raises ValueError for a criterion that no step can answer."""
        for number, criterion in enumerate(self.criteria, 1):
            covered = [step for step in self.steps if self._is_about(criterion, step)]
            if not any(criterion.figure in quantities_of(step) for step in covered):
                tests = " and ".join(dict.fromkeys(step.test for step in covered or self.steps))
                raise ValueError(f"criterion {number}: no test of {tests} measures '{criterion.figure}'")
            for label, value in criterion.narrowed.items():
                known = [step.labels[label] for step in covered if label in step.labels]
                if len(known) == len(covered) and not any(value in values for values in known):
                    there = ", ".join(dict.fromkeys(v for values in known for v in values))
                    raise ValueError(f"criterion {number}: no step measures {label} {value}, only {there}")
            for step in covered:
                if self.repeats_of(step) < self.min_repeats:
                    raise ValueError(
                        f"min_repeats is {self.min_repeats}, and step {step.name} takes {self.repeats_of(step)}: "
                        "it would never be judged"
                    )

    def _check_agreements(self) -> None:
        """Raises ValueError for ways that could never be compared."""
        steps = {step.name: step for step in self.steps}
        for number, agreement in enumerate(self.agreements, 1):
            for name in agreement.steps:
                if name not in steps:
                    raise ValueError(
                        f"agreement {number} names the step '{name}', which there is not: {', '.join(steps)}"
                    )
                if not set(RATES_L2) & set(quantities_of(steps[name])) or steps[name].over:
                    raise ValueError(f"agreement {number}: step {name} measures no rate on layer 2 by itself")

    def _is_about(self, criterion: PlanCriterion, step: Step) -> bool:
        """Whether a criterion is about a step: the one it names, or all but the one it compares with that measure its
        figure."""
        if criterion.step is not None:
            return criterion.step == step.name
        return criterion.against != step.name and criterion.figure in quantities_of(step)

    def _check_sweeps(self, criterion: PlanCriterion) -> None:
        swept = {step.name: step for step in self.steps if step.over}
        if criterion.against in swept:
            raise ValueError(f"a criterion compares with the step '{criterion.against}', which is a sweep of many")
        if criterion.at is None:
            return
        if criterion.step not in swept:
            raise ValueError(f"at = '{criterion.at}' needs the step of a sweep")
        if not swept[criterion.step].parts(criterion.at):
            raise ValueError(f"the sweep '{criterion.step}' has no point with {criterion.at}")

    def repeats_of(self, step: Step) -> int:
        """How often a step is run."""
        return step.repeats or self.repeats

    def build_criteria(self) -> list[Criterion]:
        """Every criterion for every step that it is about."""
        return [
            criterion.build(part)
            for criterion in self.criteria
            for step in self.steps
            if self._is_about(criterion, step)
            for part in step.parts(criterion.at)
        ]

    def build_agreements(self) -> list[Agreement]:
        """What two ways of measuring must agree on."""
        return [agreement.build() for agreement in self.agreements]

    @property
    def rules(self) -> Rules:
        """How sure the judgement is to be."""
        return Rules(self.min_repeats, self.max_spread, self.confidence, self.alternate)

    def rounds(self) -> Iterator[tuple[Step, int]]:
        """Every run to take, as (step, number from 0), in the order of taking; a sweep is one."""
        if not self.alternate:
            for step in self.steps:
                yield from ((step, number) for number in range(1 if step.over else self.repeats_of(step)))
            return
        for number in range(max(self.repeats_of(step) for step in self.steps)):
            yield from ((step, number) for step in self.steps if number < self.repeats_of(step))


PLAN: TypeAdapter[Plan] = TypeAdapter(Plan)
