"""What a direction's two halves say about why it went no faster, gathered over the part after settling."""

import statistics
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from itertools import pairwise

from harvok.core.ends import TWO_WAY, End
from harvok.core.ethernet import IpVersion
from harvok.core.tcp.ceiling import Segment
from harvok.core.tcp.settling import Settling
from harvok.core.trials.tcp import DirectionResult, TcpInfo, TcpInterval, TcpSummary

_TIMESTAMPS = 1  # bit of TcpInfo.options


@dataclass(frozen=True, slots=True)
class Cpu:
    """Mean shares of one end after settling: its busiest core, its busiest worker process (of one core), what the
    hypervisor took, the time that the worker which waited longest waited for a core, and the core that was busiest with
    interrupts. The last two are 0 where a system does not tell."""

    busiest_core: float
    busiest_worker: float
    stolen: float
    waiting: float = 0.0
    interrupts: float = 0.0


@dataclass(frozen=True, slots=True)
class SenderTime:
    """Shares of the time in which the sender had data to send, over all flows (Linux tcp_info)."""

    window_limited: float
    buffer_limited: float


@dataclass(frozen=True, slots=True)
class Evidence:
    """Means and sums over all flows of one direction after settling; None where a system does not tell.

    `rtt_standing_s` is the smallest of the smoothed RTTs that the intervals ended with: what never went away while the
    flow went on. `unsteadiness` is the standard deviation of the goodput of seconds over its mean. `flow_shares` are
    the bytes of each flow over those of an even share.
    """

    flows: int
    cpu: dict[End, Cpu]
    sender_time: SenderTime | None
    retransmitted: float | None
    rtt_mean_s: float | None
    rtt_min_s: float | None
    rtt_idle_s: float | None
    rtt_standing_s: float | None
    duration_s: float
    unsteadiness: float | None
    flow_shares: list[float]
    foreign_share: float | None
    cwnd_bytes: float | None
    cwnd_growth: float | None
    window_bytes: float | None
    send_buffer_bytes: int | None
    receive_buffer_bytes: int | None
    segment: Segment
    congestion_control: str | None


def gather(result: DirectionResult, settling: Settling) -> Evidence:
    """Gathers the evidence of one direction from its intervals, connections and kernel counters."""
    kept = _after_settling(result.sender_intervals, settling.settled_from_s)
    infos = [info for interval in kept for info in interval.tcp]
    last = kept[-1].tcp if kept else []
    first = _before(result, kept)
    return Evidence(
        flows=len(result.receiver.flow_bytes) if result.receiver else 1,
        cpu=_cpu(result, settling.settled_from_s),
        sender_time=_sender_time(first, last),
        retransmitted=_retransmitted(first, last),
        rtt_mean_s=_mean([i.rtt_us for i in infos], 1e-6),
        rtt_min_s=_min([i.min_rtt_us for i in infos]),
        rtt_idle_s=_idle_rtt_s(result.sender, infos),
        rtt_standing_s=_min([i.rtt_us for i in infos]),
        duration_s=result.ticks[-1][0] if result.ticks else 0.0,
        unsteadiness=_unsteadiness(result.ticks, settling.settled_from_s),
        flow_shares=_flow_shares(result.receiver),
        foreign_share=result.foreign_share,
        cwnd_bytes=_mean([_cwnd_bytes(i) for i in infos]),
        cwnd_growth=_cwnd_growth(result.sender_intervals),
        window_bytes=_mean([i.peer_window_bytes for i in infos]),
        send_buffer_bytes=_smallest(result.sender, "send_buffer_bytes"),
        receive_buffer_bytes=_smallest(result.receiver, "receive_buffer_bytes"),
        segment=segment_of(infos, _ip_version(result)),
        congestion_control=_congestion_control(result.sender),
    )


def segment_of(infos: Sequence[TcpInfo], ip_version: IpVersion) -> Segment:
    """How the connections cut their data, as the latest of their kernel states tells it."""
    return Segment(
        ip_version=ip_version,
        payload_bytes=next((i.mss_bytes for i in reversed(infos) if i.mss_bytes), None),
        timestamps=next((bool(i.options & _TIMESTAMPS) for i in infos if i.options is not None), None),
    )


_STEADY_OVER_S = 1.0
"""Shorter, a token bucket that fills and empties makes a steady rate look like none."""


def _unsteadiness(ticks: Sequence[tuple[float, int]], from_s: float) -> float | None:
    """How much the goodput of successive seconds differs; None for fewer than three of them."""
    marks: list[tuple[float, int]] = []
    for at_s, so_far in ticks:
        if at_s >= from_s and (not marks or at_s - marks[-1][0] >= _STEADY_OVER_S):
            marks.append((at_s, so_far))
    rates = [(b - a) / (t - s) for (s, a), (t, b) in pairwise(marks)]
    return statistics.stdev(rates) / statistics.fmean(rates) if len(rates) > 2 and any(rates) else None


