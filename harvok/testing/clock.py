"""A clock that moves only when told to: time-dependent code is tested without waiting."""

from datetime import UTC, datetime, timedelta


class ManualClock:
    """Starts at zero, at the moment `start`; `sleep` moves it on at once."""

    def __init__(self, start: datetime = datetime(2026, 11, 23, 8, 0, tzinfo=UTC)) -> None:
        self._start = start
        self._now_ns = 0

    def now_ns(self) -> int:
        return self._now_ns

    def wall_ns(self) -> int:
        return self._now_ns

    def sleep(self, duration_s: float) -> None:
        self._now_ns += round(duration_s * 1e9)

    def utc(self) -> datetime:
        return self._start + timedelta(microseconds=self._now_ns / 1000)
