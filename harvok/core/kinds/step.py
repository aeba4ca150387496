"""What every step of a plan has, whatever it measures."""

from typing import Annotated, ClassVar, Literal, Self

from pydantic import Field, field_validator, model_validator

from harvok.core.events import SETUP_ACTIONS, parse_events
from harvok.core.fields import Model, checked_by
from harvok.core.procedure import Test
from harvok.core.sweeps.axes import NO_AXES, Axis, AxisSet, parse_axes, point_name, points_of
from harvok.errors import UsageError

Name = Annotated[str, Field(min_length=1, max_length=60, pattern=r"^[\w-]+$")]


_SOME_LINE_BPS = 1e9


class Step(Model):
    """A name, what the person at the bench is told before it, and when it comes round again, how often it is run, and
    the impairment of its path: of a virtual rig, or of the bridge that runs on this host. `events` are done in
    mid-test (core.events), `setup` before the step and `undo` after it; what `check` prints must have `expect` in
    it. With `over` it is a sweep:
    the same test at every point of one or two axes, and as it stands before and after them.

    Subclasses add `test`, a Literal by which a plan names the kind, and say where it runs and what can be varied.
    """

    place: ClassVar[Literal["station", "rig"]] = "station"
    axis_set: ClassVar[AxisSet] = NO_AXES

    test: str
    name: Name
    instruction: str = ""
    instruction_again: str = ""
    repeats: Annotated[int, Field(ge=1, le=1000)] | None = None
    impairment: str | None = None
    over: list[str] = []
    events: Annotated[list[str], checked_by(parse_events)] = []
    setup: list[str] = []
    check: str = ""
    expect: str = ""
    undo: list[str] = []

    def build(self, line_bps: float = 0.0) -> Test:
        """The test to run; `line_bps` is the rated speed of a rig's ports, 0 where none is known."""
        raise NotImplementedError

    @property
    def example(self) -> Test:
        """The test between ports of some speed: for what does not depend on it."""
        return self.build(_SOME_LINE_BPS)

    @property
    def words(self) -> str:
        """What is measured, in a few words."""
        raise NotImplementedError

    @property
    def labels(self) -> dict[str, list[str]]:
        """The values that its figures may have of a label, of those labels for which they are known beforehand."""
        return {}

    @property
    def needs_token(self) -> bool:
        """Whether the station is asked for traffic of its own."""
        return self.place == "station"

    @field_validator("setup", "undo")
    @classmethod
    def _check_setup(cls, texts: list[str]) -> list[str]:
        for text in texts:
            if text.partition(" ")[0] not in SETUP_ACTIONS or not text.partition(" ")[2].strip():
                raise ValueError(f"'{text}' is none of {', '.join(SETUP_ACTIONS)}, with its words")
        return texts

    @model_validator(mode="after")
    def _check_goes_with_setup(self) -> Self:
        if (self.check or self.expect or self.undo) and not self.setup:
            raise ValueError("check, expect and undo go with setup: without it nothing was changed")
        if self.check and self.check.partition(" ")[0] not in ("run", "device"):
            raise ValueError("check is to be 'run COMMAND' or 'device COMMAND', whose output is looked at")
        return self

    @model_validator(mode="after")
    def _check_axes(self) -> Self:
        self.axes()
        return self

    def axes(self) -> tuple[Axis, ...]:
        """What is varied; empty for a step that is no sweep. Raises ValueError."""
        if not self.over:
            return ()
        if not self.axis_set.kinds:
            raise ValueError(f"over: {self.test} cannot be swept")
        try:
            return parse_axes(self.over, self.axis_set)
        except UsageError as error:
            raise ValueError(f"over: {error.message}. {error.hint}") from error

    def parts(self, at: str | None = None) -> list[str]:
        """The series of runs that the step leads to: one by its own name, or one for each point of a sweep; `at`
        narrows these down to points with that setting."""
        if not self.over:
            return [self.name]
        points = points_of(self.axes())
        return [f"{self.name}.{point_name(p)}" for p in points if at in (None, *(f"{s.name}={s.text}" for s in p))]
