"""Frames between two ports: RFC 2544, loads that are held, the check of an emulator, and the tester's calibration."""

from collections.abc import Sequence
from dataclasses import replace
from typing import Annotated, ClassVar, Literal, Self, TypeVar

from pydantic import Field, field_validator, model_validator

from harvok.core.ends import TwoPortDirection
from harvok.core.ethernet import RFC2544_FRAME_SIZES
from harvok.core.fields import Duration, Share
from harvok.core.frame_streams import frame_streams
from harvok.core.judgement.emulator import judge_emulator
from harvok.core.judgement.finding import Finding
from harvok.core.kinds.kind import Conditions, Kind, Sweeping
from harvok.core.kinds.step import Step
from harvok.core.mixes import frame_size, frame_sizes
from harvok.core.procedure import Findings
from harvok.core.procedures.calibrate import CalibrationTest, calibrate
from harvok.core.procedures.emulator import EmulatorTest, emulator_check
from harvok.core.procedures.frames import FrameSettings, FrameSize, FramesTest, short_trial_s
from harvok.core.procedures.latency import Form
from harvok.core.procedures.load import LoadTest, hold_loads, load_names
from harvok.core.procedures.rfc2544 import FrameTest, TestName, rfc2544
from harvok.core.samples import Event
from harvok.core.sweeps.axes import FRAME_AXES, AxisSet, Setting, parse_loads
from harvok.core.sweeps.reading import SweptFigures
from harvok.core.trials.frames import MAX_STEPS
from harvok.core.units import format_share, format_span
from harvok.errors import UsageError

_Sized = TypeVar("_Sized", FrameTest, LoadTest)

RAMP_SIZES = (64, 1518)


class RigStep(Step):
    """What all steps on the plan's rig have: which frames, in which directions, and the pause after a trial."""

    place: ClassVar[Literal["station", "rig"]] = "rig"
    usual_sizes: ClassVar[Sequence[int]] = RFC2544_FRAME_SIZES

    frame_sizes: list[str | int] = []
    direction: TwoPortDirection = "send"
    streams: list[str] = []
    ip_version: Literal[4, 6, "none"] = 4
    trial_pause: Duration = 7.0

    @field_validator("frame_sizes")
    @classmethod
    def _sizes(cls, sizes: list[str | int]) -> list[str | int]:
        for size in sizes:
            try:
                frame_size(str(size))
            except UsageError as error:
                raise ValueError(error.message) from error
        return sizes

    @field_validator("streams")
    @classmethod
    def _streams(cls, streams: list[str]) -> list[str]:
        try:
            frame_streams(streams, "send")
        except UsageError as error:
            raise ValueError(error.message) from error
        return streams

    @property
    def sizes(self) -> tuple[FrameSize, ...]:
        """The frame sizes, or the usual ones, as far as they can hold a test header."""
        return frame_sizes([str(size) for size in self.frame_sizes], self.ip, self.usual_sizes)

    @property
    def ip(self) -> Literal[4, 6] | None:
        return None if self.ip_version == "none" else self.ip_version

    @property
    def labels(self) -> dict[str, list[str]]:
        streams = [stream.name for stream in frame_streams(self.streams, self.direction).streams]
        sizes = [size.name for size in self.sizes]
        swept = [s.text for axis in self.axes() if axis.name == "frame-size" for s in axis.values]
        return {"direction": streams, "frame-size": swept or sizes}

    def settings(self, line_bps: float, full_s: float) -> FrameSettings:
        """What every trial has in common, between ports of a speed."""
        named = frame_streams(self.streams, self.direction)
        return FrameSettings(
            line_bps=line_bps,
            streams=named.streams,
            frames_of=named.frames_of,
            ip_version=self.ip,
            full_s=full_s,
            short_s=short_trial_s(full_s),
            pause_s=self.trial_pause,
        )

    @property
    def _where(self) -> str:
        """Frame sizes, direction and impairment, in a few words."""
        usual = "RFC 2544's seven sizes" if self.usual_sizes == RFC2544_FRAME_SIZES else sizes_text(self.usual_sizes)
        through = f", through {self.impairment}" if self.impairment else ""
        sizes = sizes_text(self.frame_sizes) if self.frame_sizes else usual
        return f"{sizes}, {', '.join(self.streams) or self.direction}{through}"


def sizes_text(sizes: Sequence[str | int]) -> str:
    """Frame sizes for people."""
    return f"{', '.join(map(str, sizes))} B"


def _shares(loads: str) -> tuple[float, ...]:
    """Reads 10%,50% or a range of shares. Raises ValueError."""
    try:
        return parse_loads(loads, FRAME_AXES)
    except UsageError as error:
        raise ValueError(f"{error.message}. {error.hint}") from error


class RampStep(RigStep):
    """Loads on the plan's rig, shares of the line rate, one after the other."""

    usual_sizes: ClassVar[Sequence[int]] = RAMP_SIZES

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

    @property
    def labels(self) -> dict[str, list[str]]:
        if any(axis.name == "load" for axis in self.axes()):
            return super().labels
        return super().labels | {"load": load_names(_shares(self.loads))}

    def build(self, line_bps: float = 0.0) -> LoadTest:
        """The test to run between ports of a speed."""
        return LoadTest(_shares(self.loads), self.sizes, self.settings(line_bps, self.hold), self.continuous)

    @property
    def words(self) -> str:
        held = f"{format_span(self.hold)} each{' without a pause' if self.continuous else ''}"
        return f"loads {self.loads}, {self._where}, {held}"


