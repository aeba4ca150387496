"""A plan as a TOML file: what a senior engineer writes once and anyone can run. docs/plans.md explains every key."""

from collections.abc import Iterator
from typing import TYPE_CHECKING, Annotated, Any, Literal, Union

from pydantic import Field, TypeAdapter, field_validator, model_validator

from harvok.core.fields import Model, Rate, Share, with_new_names
from harvok.core.judgement.criteria import Criterion, Rules
from harvok.core.kinds.step import Name, Step
from harvok.core.kinds.table import KINDS
from harvok.core.quantities import QUANTITIES
from harvok.core.units import parse_quantity
from harvok.errors import BadQuantityError

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


class PlanCriterion(Model):
    """One limit; see harvok.core.judgement.criteria. Limits are written with their unit: "940M", "95%", "20us"."""

    figure: str
    step: str | None = None
    at: str | None = None
    minimum: Annotated[str | float | None, Field(alias="min")] = None
    maximum: Annotated[str | float | None, Field(alias="max")] = None
    max_regression: Share | None = None
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
        for limit in (self.minimum, self.maximum):
            if isinstance(limit, str):
                try:
                    parse_quantity(limit, QUANTITIES[self.figure].unit)
                except BadQuantityError as error:
                    raise ValueError(error.message) from error
        if self.max_regression is not None and QUANTITIES[self.figure].better == "neither":
            raise ValueError(f"'{self.figure}' has no better and worse, so it cannot regress")
        return self

    @property
    def narrowed(self) -> dict[str, str]:
        """The labels that a figure must have for the criterion to be about it."""
        named = {
            "direction": self.direction,
            "frame-size": self.frame_size,
            "load": self.load,
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
            against=self.against,
            labels=self.narrowed,
            changed=tuple(self.changed),
        )

    def _number(self, limit: str | float | None) -> float | None:
        return parse_quantity(limit, QUANTITIES[self.figure].unit) if isinstance(limit, str) else limit


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
    unit: list[Name] = []
    repeats: Annotated[int, Field(ge=1, le=1000)] = 5
    alternate: bool = False
    min_repeats: Annotated[int, Field(ge=2, le=1000)] = 5
    max_spread: Share | None = None
    confidence: Annotated[Share, Field(ge=0.5, lt=1)] = 0.95
    steps: Annotated[list[AnyStep], Field(min_length=1)]
    criteria: list[PlanCriterion] = []

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
        if self.alternate and any(step.over for step in self.steps):
            raise ValueError("a sweep takes its points in turn by itself: leave out alternate, or over")
        return self

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
        """Every criterion for every step that it is about: the one it names, or all but the one it compares with."""
        return [
            criterion.build(part)
            for criterion in self.criteria
            for step in self.steps
            if criterion.step in (step.name, None) and criterion.against != step.name
            for part in step.parts(criterion.at)
        ]

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