def _flow_shares(receiver: TcpSummary | None) -> list[float]:
    """The bytes of each flow over those of an even share."""
    total = sum(receiver.flow_bytes) if receiver else 0
    return [moved * len(receiver.flow_bytes) / total for moved in receiver.flow_bytes] if receiver and total else []


def _after_settling(intervals: Sequence[TcpInterval], from_s: float) -> list[TcpInterval]:
    """The intervals that lie mostly after settling; the last one when none does."""
    kept = [i for i in intervals if (i.start_s + i.end_s) / 2 >= from_s]
    return kept or list(intervals[-1:])


def _before(result: DirectionResult, kept: Sequence[TcpInterval]) -> list[TcpInfo]:
    """Each flow's state just before the kept intervals: from the interval before, or from the handshake."""
    if not kept:
        return []
    earlier = [i for i in result.sender_intervals if i.index < kept[0].index]
    if earlier:
        return earlier[-1].tcp
    return [c.handshake for c in result.sender.connections if c.handshake] if result.sender else []


def _delta(first: Sequence[TcpInfo], last: Sequence[TcpInfo], field: str) -> int | None:
    """The growth of a counter over all flows; None when any flow does not tell it."""
    before, after = ([getattr(info, field) for info in infos] for infos in (first, last))
    if not after or len(before) != len(after) or None in before or None in after:
        return None
    return int(sum(after) - sum(before))


def _sender_time(first: Sequence[TcpInfo], last: Sequence[TcpInfo]) -> SenderTime | None:
    busy, window, buffer = (_delta(first, last, f) for f in ("busy_us", "window_limited_us", "buffer_limited_us"))
    if not busy or window is None or buffer is None:
        return None
    return SenderTime(min(window / busy, 1.0), min(buffer / busy, 1.0))


def _retransmitted(first: Sequence[TcpInfo], last: Sequence[TcpInfo]) -> float | None:
    sent, again = _delta(first, last, "sent_bytes"), _delta(first, last, "retransmitted_bytes")
    return again / sent if sent and again is not None else None


def _mean(values: Sequence[float | None], factor: float = 1.0) -> float | None:
    known = [v for v in values if v]
    return statistics.fmean(known) * factor if known else None


def _min(values: Sequence[int | None]) -> float | None:
    known = [v for v in values if v]
    return min(known) * 1e-6 if known else None


def _idle_rtt_s(sender: TcpSummary | None, infos: Sequence[TcpInfo]) -> float | None:
    """The smaller of the handshakes' RTT and the least RTT ever seen: the best that we know of the empty path."""
    handshakes = [c.handshake.rtt_us for c in sender.connections if c.handshake] if sender else []
    return _min([*handshakes, *(i.min_rtt_us for i in infos)])


def _cwnd_bytes(info: TcpInfo) -> float | None:
    return info.cwnd_segments * info.mss_bytes if info.cwnd_segments and info.mss_bytes else None


def _cwnd_growth(intervals: Sequence[TcpInterval]) -> float | None:
    """Congestion window at the end over that at half time, all flows together."""
    if len(intervals) < 2:
        return None
    half, end = (
        sum(i.cwnd_segments or 0 for i in interval.tcp)
        for interval in (intervals[len(intervals) // 2 - 1], intervals[-1])
    )
    return end / half if half else None


def _cpu(result: DirectionResult, from_s: float) -> dict[End, Cpu]:
    """CPU use of both ends; each end's half of this direction carries that end's readings."""
    ends: tuple[End, End] = ("near", "far")
    found: dict[End, Cpu] = {}
    for end in ends:
        sends = TWO_WAY[result.direction].role_at(end) == "sender"
        intervals = result.sender_intervals if sends else result.receiver_intervals
        uses = [i.cpu for i in _after_settling(intervals, from_s) if i.cpu]
        if uses:
            found[end] = Cpu(
                busiest_core=_busiest(u.cores for u in uses),
                busiest_worker=_busiest(u.workers for u in uses),
                stolen=statistics.fmean(u.stolen for u in uses),
                waiting=_busiest(u.waiting for u in uses),
                interrupts=_busiest(u.interrupts for u in uses),
            )
    return found


def _busiest(shares: Iterable[Sequence[float]]) -> float:
    """The largest mean over the intervals of any core or worker."""
    return max(map(statistics.fmean, zip(*shares, strict=False)), default=0.0)


def _smallest(half: TcpSummary | None, field: str) -> int | None:
    return min((getattr(c, field) for c in half.connections), default=None) if half else None


def _ip_version(result: DirectionResult) -> IpVersion:
    half = result.sender or result.receiver
    first = half.connections[0].remote if half and half.connections else ""
    return 6 if first.startswith("[") else 4


def _congestion_control(sender: TcpSummary | None) -> str | None:
    return sender.connections[0].congestion_control if sender and sender.connections else None
