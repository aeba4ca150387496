"""Throughput: the fastest rate at which the device forwards every frame offered (RFC 2544 §26.1)."""

from collections.abc import Generator

from harvok.core.figures import Figure
from harvok.core.frame_trial import FrameTrial, FrameTrialResult, LoadStep
from harvok.core.procedures.frames import (
    FINAL_PAUSE_S,
    STEERING_PAUSE_S,
    FrameSettings,
    FrameSize,
    lossless,
    measured,
    rate_figures,
    trial,
)
from harvok.core.procedures.search import Outcome, Range, binary, guided


def throughput(
    settings: FrameSettings, size: FrameSize
) -> Generator[FrameTrial, FrameTrialResult, tuple[float, list[Figure]]]:
    """Searches the throughput for one frame size; returns it in frames/s, with its figures. Both directions at once
    are offered the same load, and the trial passes when neither loses."""
    most = size.line_fps(settings.line_bps)
    wanted = Range(most, settings.resolution * most, settings.full_s, settings.short_s)
    search = (guided if settings.guided else binary)(wanted)
    trials, time_s = 0, 0.0
    try:
        attempt = next(search)
        while True:
            pause_s = FINAL_PAUSE_S if attempt.duration_s >= settings.full_s else STEERING_PAUSE_S
            step = LoadStep(attempt.load, attempt.duration_s)
            result = yield from measured(trial(settings, size, step, pause_s=pause_s))
            trials, time_s = trials + 1, time_s + attempt.duration_s + pause_s
            delivered = min(one.forwarding_rate_fps for one in result.directions)
            attempt = search.send(Outcome(lossless(result, settings.loss_tolerance), delivered))
    except StopIteration as end:
        found: float = end.value
    figures = list(rate_figures("throughput", found, settings, size))
    labels = {"frame-size": size.name}
    return found, [*figures, Figure("search-trials", trials, labels), Figure("search-time", time_s, labels)]
