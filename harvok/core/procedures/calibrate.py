"""What the tester itself can do, with its two ports joined by a lead: what a result is held against before the device
is blamed."""

from collections.abc import Generator
from dataclasses import dataclass, replace
from typing import Literal

from harvok.core.figures import Figure
from harvok.core.procedure import Context, Findings, Procedure
from harvok.core.procedures.frames import FrameSettings, FrameSize, lossless, shortfall, trial
from harvok.core.procedures.search import Outcome, Range, guided
from harvok.core.trials.frames import FrameTrial, FrameTrialResult, LoadStep

_RESOLUTION = 0.02  # of what the tester held flat out
_ABOVE_FLAT_OUT = 1.1
_ERROR_AT = (0.1, 0.5, 0.9)
_FLOOR_AT = 0.1


@dataclass(frozen=True, slots=True)
class CalibrationTest:
    """Which frame sizes to calibrate, and how; `settings.line_bps` is the most that is tried."""

    sizes: tuple[FrameSize, ...]
    settings: FrameSettings
    kind: Literal["calibration"] = "calibration"

    @property
    def title(self) -> str:
        """What a list of runs shows."""
        return self.kind

    @property
    def expected_s(self) -> float:
        """How long it should take, in seconds: an estimate."""
        settings = self.settings
        full_s, short_s = settings.full_s + settings.pause_s, settings.short_s + settings.steering_pause_s
        return len(self.sizes) * (2 * full_s + 8 * short_s)


def calibrate(test: CalibrationTest, context: Context, findings: Findings) -> Procedure[FrameTrial, FrameTrialResult]:
    """For each frame size: the highest rate held without loss, how well loads are held, and the tester's own delay."""
    for size in test.sizes:
        limit_fps = yield from _limit(test.settings, size)
        labels = {"direction": " and ".join(stream.name for stream in test.settings.streams), "frame-size": size.name}
        share = limit_fps / size.line_fps(test.settings.line_bps)
        figures = [Figure("tester-limit", limit_fps, labels), Figure("tester-limit-share", share, labels)]
        if limit_fps:
            figures += yield from _errors(test.settings, size, limit_fps, labels)
            figures += yield from _floor(test.settings, size, limit_fps)
        findings.figures.extend(figures)


def _limit(settings: FrameSettings, size: FrameSize) -> Generator[FrameTrial, FrameTrialResult, float]:
    """The highest load that was held within the tolerance and came back whole. A guided search among loads up to a
    little above what the tester reaches flat out."""
    line = size.line_fps(settings.line_bps)
    flat_out = yield _short(settings, size, line, "flat out")
    maximum = min(line, _ABOVE_FLAT_OUT * min(direction.offered_load_fps for direction in flat_out.directions))
    search = guided(Range(maximum, _RESOLUTION * maximum, settings.full_s, settings.short_s))
    try:
        attempt = next(search)
        while True:
            wanted = _trial(settings, size, attempt.load, attempt.duration_s, f"between {attempt.words}")
            result = yield wanted
            passed = lossless(result, 0.0) and not any(shortfall(wanted, direction) for direction in result.directions)
            delivered = min(direction.forwarding_rate_fps for direction in result.directions)
            attempt = search.send(Outcome(passed, delivered))
    except StopIteration as end:
        found: float = end.value
        return found


def _errors(
    settings: FrameSettings, size: FrameSize, limit_fps: float, labels: dict[str, str]
) -> Generator[FrameTrial, FrameTrialResult, list[Figure]]:
    """How far the offered load is from the intended one, at some loads."""
    figures = []
    for share in _ERROR_AT:
        load_fps = share * limit_fps
        result = yield _short(settings, size, load_fps, f"offered load at {share * 100:g} %")
        error = max(abs(direction.offered_load_fps / load_fps - 1) for direction in result.directions)
        figures.append(Figure("offered-error", error, {**labels, "load": f"{share * 100:g} %"}))
    return figures


def _floor(
    settings: FrameSettings, size: FrameSize, limit_fps: float
) -> Generator[FrameTrial, FrameTrialResult, list[Figure]]:
    """The delay that the tester and a lead have by themselves, at a tenth of the limit."""
    result = yield _short(settings, size, _FLOOR_AT * limit_fps, "delay floor")
    figures = []
    for direction in result.directions:
        labels: dict[str, str] = {"direction": direction.direction, "frame-size": size.name}
        if direction.delay:
            figures += [
                Figure("delay-floor-min", direction.delay.min_s, labels),
                Figure("delay-floor-median", direction.delay.median_s, labels),
                Figure("delay-floor-p999", direction.delay.p999_s, labels),
            ]
    return figures


def _short(settings: FrameSettings, size: FrameSize, load_fps: float, about: str) -> FrameTrial:
    return _trial(settings, size, load_fps, settings.short_s, about)


def _trial(settings: FrameSettings, size: FrameSize, load_fps: float, duration_s: float, about: str) -> FrameTrial:
    about = f"calibration at {size.name} B, {about}"
    wanted = trial(settings, size, LoadStep(load_fps, duration_s), pause_s=settings.steering_pause_s, about=about)
    return replace(wanted, burst_frames=1)
