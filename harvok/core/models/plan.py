"""A plan as a TOML file: what a senior engineer writes once and anyone can run. docs/plans.md explains every key."""

from collections.abc import Iterator, Sequence
from dataclasses import replace
from typing import Annotated, Literal, Self

from pydantic import Field, TypeAdapter, field_validator, model_validator

from harvok.core.ends import Direction, DirectionChoice
from harvok.core.ethernet import RFC2544_FRAME_SIZES
from harvok.core.judgement.criteria import Criterion, Rules
from harvok.core.mixes import frame_size
from harvok.core.models.conditions import Model
from harvok.core.models.rig import Duration, Rate, Share, Size
from harvok.core.procedures.delay import DelayTest
from harvok.core.procedures.frames import FrameSettings, FrameSize
from harvok.core.procedures.latency import Form
from harvok.core.procedures.load import LoadTest
from harvok.core.procedures.rfc2544 import FrameTest, TestName
from harvok.core.procedures.tcp import TcpTest
from harvok.core.procedures.udp import UdpTest
from harvok.core.quantities import QUANTITIES
from harvok.core.sweeps.axes import Axis, parse_axes, parse_loads, point_name, points_of
from harvok.core.trials.delay import DelayTrial
from harvok.core.trials.frames import MAX_STEPS
from harvok.core.trials.tcp import SocketOptions, TcpTrial
from harvok.core.trials.udp import UdpTrial
from harvok.core.udp.services import ServiceSpec
from harvok.core.units import parse_quantity
from harvok.core.wire.frame import min_frame_bytes
from harvok.errors import BadQuantityError, UsageError

_SLOWEST_TICK_S = 0.1
_RAMP_SIZES = (64, 1518)
_SWEPT = ("tcp", "udp", "rfc2544")
_FRAME_DIRECTIONS: dict[str, tuple[Direction, ...]] = {
    "send": ("send",),
    "receive": ("receive",),
    "both": ("send", "receive"),
}

Name = Annotated[str, Field(min_length=1, max_length=60, pattern=r"^[\w-]+$")]


class _Step(Model):
    """What every step has: a name, what the person at the bench is told before it, how often it is run, and the
    impairment of its path: of a virtual rig, or of the bridge that runs on this host. With `over` it is a sweep: the
    same test at every point of one or two axes, and as it stands before and after them."""

    name: Name
    instruction: str = ""
    repeats: Annotated[int, Field(ge=1, le=1000)] | None = None
    impairment: str | None = None
    over: list[str] = []

    @property
    def needs_token(self) -> bool:
        """Whether the station is asked for traffic of its own."""
        return True

    @model_validator(mode="after")
    def _varies_what_can_be_varied(self) -> Self:
        self.axes()
        return self

    def axes(self) -> tuple[Axis, ...]:
        """What is varied; empty for a step that is no sweep. Raises ValueError."""
        test = getattr(self, "test", "")
        if self.over and test not in _SWEPT:
            raise ValueError(f"over: {test} cannot be swept, only {', '.join(_SWEPT)}")
        try:
            return parse_axes(self.over, test) if self.over else ()
        except UsageError as error:
            raise ValueError(f"over: {error.message}. {error.hint}") from error

    def parts(self, at: str | None = None) -> list[str]:
        """What series of runs the step leads to: one by its own name, or one for each point of a sweep; `at` narrows
        these down to points with that setting."""
        if not self.over:
            return [self.name]
        points = points_of(self.axes())
        return [f"{self.name}.{point_name(p)}" for p in points if at in (None, *(f"{s.name}={s.text}" for s in p))]


class TcpStep(_Step):
    """TCP towards the plan's station."""

    test: Literal["tcp"]
    direction: DirectionChoice = "each"
    flows: Annotated[int, Field(ge=1, le=64)] = 1
    duration: Annotated[Duration, Field(ge=0.5)] = 10.0
    settling: Duration | None = None
    socket_buffer: Size | None = None
    congestion_control: str | None = None
    dscp: Annotated[int, Field(ge=0, le=63)] | None = None

    def build(self) -> TcpTest:
        """The test to run."""
        buffer = None if self.socket_buffer is None else int(self.socket_buffer)
        options = SocketOptions(buffer, None, self.congestion_control, self.dscp)
        interval_s = min(1.0, self.duration)
        trial = TcpTrial(
            (), self.flows, self.duration, None, interval_s, min(interval_s / 10, _SLOWEST_TICK_S), options
        )
        return TcpTest(self.direction, trial, self.settling)


