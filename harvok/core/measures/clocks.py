"""The difference of two clocks from packets that were answered (RFC 5905 §8)."""

from harvok.core.time_axis import ClockOffset
from harvok.core.trials.delay import DelayTrialResult


def offset_of(result: DelayTrialResult) -> ClockOffset | None:
    """How far the reflector's clock is ahead, by the packet that was answered fastest, and so to half that time.

    ((T2 − T1) + (T3 − T4)) / 2. None when nothing was answered with times.
    """
    best = min(
        (echo for echo in result.echoes if echo.two_way_s is not None and echo.there_s is not None),
        key=lambda echo: echo.two_way_s or 0.0,
        default=None,
    )
    if best is None or best.there_s is None or best.back_s is None or best.two_way_s is None:
        return None
    return ClockOffset((best.there_s - best.back_s) / 2, best.two_way_s / 2)
