"""Intervals of application traffic, as the users' end tells them, in rows."""

from collections.abc import Iterable, Iterator
from dataclasses import dataclass

from harvok.core.samples import IntervalReader, IntervalSamples, Sample


@dataclass(frozen=True, slots=True)
class AppRow:
    """One interval of one stream, as its users saw it; rates at L7 in b/s."""

    direction: str
    index: int
    start_s: float
    end_s: float
    users: int
    open_connections: int
    connections_per_s: float
    transactions_per_s: float
    request_bps: float
    response_bps: float
    first_byte_median_s: float | None
    response_median_s: float | None
    response_p999_s: float | None
    failed: int
    unserved: int
    lag_p99_s: float | None


class AppRows:
    """Makes rows of samples as they come."""

    def __init__(self) -> None:
        self._reader = IntervalReader()

    def add(self, samples: Iterable[Sample]) -> Iterator[AppRow]:
        """The rows that these samples complete."""
        for sample in samples:
            if "service" in sample.labels:  # of what flows beside the users
                continue
            interval = self._reader.add(sample)
            if interval and interval.role == "sender":
                yield _row(interval)


def _row(interval: IntervalSamples) -> AppRow:
    length_s = max(interval.end_s - interval.start_s, 1e-9)

    def each_second(quantity: str) -> float:
        return (interval.one(quantity) or 0.0) / length_s

    return AppRow(
        direction=interval.direction,
        index=interval.index,
        start_s=interval.start_s,
        end_s=interval.end_s,
        users=int(interval.one("users") or 0),
        open_connections=int(interval.one("open-connections") or 0),
        connections_per_s=each_second("connections"),
        transactions_per_s=each_second("transactions"),
        request_bps=each_second("request-bytes") * 8,
        response_bps=each_second("response-bytes") * 8,
        first_byte_median_s=interval.one("first-byte-median-s"),
        response_median_s=interval.one("response-median-s"),
        response_p999_s=interval.one("response-p999-s"),
        failed=int(interval.one("failed") or 0),
        unserved=int(interval.one("unserved") or 0),
        lag_p99_s=interval.one("lag-p99-s"),
    )
