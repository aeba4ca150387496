"""One time axis for a trial: seconds since its origin, by the near end's clock, for what either end saw.

The ends have clocks of their own. How far the far end's is ahead is measured with answered packets (RFC 5905 §8), and
is only known to within half of the fastest answer's time; the bound is recorded with the offset, since no picture of
both ends' samples is finer than it.
"""

from dataclasses import dataclass

from harvok.core.bounds import Seconds, SignedSeconds


@dataclass(frozen=True, slots=True)
class ClockOffset:
    """How far the far end's clock is ahead of the near end's, and the most that this can be off.

    Zero and exact where both ends are one machine.
    """

    offset_s: SignedSeconds
    error_s: Seconds


@dataclass(frozen=True, slots=True)
class TimeAxis:
    """`origin_ns` is by the near end's wall clock; `clock` None where nothing answered."""

    origin_ns: int
    clock: ClockOffset | None = None

    def at_s(self, end: str, wall_ns: int) -> float:
        """Where a moment by an end's wall clock lies on the axis.

        A far end whose clock is unknown counts from the origin: its halves are placed as if they had begun there.
        """
        known_ns = by_near_clock(end, wall_ns, self.clock)
        return 0.0 if known_ns is None else (known_ns - self.origin_ns) / 1e9


def by_near_clock(end: str, wall_ns: int, clock: ClockOffset | None) -> int | None:
    """A moment by an end's wall clock, by that of the near end; None where that cannot be told."""
    if end == "near":
        return wall_ns
    return wall_ns - round(clock.offset_s * 1e9) if clock and wall_ns else None


def closer(one: ClockOffset | None, other: ClockOffset | None) -> ClockOffset | None:
    """The offset in the middle of a trial, from those before and after it: their drift widens the bound."""
    if one is None or other is None:
        return one or other
    drift_s = abs(other.offset_s - one.offset_s)
    return ClockOffset((one.offset_s + other.offset_s) / 2, max(one.error_s, other.error_s) + drift_s / 2)