class UdpStep(_Step):
    """UDP towards the plan's station: at a rate, or searching the highest up to it."""

    test: Literal["udp"]
    rate: Rate
    search: bool = False
    direction: DirectionChoice = "each"
    flows: Annotated[int, Field(ge=1, le=64)] = 1
    frame_size: Annotated[int, Field(ge=64, le=65_535)] = 1518
    duration: Annotated[Duration, Field(ge=0.5)] = 10.0
    dscp: Annotated[int, Field(ge=0, le=63)] | None = None
    resolution: Annotated[Share, Field(gt=0, le=0.1)] = 0.01

    def build(self) -> UdpTest:
        """The test to run."""
        trial = UdpTrial((), (), self.duration, min(1.0, self.duration))
        spec = ServiceSpec(self.rate, self.frame_size, flows=self.flows, dscp=self.dscp)
        mode: Literal["search", "load"] = "search" if self.search else "load"
        return UdpTest(self.direction, trial, (spec,), mode, resolution=self.resolution)


class DelayStep(_Step):
    """Two-way delay to the plan's station, idle and, with `load`, while TCP or UDP fills the link."""

    test: Literal["delay"]
    packets: Annotated[int, Field(ge=1, le=1_000_000)] = 100
    gap: Annotated[Duration, Field(gt=0)] = 0.1
    load: Literal["none", "send", "receive", "each"] = "none"
    load_rate: Rate | None = None
    dscp: Annotated[int, Field(ge=0, le=63)] | None = None

    @property
    def needs_token(self) -> bool:
        return self.load != "none"

    def build(self) -> DelayTest:
        """The test to run; the load is UDP where a rate is given, TCP otherwise."""
        ways = {"none": (), "each": ("send", "receive")}.get(self.load, (self.load,))
        loads = tuple(f"{'udp' if self.load_rate else 'tcp'}-{way}" for way in ways)
        return DelayTest(DelayTrial(self.packets, self.gap, dscp=self.dscp), loads, self.load_rate)  # type: ignore[arg-type]


class RigStep(_Step):
    """What all steps on the plan's rig have: which frames, in which directions, and the pause after a trial."""

    frame_sizes: list[str | int] = []
    direction: Literal["send", "receive", "both"] = "send"
    ip_version: Literal[4, 6, "none"] = 4
    trial_pause: Duration = 7.0

    @property
    def needs_token(self) -> bool:
        return False

    @field_validator("frame_sizes")
    @classmethod
    def _sizes(cls, sizes: list[str | int]) -> list[str | int]:
        for size in sizes:
            try:
                frame_size(str(size))
            except UsageError as error:
                raise ValueError(error.message) from error
        return sizes

    def sizes(self, usual: Sequence[int]) -> tuple[FrameSize, ...]:
        """The frame sizes, or the usual ones, as far as they can hold a test header."""
        asked = self.frame_sizes or [max(size, min_frame_bytes(self.ip)) for size in usual]
        return tuple(frame_size(str(size)) for size in asked)

    @property
    def ip(self) -> Literal[4, 6] | None:
        return None if self.ip_version == "none" else self.ip_version

    def settings(self, line_bps: float, full_s: float) -> FrameSettings:
        """What every trial has in common, between ports of a speed."""
        return FrameSettings(
            line_bps=line_bps,
            directions=_FRAME_DIRECTIONS[self.direction],
            ip_version=self.ip,
            full_s=full_s,
            pause_s=self.trial_pause,
        )


def _shares(loads: str) -> tuple[float, ...]:
    """Reads 10%,50% or a range of shares. Raises ValueError."""
    try:
        return parse_loads(loads, "load")
    except UsageError as error:
        raise ValueError(f"{error.message}. {error.hint}") from error


class RampStep(RigStep):
    """Loads on the plan's rig, shares of the line rate, one after the other."""

    test: Literal["ramp"]
    loads: str = "10%..100%/10"
    hold: Annotated[Duration, Field(ge=0.5)] = 5.0
    trial_pause: Duration = 1.0
    continuous: bool = False

    @field_validator("loads")
    @classmethod
    def _loads(cls, loads: str) -> str:
        if len(_shares(loads)) > MAX_STEPS:
            raise ValueError(f"{MAX_STEPS} loads at most")
        return loads

    def build(self, line_bps: float) -> LoadTest:
        """The test to run between ports of a speed."""
        settings = self.settings(line_bps, self.hold)
        return LoadTest(_shares(self.loads), self.sizes(_RAMP_SIZES), settings, self.continuous)


