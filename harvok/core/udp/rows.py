"""Intervals of both ends of a UDP trial, joined into rows as they come in."""

from collections.abc import Iterable, Iterator
from dataclasses import dataclass

from harvok.core.samples import IntervalReader, IntervalSamples, Sample


@dataclass(frozen=True, slots=True)
class UdpRow:
    """One interval of one service in one direction, as both ends saw it; payload rates in b/s."""

    direction: str
    service: str
    index: int
    start_s: float
    end_s: float
    sent_bps: float
    received_bps: float
    missing: int
    duplicates: int
    reordered: int
    longest_run: int
    jitter_s: float | None
    variation_s: float | None
    """How far apart the fastest and the slowest datagram of the interval were."""


class UdpRowJoiner:
    """Joins the samples of both halves of an interval."""

    def __init__(self) -> None:
        self._reader = IntervalReader()
        self._waiting: dict[tuple[str, str, int], IntervalSamples] = {}

    def add(self, samples: Iterable[Sample]) -> Iterator[UdpRow]:
        """The rows that these samples complete."""
        for sample in samples:
            half = self._reader.add(sample)
            if half is None:
                continue
            key = half.direction, half.service, half.index
            other = self._waiting.pop(key, None)
            if other is None or other.role == half.role:
                self._waiting[key] = half
            else:
                sent, received = (half, other) if half.role == "sender" else (other, half)
                yield _row(sent, received)


def _row(sent: IntervalSamples, received: IntervalSamples) -> UdpRow:
    minimum, maximum = received.one("transit-min-s"), received.one("transit-max-s")
    return UdpRow(
        direction=received.direction,
        service=received.service,
        index=received.index,
        start_s=received.start_s,
        end_s=received.end_s,
        sent_bps=_payload_bps(sent),
        received_bps=_payload_bps(received),
        missing=int(received.one("missing") or 0),
        duplicates=int(received.one("duplicates") or 0),
        reordered=int(received.one("reordered") or 0),
        longest_run=int(received.one("longest-run") or 0),
        jitter_s=received.one("jitter-s"),
        variation_s=None if minimum is None or maximum is None else maximum - minimum,
    )


def _payload_bps(half: IntervalSamples) -> float:
    length_s = half.end_s - half.start_s
    return (half.one("interval-bytes") or 0.0) * 8 / length_s if length_s > 0 else 0.0
