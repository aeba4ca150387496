"""What all frame-level procedures share: what they send, and the rule that a trial must be the tester's best."""

from collections.abc import Generator, Iterator
from dataclasses import dataclass, replace
from typing import Literal

from harvok.core.ethernet import LINE_OVERHEAD_BYTES
from harvok.core.figures import Figure
from harvok.core.frame_trial import Direction, FrameDirectionResult, FrameTrial, FrameTrialResult, LoadStep
from harvok.errors import TesterLimitError

Trials = Generator[FrameTrial, FrameTrialResult, FrameTrialResult]

OFFERED_TOLERANCE = 0.005  # of the intended load: outside, the trial says nothing about the device
LONGEST_STALL_S = 0.01
_TRIES = 3
FINAL_PAUSE_S = 7.0  # RFC 2544 §23: 2 s for frames in flight, 5 s for the device to settle
STEERING_PAUSE_S = 1.0  # after short trials, which only steer


@dataclass(frozen=True, slots=True)
class FrameSettings:
    """What every trial of a test has in common. `line_bps` is the rated speed of the ports; `loss_tolerance` the share
    of frames that may be lost in a trial that passes: 0 is RFC 2544's throughput."""

    line_bps: float
    directions: tuple[Direction, ...] = ("send",)
    ip_version: Literal[4, 6] | None = 4
    address_pairs: int = 1
    burst_frames: int = 1
    loss_tolerance: float = 0.0
    full_s: float = 60.0
    short_s: float = 1.0
    resolution: float = 0.001
    guided: bool = True


@dataclass(frozen=True, slots=True)
class FrameSize:
    """A frame size, or a mix: its name as shown, and the sizes that are sent in turn."""

    name: str
    sizes: tuple[int, ...]

    @property
    def mean_bytes(self) -> float:
        return sum(self.sizes) / len(self.sizes)

    def line_fps(self, line_bps: float) -> float:
        """The theoretical maximum frame rate (RFC 2544 §20)."""
        return line_bps / (8 * (self.mean_bytes + LINE_OVERHEAD_BYTES))


def trial(settings: FrameSettings, size: FrameSize, *steps: LoadStep, pause_s: float = FINAL_PAUSE_S) -> FrameTrial:
    """A trial with the settings of the test."""
    return FrameTrial(
        frame_sizes=size.sizes,
        steps=steps,
        directions=settings.directions,
        ip_version=settings.ip_version,
        address_pairs=settings.address_pairs,
        burst_frames=settings.burst_frames,
        pause_s=pause_s,
    )


def measured(wanted: FrameTrial) -> Trials:
    """Runs a trial until the tester did its part. Raises TesterLimitError when it fell short three times.

    A trial in which the tester fell short is no loss of the device's, and counts for nothing.
    """
    fault = ""
    for _ in range(_TRIES):
        result = yield wanted
        fault = next((why for one in result.directions if (why := _shortfall(wanted, one))), "")
        if not fault:
            return result
    raise TesterLimitError(
        f"the tester fell short {_TRIES} times: {fault}",
        "Calibrate to see what this tester can do, and test at a lower load or on a faster host.",
    )


def _shortfall(wanted: FrameTrial, got: FrameDirectionResult) -> str:
    """What the tester did wrong; empty when nothing."""
    intended = sum(step.load_fps * step.duration_s for step in wanted.steps)
    if abs(got.sent_frames - intended) > max(OFFERED_TOLERANCE * intended, 1.0):
        return f"it sent {got.sent_frames} frames of {intended:.0f} intended ({got.direction})"
    if got.tester.ring_drops:
        return f"its receive ring dropped {got.tester.ring_drops} frames ({got.direction})"
    if got.tester.longest_stall_s > LONGEST_STALL_S:
        return f"it stood still for {got.tester.longest_stall_s * 1e3:.0f} ms ({got.direction})"
    return ""


def lossless(result: FrameTrialResult, tolerance: float) -> bool:
    """Whether no direction lost more than the tolerance."""
    return all(one.loss <= tolerance for one in result.directions)


def rate_figures(quantity: str, load_fps: float, settings: FrameSettings, size: FrameSize) -> Iterator[Figure]:
    """A frame rate with what it means on the line: share of line rate, L1 and L2 rate; one set for each direction."""
    for direction in settings.directions:
        labels: dict[str, str] = {"direction": direction, "frame-size": size.name}
        yield Figure(quantity, load_fps, labels)
        yield Figure(f"{quantity}-share", load_fps / size.line_fps(settings.line_bps), labels)
        yield Figure(f"{quantity}-l1", load_fps * (size.mean_bytes + LINE_OVERHEAD_BYTES) * 8, labels)
        yield Figure(f"{quantity}-l2", load_fps * size.mean_bytes * 8, labels)


def with_tags(wanted: FrameTrial, tag_at_s: float, tags: int) -> FrameTrial:
    """The same trial, with frames reported one by one from `tag_at_s` on."""
    return replace(wanted, tag_at_s=tag_at_s, tags=tags)