class FramesStep(RigStep):
    """RFC 2544 on the plan's rig."""

    axis_set: ClassVar[AxisSet] = FRAME_AXES

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

    def build(self, line_bps: float = 0.0) -> FrameTest:
        """The test to run between ports of a speed."""
        settings = replace(
            self.settings(line_bps, self.duration), loss_tolerance=self.loss_tolerance, resolution=self.resolution
        )
        return FrameTest(
            tests=self.tests,
            sizes=self.sizes,
            settings=settings,
            latency_form=self.latency_form,
            stream_s=2 * self.duration,
            overload_s=self.duration,
        )

    @property
    def words(self) -> str:
        return f"{' '.join(self.tests)}, {self._where}, trials of {format_span(self.duration)}"


def frame_conditions(test: FramesTest) -> Conditions:
    """What must be alike of two tests that send frames."""
    settings = test.settings
    yield "test.kind", test.kind
    yield "test.frame-sizes", ", ".join(size.name for size in test.sizes)
    yield "test.direction", " and ".join(map(settings.words_of, settings.streams))
    yield "test.duration", f"{settings.full_s:g} s"
    yield "test.resolution", format_share(settings.resolution)
    yield "test.loss-tolerance", format_share(settings.loss_tolerance)
    yield "test.ip-version", str(settings.ip_version or "none")
    yield "test.address-pairs", str(settings.address_pairs)
    yield "test.burst", str(settings.burst_frames)


def _load_conditions(test: LoadTest) -> Conditions:
    yield "test.loads", ", ".join(f"{share * 100:g} %" for share in test.shares)
    yield from frame_conditions(test)


def _judge_emulator(test: EmulatorTest, findings: Findings, events: Sequence[Event]) -> list[Finding]:
    return judge_emulator(test.set_to, findings.figures, test.tolerance_s, test.settings.tester_delay_s)


def _of_size(test: _Sized, setting: Setting) -> _Sized:
    return replace(test, sizes=(frame_size(setting.text),))


def _search_with(test: FrameTest, setting: Setting) -> FrameTest:
    if setting.name == "frame-size":
        return _of_size(test, setting)
    raise UsageError("a search of the throughput has no load of its own", "Leave out --search to hold loads.")


def _load_with(test: LoadTest, setting: Setting) -> LoadTest:
    if setting.name == "frame-size":
        return _of_size(test, setting)
    return replace(test, shares=(float(setting.number or 0.0),))


RFC2544 = Kind(
    test=FrameTest,
    procedure=rfc2544,
    rig="frames",
    quantities=(
        "throughput", "throughput-share", "throughput-l1", "throughput-l2", "search-trials", "search-time",
        "frame-loss", "frame-duplicates", "frame-reordered", "frame-corrupted", "frame-foreign",
        "latency-min", "latency-median", "latency-mean",
        "latency-p999", "latency-max", "latency-tagged-mean", "latency-jitter", "burst-mean", "burst-min", "burst-max",
        "burst-deviation", "buffer-time", "buffer-time-implied", "recovery-time", "reset-time",
    ),
    conditions=frame_conditions,
    step=FramesStep,
    sweeping=Sweeping(
        FRAME_AXES, _search_with, SweptFigures("throughput-l2", ("throughput-share", "latency-median"))
    ),
)  # fmt: skip
LOAD = Kind(
    test=LoadTest,
    procedure=hold_loads,
    rig="frames",
    takes_events=True,
    quantities=(
        "forwarding-rate-l2", "forwarding-rate", "offered-load", "frame-loss", "latency-min", "latency-median",
        "latency-p999",
    ),
    conditions=_load_conditions,
    step=RampStep,
    sweeping=Sweeping(
        FRAME_AXES, _load_with, SweptFigures("forwarding-rate-l2", ("frame-loss", "latency-median", "latency-p999"))
    ),
    also_headline=("forwarding-rate-l2", "frame-loss"),
    over_load=True,
)  # fmt: skip
EMULATOR = Kind(
    test=EmulatorTest,
    procedure=emulator_check,
    rig="frames",
    quantities=(
        "latency-median", "latency-min", "latency-mean", "latency-p999", "frame-loss", "throughput-l2", "frames-sent",
    ),
    conditions=frame_conditions,
    judge=_judge_emulator,
    also_headline=("latency-median", "frame-loss"),
)  # fmt: skip
CALIBRATION = Kind(
    test=CalibrationTest,
    procedure=calibrate,
    rig="frames",
    quantities=(
        "tester-limit", "tester-limit-share", "tester-limit-spread", "offered-error", "delay-floor-min",
        "delay-floor-median", "delay-floor-p999",
    ),
    conditions=frame_conditions,
    held_against_calibration=False,
)  # fmt: skip
