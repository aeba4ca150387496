"""Throughput: the fastest rate at which the device forwards every frame offered (RFC 2544 §26.1).

Where the tester cannot offer line rate, the search goes up to what it can, and says so: a device that passes there may
well do more.
"""

import math
from collections.abc import Generator
from dataclasses import dataclass, field

from harvok.core.figures import Figure, Mark
from harvok.core.procedures.frames import (
    NEAR_THE_TESTERS,
    FrameSettings,
    FrameSize,
    lossless,
    measured,
    rate_figures,
    trial,
)
from harvok.core.procedures.search import MAX_RETREATS, Attempt, Outcome, Range, binary, guided, retreat
from harvok.core.trials.frames import FrameTrial, FrameTrialResult, LoadStep
from harvok.errors import TesterLimitError


@dataclass(slots=True)
class _Spent:
    """What a search used, and what was really offered in each trial that passed."""

    trials: int = 0
    time_s: float = 0.0
    offered_fps: dict[float, float] = field(default_factory=dict)
    lossy_fps: float = math.inf
    """The lowest load that the tester held and the device lost of."""


def throughput(
    settings: FrameSettings, size: FrameSize
) -> Generator[FrameTrial, FrameTrialResult, tuple[float, list[Figure]]]:
    """Searches the throughput for one frame size; returns it in frames/s, with its figures. Both directions at once
    are offered the same load, and the trial passes when neither loses.

    Raises TesterLimitError when the tester could not hold any load steadily.
    """
    line = size.line_fps(settings.line_bps)
    max_fps, spent = min(line, settings.tester_fps.get(size.name, line)), _Spent()
    for tries_left in range(MAX_RETREATS, -1, -1):
        try:
            found = yield from _search(settings, size, max_fps, spent)
            break
        except TesterLimitError as limit:
            if not tries_left:
                raise
            max_fps = retreat(max_fps, limit.held_share)
    mark: Mark = "tester-limit" if _by_tester(settings, size, found, max_fps, spent) else ""
    figures = list(rate_figures("throughput", found, settings, size, mark))
    labels = {"frame-size": size.name}
    used = Figure("search-trials", spent.trials, labels), Figure("search-time", spent.time_s, labels)
    return found, [*figures, *used]


def _search(
    settings: FrameSettings, size: FrameSize, max_fps: float, spent: _Spent
) -> Generator[FrameTrial, FrameTrialResult, float]:
    """The highest load that passed, as it was really offered."""
    resolution = settings.resolution * size.line_fps(settings.line_bps)
    wanted = Range(max_fps, min(resolution, max_fps / 10), settings.full_s, settings.short_s)
    search = (guided if settings.guided else binary)(wanted)
    try:
        attempt = next(search)
        while True:
            pause_s = settings.pause_s if attempt.duration_s >= settings.full_s else settings.steering_pause_s
            step = LoadStep(attempt.load, attempt.duration_s)
            about = f"throughput at {size.name} B, between {attempt.words}"
            result = yield from measured(trial(settings, size, step, pause_s=pause_s, about=about))
            spent.trials, spent.time_s = spent.trials + 1, spent.time_s + attempt.duration_s + pause_s
            spent.offered_fps[attempt.load] = _really_offered_fps(attempt, result)
            if not lossless(result, settings.loss_tolerance):
                spent.lossy_fps = min(spent.lossy_fps, spent.offered_fps[attempt.load])
            delivered = min(direction.forwarding_rate_fps for direction in result.directions)
            attempt = search.send(Outcome(lossless(result, settings.loss_tolerance), delivered))
    except StopIteration as end:
        found: float = end.value
        return spent.offered_fps.get(found, found)


def _by_tester(settings: FrameSettings, size: FrameSize, found: float, max_fps: float, spent: _Spent) -> bool:
    """Whether a figure says more about the tester than about the device: it is near the calibrated limit, or the tester
    could offer no more and the device had lost nothing close above."""
    line = size.line_fps(settings.line_bps)
    if max_fps >= line or found < NEAR_THE_TESTERS * max_fps:
        return False
    calibrated = settings.tester_fps.get(size.name, line)
    near_calibrated = calibrated < line and found >= NEAR_THE_TESTERS * calibrated
    return near_calibrated or spent.lossy_fps * NEAR_THE_TESTERS > found


def _really_offered_fps(attempt: Attempt, result: FrameTrialResult) -> float:
    """The load of a trial in the direction that got least of it; the intended one where not a frame is missing."""
    worst = min(result.directions, key=lambda one: one.sent_frames)
    if worst.sent_frames >= attempt.load * attempt.duration_s - 1:
        return attempt.load
    return min(attempt.load, worst.offered_load_fps)
