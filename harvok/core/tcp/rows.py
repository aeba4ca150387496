"""One row per interval and direction, joined from what the sending and the receiving end told of it."""

import statistics
from collections.abc import Sequence
from dataclasses import dataclass

from harvok.core.ends import Direction, Role, role_at
from harvok.core.ethernet import IpVersion
from harvok.core.link import Link
from harvok.core.tcp.ceiling import ceiling_of
from harvok.core.tcp.evidence import segment_of
from harvok.core.trials.tcp import TcpInfo, TcpInterval


@dataclass(frozen=True, slots=True)
class IntervalRow:
    """What happened in one interval, over all flows; None where a system does not tell.

    Goodput is the receiver's. `retransmitted_bytes` counts this interval, `cwnd_bytes` is one flow's mean.
    """

    direction: Direction
    index: int
    start_s: float
    end_s: float
    goodput_bps: float
    ceiling_share: float | None
    retransmitted_bytes: int | None
    cwnd_bytes: float | None
    rtt_min_s: float | None
    rtt_mean_s: float | None
    core_near: float | None
    core_far: float | None


class RowJoiner:
    """Joins halves into rows as they come, in any order. Knows the link, so that it can tell the ceiling's share."""

    def __init__(self, link: Link, ip_version: IpVersion) -> None:
        self._link = link
        self._ip_version = ip_version
        self._waiting: dict[tuple[Direction, int], TcpInterval] = {}
        self._again: dict[Direction, int] = {}

    def add(self, half: TcpInterval) -> IntervalRow | None:
        """The row that this half completes, or None when the other half has not come yet."""
        place = (half.direction, half.index)
        other = self._waiting.pop(place, None)
        if other is None or other.role == half.role:
            self._waiting[place] = half
            return None
        halves: dict[Role, TcpInterval] = {half.role: half, other.role: other}
        return self._row(halves["sender"], halves["receiver"])

    def _row(self, sender: TcpInterval, receiver: TcpInterval) -> IntervalRow:
        ceiling = ceiling_of(self._link, segment_of(sender.tcp, self._ip_version))
        near_sends = role_at("near", sender.direction) == "sender"
        near, far = (sender, receiver) if near_sends else (receiver, sender)
        return IntervalRow(
            direction=sender.direction,
            index=receiver.index,
            start_s=receiver.start_s,
            end_s=receiver.end_s,
            goodput_bps=receiver.goodput_bps,
            ceiling_share=receiver.goodput_bps / ceiling.goodput_bps if ceiling else None,
            retransmitted_bytes=self._retransmitted(sender),
            cwnd_bytes=_mean([(i.cwnd_segments or 0) * (i.mss_bytes or 0) for i in sender.tcp]),
            rtt_min_s=_min_rtt_s(sender.tcp),
            rtt_mean_s=_mean([i.rtt_us / 1e6 for i in sender.tcp if i.rtt_us]),
            core_near=near.cpu.busiest_core if near.cpu else None,
            core_far=far.cpu.busiest_core if far.cpu else None,
        )

    def _retransmitted(self, sender: TcpInterval) -> int | None:
        """Bytes sent again since the row before this one."""
        totals = [info.retransmitted_bytes for info in sender.tcp]
        known = [total for total in totals if total is not None]
        if not known or len(known) < len(totals):
            return None
        before, now = self._again.get(sender.direction, 0), sum(known)
        self._again[sender.direction] = now
        return now - before


def _mean(values: Sequence[float]) -> float | None:
    return statistics.fmean(values) if values else None


def _min_rtt_s(infos: Sequence[TcpInfo]) -> float | None:
    known = [info.min_rtt_us for info in infos if info.min_rtt_us]
    return min(known) / 1e6 if known else None
