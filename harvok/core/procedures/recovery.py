"""System recovery (RFC 2544 §26.5) and reset (§26.6; RFC 6201 for the kinds of reset)."""

from collections.abc import Generator
from dataclasses import replace

from harvok.core.figures import Figure
from harvok.core.procedures.frames import FrameSettings, FrameSize, measured, trial
from harvok.core.trials.frames import FrameTrial, FrameTrialResult, LoadStep

OVERLOAD_S = 60.0
_MIN_RESET_S = 0.05
"""No device starts again in less; gaps of a host that stalls are shorter, or make the trial invalid."""
_OVERLOAD, _RELIEF = 1.1, 0.5  # of the throughput


def recovery(
    settings: FrameSettings, size: FrameSize, throughput_fps: float, overload_s: float = OVERLOAD_S
) -> Generator[FrameTrial, FrameTrialResult, list[Figure]]:
    """How long after an overload the device goes on losing: 110 % of throughput (line rate if that is lower) for 60 s
    or more, then half of it; the time from the cut to the last frame lost, 0 when none is lost after it."""
    overload = min(_OVERLOAD * throughput_fps, settings.max_fps(size))
    steps = LoadStep(overload, overload_s), LoadStep(_RELIEF * overload, overload_s)
    result = yield from measured(trial(settings, size, *steps, about=f"recovery at {size.name} B"))
    return [
        Figure(
            "recovery-time",
            max((direction.last_loss_s or 0.0) - overload_s, 0.0),
            {"direction": direction.direction, "frame-size": size.name},
        )
        for direction in result.directions
    ]


def reset(
    settings: FrameSettings, size: FrameSize, throughput_fps: float, notices: list[str], around_s: float = OVERLOAD_S
) -> Generator[FrameTrial, FrameTrialResult, list[Figure]]:
    """How long the device forwards nothing when it is reset under load: last frame before to first frame after. No
    figure, and a remark in `notices`, where it was not reset: frames went on coming."""
    stream = trial(settings, size, LoadStep(throughput_fps, 2 * around_s), about=f"reset at {size.name} B")
    wanted = replace(stream, reset_at_s=around_s)
    result = yield from measured(wanted)
    if all(direction.longest_gap_s < _MIN_RESET_S for direction in result.directions):
        notices.append(f"reset at {size.name} B is left out: frames went on coming, so the device was not reset")
        return []
    return [
        Figure("reset-time", direction.longest_gap_s, {"direction": direction.direction, "frame-size": size.name})
        for direction in result.directions
    ]
