"""What the tester itself can do, with its two ports joined by a lead: what a result is held against before the device
is blamed."""

from collections.abc import Generator
from dataclasses import dataclass, replace
from statistics import median
from typing import Literal

from harvok.core.figures import Figure
from harvok.core.procedure import Context, Findings, Procedure
from harvok.core.procedures.frames import FrameSettings, FrameSize, lossless, shortfall, trial
from harvok.core.procedures.search import Outcome, Range, guided
from harvok.core.trials.frames import LONGEST_STALL_S, OFFERED_TOLERANCE, FrameTrial, FrameTrialResult, LoadStep
from harvok.core.units import format_frame_rate
from harvok.errors import TesterLimitError

REPEATS = 3
"""Of each search, and of a trial for a load error that is too far off: two others outvote one that was spoiled."""
MAX_SPREAD = 0.1
"""Of the limits that were found, as a share of their median. Each is known to 2 %; where they vary by five times that,
other programs or a hypervisor had a part in it, which is said. On a shared host of two cores they did so by 26 %."""
FAR_FROM_EARLIER = 0.1
"""Off an earlier calibration, beyond what both may vary: something about the tester has changed."""
_RESOLUTION = 0.02  # of what the tester held flat out
_ABOVE_FLAT_OUT = 1.1
_ERROR_AT = (0.1, 0.5, 0.9)
_ERROR_TRIAL_S = LONGEST_STALL_S / OFFERED_TOLERANCE
"""In a shorter trial the stall that every trial is allowed would be more than the load may be off."""
_FLOOR_AT = 0.1
_CALM = "Stop what else runs on this host, or take another one, and calibrate again."


@dataclass(frozen=True, slots=True)
class CalibrationTest:
    """Which frame sizes to calibrate, and how; `settings.line_bps` is the most that is tried, and `settings.tester_fps`
    what an earlier calibration found."""

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
        errors_s = len(_ERROR_AT) * (max(settings.short_s, _ERROR_TRIAL_S) + settings.steering_pause_s)
        return len(self.sizes) * (REPEATS * (2 * full_s + 5 * short_s) + errors_s + short_s)


def calibrate(test: CalibrationTest, context: Context, findings: Findings) -> Procedure[FrameTrial, FrameTrialResult]:
    """For each frame size: the highest rate held without loss, the lowest of several searches since that one is held
    at any time; how well loads are held; and the tester's own delay. Raises TesterLimitError where loads are not held,
    so that a calibration would say nothing."""
    for size in test.sizes:
        found: list[float] = []
        for _ in range(REPEATS):
            found.append((yield from _limit(test.settings, size)))
        limit_fps = min(found)
        labels = {"direction": " and ".join(stream.name for stream in test.settings.streams), "frame-size": size.name}
        share = limit_fps / size.line_fps(test.settings.line_bps)
        figures, notices = findings.figures, findings.notices
        figures += [Figure("tester-limit", limit_fps, labels), Figure("tester-limit-share", share, labels)]
        if limit_fps:
            spread = (max(found) - limit_fps) / median(found)
            figures.append(Figure("tester-limit-spread", spread, labels))
            notices += _spread_notices(spread, found, size)
            figures += yield from _errors(test.settings, size, limit_fps, labels)
            figures += yield from _floor(test.settings, size, limit_fps)
            notices += _against_earlier(test.settings.tester_fps.get(size.name), limit_fps, size)


def _spread_notices(spread: float, found: list[float], size: FrameSize) -> list[str]:
    if spread <= MAX_SPREAD:
        return []
    rates = ", ".join(map(format_frame_rate, found))
    return [
        f"this tester's limit is not steady: at {size.name} B it held {rates} frames/s in {REPEATS} searches, and the "
        "lowest counts; stop what else runs on this host for a higher one"
    ]


def _against_earlier(earlier_fps: float | None, limit_fps: float, size: FrameSize) -> list[str]:
    if not earlier_fps or abs(limit_fps / earlier_fps - 1) <= FAR_FROM_EARLIER:
        return []
    return [
        f"the tester's limit at {size.name} B is {format_frame_rate(limit_fps)} frames/s, and was "
        f"{format_frame_rate(earlier_fps)} in the calibration before: find out what changed (other programs, power "
        "saving, drivers, leads) before results from before and after are compared"
    ]


def _limit(settings: FrameSettings, size: FrameSize) -> Generator[FrameTrial, FrameTrialResult, float]:
    """The highest load that was held within the tolerance and came back whole. A guided search among loads up to a
    little above what the tester reaches flat out."""
    line = settings.max_fps(size)
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
    """How far the offered load is from the intended one, at some loads. Raises TesterLimitError where it is too far."""
    figures = []
    for share in _ERROR_AT:
        load_fps, errors = share * limit_fps, list[float]()
        while not errors or (errors[0] > OFFERED_TOLERANCE and len(errors) < REPEATS):
            about = f"offered load at {share * 100:g} %"
            result = yield _trial(settings, size, load_fps, max(settings.short_s, _ERROR_TRIAL_S), about)
            errors.append(max(abs(direction.offered_load_fps / load_fps - 1) for direction in result.directions))
        if median(errors) > OFFERED_TOLERANCE:
            raise TesterLimitError(
                f"this calibration says nothing: at {size.name} B and {share * 100:g} % of its limit the tester's load "
                f"was {median(errors):.2%} off (median of {REPEATS} trials), and {OFFERED_TOLERANCE:.1%} is allowed",
                _CALM,
            )
        figures.append(Figure("offered-error", median(errors), {**labels, "load": f"{share * 100:g} %"}))
    return figures


def _floor(
    settings: FrameSettings, size: FrameSize, limit_fps: float
) -> Generator[FrameTrial, FrameTrialResult, list[Figure]]:
    """The delay that the tester and a lead have by themselves, at a tenth of the limit."""
    result = yield _short(settings, size, _FLOOR_AT * limit_fps, "delay floor")
    figures = []
    for direction in result.directions:
        labels: dict[str, str] = {"direction": direction.direction, "frame-size": size.name}
        if delay := direction.known_delay:
            figures += [
                Figure("delay-floor-min", delay.min_s, labels),
                Figure("delay-floor-median", delay.median_s, labels),
                Figure("delay-floor-p999", delay.p999_s, labels),
            ]
    return figures


def _short(settings: FrameSettings, size: FrameSize, load_fps: float, about: str) -> FrameTrial:
    return _trial(settings, size, load_fps, settings.short_s, about)


def _trial(settings: FrameSettings, size: FrameSize, load_fps: float, duration_s: float, about: str) -> FrameTrial:
    about = f"calibration at {size.name} B, {about}"
    wanted = trial(settings, size, LoadStep(load_fps, duration_s), pause_s=settings.steering_pause_s, about=about)
    return replace(wanted, burst_frames=1)
