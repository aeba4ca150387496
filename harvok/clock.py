"""The only reader of time. Everything else is handed a clock, or a moment that somebody read from one."""

import time
from datetime import UTC, datetime
from typing import Protocol


class Clock(Protocol):
    """What the rest of Harvok may ask of time."""

    def now_ns(self) -> int:
        """Monotonic nanoseconds: for durations, never for dates."""

    def wall_ns(self) -> int:
        """The wall clock in nanoseconds since 1970: for stamps that cross processes, never for durations."""

    def sleep(self, duration_s: float) -> None:
        """Waits for `duration_s` seconds."""

    def utc(self) -> datetime:
        """The wall clock, in UTC: for dates in records, never for durations."""


def local_words(at: datetime, seconds: bool = False) -> str:
    """A moment as people here read it, with its zone: 2026-11-27 06:27 CET."""
    return f"{at.astimezone():%Y-%m-%d %H:%M{':%S' if seconds else ''} %Z}"


class SystemClock:
    """The clocks of this machine."""

    def now_ns(self) -> int:
        return time.monotonic_ns()

    def wall_ns(self) -> int:
        return time.time_ns()

    def sleep(self, duration_s: float) -> None:
        time.sleep(duration_s)

    def utc(self) -> datetime:
        return datetime.now(UTC)

    def tai_ahead_ns(self) -> int:
        """How far the clock that knows no leap seconds (CLOCK_TAI) is ahead of the wall clock: whole seconds, in ns."""
        return round((time.clock_gettime_ns(time.CLOCK_TAI) - time.time_ns()) / 1e9) * 1_000_000_000

    def card_ns(self, fd: int) -> int:
        """The clock of a network card, whose device is open as `fd` (clock_gettime(2), dynamic clocks). Raises
        OSError."""
        return time.clock_gettime_ns((~fd << 3) | 3)


SYSTEM = SystemClock()

monotonic_ns = time.monotonic_ns
"""The same as SYSTEM.now_ns(), for loops in which a call more would be felt."""
