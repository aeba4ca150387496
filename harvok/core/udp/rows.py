"""Intervals of both ends of a UDP trial, joined into rows as they come in."""

from dataclasses import dataclass

from harvok.core.ends import Direction
from harvok.core.trials.udp import UdpInterval


@dataclass(frozen=True, slots=True)
class UdpRow:
    """One interval of one service in one direction, as both ends saw it; payload rates in b/s."""

    direction: Direction
    service: int
    index: int
    start_s: float
    end_s: float
    sent_bps: float
    received_bps: float
    received: UdpInterval

    @property
    def variation_s(self) -> float | None:
        """How far apart the fastest and the slowest datagram of the interval were."""
        minimum, maximum = self.received.min_transit_s, self.received.max_transit_s
        return None if minimum is None or maximum is None else maximum - minimum


class UdpRowJoiner:
    """Joins the halves of an interval."""

    def __init__(self) -> None:
        self._waiting: dict[tuple[Direction, int, int], UdpInterval] = {}

    def add(self, interval: UdpInterval) -> UdpRow | None:
        """The row, once both its halves are there."""
        key = interval.direction, interval.service, interval.index
        other = self._waiting.pop(key, None)
        if other is None or other.role == interval.role:
            self._waiting[key] = interval
            return None
        sent, received = (interval, other) if interval.role == "sender" else (other, interval)
        return UdpRow(
            direction=interval.direction,
            service=interval.service,
            index=interval.index,
            start_s=received.start_s,
            end_s=received.end_s,
            sent_bps=sent.payload_bps,
            received_bps=received.payload_bps,
            received=received,
        )
