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


SYSTEM = SystemClock()

monotonic_ns = time.monotonic_ns
"""The same as SYSTEM.now_ns(), for loops in which a call more would be felt."""
