"""Traffic between many ports of a switch: RFC 2889."""

from collections.abc import Sequence
from typing import Annotated, ClassVar, Literal

from pydantic import AfterValidator, Field

from harvok.core.ethernet import RFC2544_FRAME_SIZES
from harvok.core.fields import Duration, Share, Size, checked_by
from harvok.core.frame_streams import mesh_settings
from harvok.core.kinds.frames import frame_conditions, sizes_text
from harvok.core.kinds.kind import Conditions, Kind
from harvok.core.kinds.step import Step
from harvok.core.mixes import frame_size, frame_sizes
from harvok.core.procedures.frames import FrameSettings, FrameSize
from harvok.core.procedures.rfc2889 import (
    MAX_ADDRESSES,
    SWITCH_TESTS,
    SwitchTest,
    SwitchTestName,
    rfc2889,
    sent_by_rfc2889,
)
from harvok.core.procedures.rfc3918 import GroupTest
from harvok.core.procedures.switch_addresses import USUAL_LEARNING_FPS
from harvok.core.units import format_span
from harvok.core.wire.frame import FrameIp


def _each_once(ports: list[str]) -> list[str]:
    if len(set(ports)) < len(ports):
        raise ValueError("each port is to be named once")
    return ports


class ManyPortsStep(Step):
    """What all steps between many ports of the plan's rig have: the `ports` in their order, and how trials are
    taken."""

    place: ClassVar[Literal["station", "rig"]] = "rig"

    ports: Annotated[list[str], Field(min_length=2, max_length=8), AfterValidator(_each_once)]
    frame_sizes: Annotated[list[str | int], checked_by(lambda sizes: [frame_size(str(size)) for size in sizes])] = []
    duration: Annotated[Duration, Field(ge=1)] = 30.0
    resolution: Annotated[Share, Field(gt=0, le=0.1)] = 0.001
    loss_tolerance: Share = 0.0
    trial_pause: Duration = 7.0

    def sizes(self, ip_version: FrameIp) -> tuple[FrameSize, ...]:
        """The frame sizes, or RFC 2544's."""
        return frame_sizes([str(size) for size in self.frame_sizes], ip_version)

    def settings(self, line_bps: float, ip_version: FrameIp) -> FrameSettings:
        """What every trial has in common, between ports of a speed."""
        return mesh_settings(
            line_bps, self.ports, ip_version, self.duration, self.resolution, self.loss_tolerance, self.trial_pause
        )

    def _tests_in_words(self, tests: Sequence[str], every: Sequence[str]) -> str:
        """Which tests, with which frames."""
        what = "all tests" if len(tests) == len(every) else ", ".join(tests)
        return f"{what}, {sizes_text(self.frame_sizes or RFC2544_FRAME_SIZES)}"


def many_ports_conditions(test: SwitchTest | GroupTest) -> Conditions:
    """What must be alike of two tests between many ports."""
    yield from frame_conditions(test)
    yield "test.tests", ", ".join(test.tests)
    yield "test.ports", ", ".join(test.ports)


class SwitchStep(ManyPortsStep):
    """RFC 2889 on the plan's rig."""

    test: Literal["rfc2889"]
    tests: tuple[SwitchTestName, ...] = ("mesh",)
    ip_version: Literal[4, 6, "none"] = 4
    learning_fps: Annotated[float, Field(gt=0)] = USUAL_LEARNING_FPS
    max_addresses: Annotated[int, Field(ge=2, le=MAX_ADDRESSES)] = MAX_ADDRESSES
    oversize: Annotated[Size, Field(ge=1519)] | None = None

    def build(self, line_bps: float = 0.0) -> SwitchTest:
        """The test to run between ports of a speed."""
        ip = None if self.ip_version == "none" else self.ip_version
        return SwitchTest(
            tests=self.tests,
            sizes=self.sizes(ip),
            settings=self.settings(line_bps, ip),
            ports=tuple(self.ports),
            learning_fps=self.learning_fps,
            max_addresses=self.max_addresses,
            oversize_bytes=int(self.oversize or 0),
        )

    @property
    def words(self) -> str:
        what = self._tests_in_words(self.tests, SWITCH_TESTS)
        return f"{what}, between {', '.join(self.ports)}, trials of {format_span(self.duration)}"


def _conditions(test: SwitchTest) -> Conditions:
    yield from many_ports_conditions(test)
    yield "test.aging", format_span(test.settings.aging_s)
    yield "test.learning-rate", f"{test.learning_fps:g} frames/s"
    yield "test.oversize", f"{test.oversize_bytes} B"


RFC2889 = Kind(
    test=SwitchTest,
    procedure=rfc2889,
    rig="frames",
    quantities=(
        "throughput", "throughput-share", "throughput-l1", "throughput-l2", "frame-loss", "forwarding-rate",
        "max-forwarding-rate", "max-forwarding-load", "head-of-line-loss", "back-pressure", "address-capacity",
        "address-learning-rate", "errored-forwarded", "latency-min", "latency-median", "latency-mean", "latency-p999",
        "latency-max", "latency-tagged-mean", "latency-jitter",
    ),
    conditions=_conditions,
    step=SwitchStep,
    frames_sent=sent_by_rfc2889,
)  # fmt: skip