class FramesStep(RigStep):
    """RFC 2544 on the plan's rig."""

    test: Literal["rfc2544"]
    tests: tuple[TestName, ...] = ("throughput", "latency")
    duration: Annotated[Duration, Field(ge=1)] = 60.0
    resolution: Annotated[Share, Field(gt=0, le=0.1)] = 0.001
    loss_tolerance: Share = 0.0
    latency_form: Form = "modern"

    @model_validator(mode="after")
    def _can_be_swept(self) -> Self:
        varied = [axis.name for axis in self.axes()]
        if "load" in varied:
            raise ValueError("over: a search of the throughput has no load of its own; `harvok ramp` holds loads")
        if varied and ("throughput" not in self.tests or (len(self.frame_sizes) != 1 and "frame-size" not in varied)):
            raise ValueError("over: a sweep of frames is about the throughput at one of frame_sizes")
        return self

    def build(self, line_bps: float) -> FrameTest:
        """The test to run between ports of a speed."""
        settings = replace(
            self.settings(line_bps, self.duration),
            loss_tolerance=self.loss_tolerance,
            short_s=min(max(self.duration / 60, 0.2), 2.0),
            resolution=self.resolution,
        )
        return FrameTest(
            tests=self.tests,
            sizes=self.sizes(RFC2544_FRAME_SIZES),
            settings=settings,
            latency_form=self.latency_form,
            stream_s=2 * self.duration,
            overload_s=self.duration,
        )


AnyStep = TcpStep | UdpStep | DelayStep | FramesStep | RampStep
Step = Annotated[AnyStep, Field(discriminator="test")]


class PlanCriterion(Model):
    """One limit; see harvok.core.judgement.criteria. Limits are written with their unit: "940M", "95%", "20us"."""

    figure: str
    step: str | None = None
    at: str | None = None
    least: str | float | None = None
    most: str | float | None = None
    largest_regression: Share | None = None
    against: str | None = None
    direction: str | None = None
    frame_size: str | int | None = None
    load: str | None = None
    changed: list[str] = []

    @field_validator("figure")
    @classmethod
    def _known(cls, key: str) -> str:
        if key not in QUANTITIES:
            raise ValueError(f"there is no figure '{key}'; docs/figures.md lists them")
        return key

    @model_validator(mode="after")
    def _a_limit(self) -> "PlanCriterion":
        if self.least is None and self.most is None and self.largest_regression is None:
            raise ValueError("a criterion needs a limit: least, most or largest_regression")
        if (self.largest_regression is None) != (self.against is None):
            raise ValueError("largest_regression and against go together: worse than what?")
        for limit in (self.least, self.most):
            if isinstance(limit, str):
                try:
                    parse_quantity(limit, QUANTITIES[self.figure].unit)
                except BadQuantityError as error:
                    raise ValueError(error.message) from error
        if self.largest_regression is not None and QUANTITIES[self.figure].better == "neither":
            raise ValueError(f"'{self.figure}' has no better and worse, so it cannot regress")
        return self

    def build(self, step: str) -> Criterion:
        """The criterion for one step."""
        labels = {"direction": self.direction, "frame-size": self.frame_size, "load": self.load}
        return Criterion(
            quantity=self.figure,
            step=step,
            least=self._number(self.least),
            most=self._number(self.most),
            largest_regression=self.largest_regression,
            against=self.against,
            labels={key: str(value) for key, value in labels.items() if value is not None},
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
    largest_spread: Share | None = None
    confidence: Annotated[Share, Field(ge=0.5, lt=1)] = 0.95
    steps: Annotated[list[Step], Field(min_length=1)]
    criteria: list[PlanCriterion] = []

    @model_validator(mode="after")
    def _holds_together(self) -> "Plan":
        names = [step.name for step in self.steps]
        twice = {name for name in names if names.count(name) > 1}
        if twice:
            raise ValueError(f"two steps are called {min(twice)}")
        for step in self.steps:
            wanted = "rig" if isinstance(step, RigStep) else "station"
            if getattr(self, wanted) is None:
                raise ValueError(f"step {step.name} is a test of {step.test}, so the plan needs a {wanted}")
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

    def repeats_of(self, step: AnyStep) -> int:
        """How often a step is run."""
        return step.repeats or self.repeats

    def made_criteria(self) -> list[Criterion]:
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
        return Rules(self.min_repeats, self.largest_spread, self.confidence, self.alternate)

    def rounds(self) -> Iterator[tuple[AnyStep, int]]:
        """Every run to take, as (step, number from 0), in the order of taking; a sweep is one."""
        if not self.alternate:
            for step in self.steps:
                yield from ((step, number) for number in range(1 if step.over else self.repeats_of(step)))
            return
        for number in range(max(self.repeats_of(step) for step in self.steps)):
            yield from ((step, number) for step in self.steps if number < self.repeats_of(step))


PLAN: TypeAdapter[Plan] = TypeAdapter(Plan)
