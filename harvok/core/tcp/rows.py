"""One row per interval and direction, joined from what the sending and the receiving end told of it."""

import statistics
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass

from harvok.core.ethernet import IpVersion
from harvok.core.link import Link
from harvok.core.samples import IntervalReader, IntervalSamples, Sample
from harvok.core.tcp.ceiling import ceiling_of
from harvok.core.tcp.evidence import segment_of
from harvok.core.trials.tcp import TcpInfo, tcp_info


@dataclass(frozen=True, slots=True)
class IntervalRow:
    """What happened in one interval, over all flows; None where a system does not tell.

    Goodput is the receiver's. `retransmitted_bytes` counts this interval, `cwnd_bytes` is one flow's mean.
    """

    direction: str
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
    """Joins the samples of both halves into rows as they come, in any order. Knows the link, so that it can tell the
    ceiling's share."""

    def __init__(self, link: Link, ip_version: IpVersion) -> None:
        self._link = link
        self._ip_version = ip_version
        self._reader = IntervalReader()
        self._waiting: dict[tuple[str, int], IntervalSamples] = {}
        self._again: dict[str, int] = {}

    def add(self, samples: Iterable[Sample]) -> Iterator[IntervalRow]:
        """The rows that these samples complete."""
        for sample in samples:
            half = self._reader.add(sample)
            if half is None:
                continue
            place = (half.direction, half.index)
            other = self._waiting.pop(place, None)
            if other is None or other.role == half.role:
                self._waiting[place] = half
            else:
                halves = {half.role: half, other.role: other}
                yield self._row(halves["sender"], halves["receiver"])

    def _row(self, sender: IntervalSamples, receiver: IntervalSamples) -> IntervalRow:
        infos = _infos(sender)
        ceiling = ceiling_of(self._link, segment_of(infos, self._ip_version))
        near, far = (sender, receiver) if sender.source == "near" else (receiver, sender)
        goodput_bps = sum(receiver.of("flow-bytes")) * 8 / (receiver.end_s - receiver.start_s)
        return IntervalRow(
            direction="send" if sender.direction == "send" else "receive",
            index=receiver.index,
            start_s=receiver.start_s,
            end_s=receiver.end_s,
            goodput_bps=goodput_bps,
            ceiling_share=goodput_bps / ceiling.goodput_bps if ceiling else None,
            retransmitted_bytes=self._retransmitted(sender.direction, infos),
            cwnd_bytes=_mean([(i.cwnd_segments or 0) * (i.mss_bytes or 0) for i in infos]),
            rtt_min_s=_min_rtt_s(infos),
            rtt_mean_s=_mean([i.rtt_us / 1e6 for i in infos if i.rtt_us]),
            core_near=max(near.of("cpu-core"), default=None),
            core_far=max(far.of("cpu-core"), default=None),
        )

    def _retransmitted(self, direction: str, infos: Sequence[TcpInfo]) -> int | None:
        """Bytes sent again since the row before this one."""
        totals = [info.retransmitted_bytes for info in infos]
        known = [total for total in totals if total is not None]
        if not known or len(known) < len(totals):
            return None
        before, now = self._again.get(direction, 0), sum(known)
        self._again[direction] = now
        return now - before


def _infos(half: IntervalSamples) -> list[TcpInfo]:
    """The kernel's view of each flow at the end of an interval, of the flows for which it has one."""
    by_flow: dict[str, dict[str, float]] = {}
    for quantity, values in half.values.items():
        for labels, value in values:
            if "flow" in labels and quantity != "flow-bytes":
                by_flow.setdefault(labels["flow"], {})[quantity] = value
    return [tcp_info(values) for values in by_flow.values()]


def _mean(values: Sequence[float]) -> float | None:
    return statistics.fmean(values) if values else None


def _min_rtt_s(infos: Sequence[TcpInfo]) -> float | None:
    known = [info.min_rtt_us for info in infos if info.min_rtt_us]
    return min(known) / 1e6 if known else None
