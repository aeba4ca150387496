"""Back-to-back frames: the longest burst at minimum gap that the device carries without loss (RFC 2544 §26.4).

RFC 9004 asks for it only where the throughput is below the theoretical maximum, for the mean, least, greatest and
standard deviation of the repeats, and for the buffer time: implied = burst / maximum rate, corrected for what the
device forwards meanwhile = implied × (1 − throughput / maximum rate).
"""

import statistics
from collections.abc import Generator

from harvok.core.figures import Figure
from harvok.core.procedures.frames import FrameSettings, FrameSize, lossless, measured, trial
from harvok.core.trials.frames import FrameTrial, FrameTrialResult, LoadStep

REPEATS = 50
LONGEST_S = 2.0  # RFC 2544 §26.4: the trial length is at least 2 s

BurstSearch = Generator[FrameTrial, FrameTrialResult, int]


def back_to_back(
    settings: FrameSettings, size: FrameSize, throughput_fps: float, notices: list[str], repeats: int = REPEATS
) -> Generator[FrameTrial, FrameTrialResult, list[Figure]]:
    """Burst length and buffer time of one frame size. Returns nothing where the device keeps up with line rate.

    Where even the longest burst that is tried came through, the buffer is larger than that says, and has no time: a
    remark in `notices` says so.
    """
    maximum = settings.max_fps(size)
    if throughput_fps >= maximum * (1 - settings.resolution):
        return []
    bursts: list[int] = []
    for _ in range(repeats):
        near = bursts[-1] if bursts else None
        bursts.append((yield from _longest_burst(settings, size, near)))
    mean = statistics.fmean(bursts)
    implied_s = mean / maximum
    values = {
        "burst-mean": mean,
        "burst-min": float(min(bursts)),
        "burst-max": float(max(bursts)),
        "burst-deviation": statistics.stdev(bursts) if len(bursts) > 1 else 0.0,
    }
    if max(bursts) >= int(maximum * LONGEST_S):
        notices.append(
            f"back-to-back at {size.name} B: ≥ {max(bursts)} frames; the longest burst that is tried came whole, "
            "and no buffer time follows from that"
        )
    else:
        values |= {"buffer-time-implied": implied_s, "buffer-time": implied_s * (1 - throughput_fps / maximum)}
    return [Figure(quantity, value, {"frame-size": size.name}) for quantity, value in values.items()]


def _longest_burst(settings: FrameSettings, size: FrameSize, near: int | None) -> BurstSearch:
    """Halves between a burst that passed and one that failed; starts around the last repeat's answer."""
    maximum = settings.max_fps(size)
    longest = int(maximum * LONGEST_S)
    passed, failed = 0, longest + 1
    if near:
        for burst in (near, near + 1):
            if (yield from _passes(settings, size, burst)):
                passed = max(passed, burst)
            else:
                failed = burst
                break
    while failed - passed > 1:
        middle = (passed + failed) // 2
        if (yield from _passes(settings, size, middle)):
            passed = middle
        else:
            failed = middle
    return passed


def _passes(settings: FrameSettings, size: FrameSize, burst: int) -> Generator[FrameTrial, FrameTrialResult, bool]:
    maximum = settings.max_fps(size)
    step, about = LoadStep(maximum, burst / maximum), f"back-to-back at {size.name} B, {burst} frames"
    result = yield from measured(trial(settings, size, step, pause_s=settings.steering_pause_s, about=about))
    return lossless(result, 0.0)
