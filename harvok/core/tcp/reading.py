"""Reads one direction of a TCP trial: settling, ceiling, limiter, and the figures that go into record and verdict."""

from collections.abc import Iterator
from dataclasses import dataclass

from harvok.core.figures import Figure
from harvok.core.limiter import Limiter
from harvok.core.link import Link
from harvok.core.measures.statistics import fairness
from harvok.core.tcp.case import Case, KnownGood
from harvok.core.tcp.ceiling import Ceiling, ceiling_of, frame_bytes_of_segment
from harvok.core.tcp.evidence import Evidence, gather
from harvok.core.tcp.limiter import find_limiter
from harvok.core.tcp.settling import Settling, find_settling, mean_rate_bps
from harvok.core.trials.tcp import DirectionResult, SocketOptions


@dataclass(frozen=True, slots=True)
class Reading:
    """What one direction comes to. `ceiling` is None when no rated or negotiated speed is known."""

    direction: str
    settling: Settling
    ceiling: Ceiling | None
    limiter: Limiter


def read_direction(
    result: DirectionResult,
    link: Link,
    options: SocketOptions,
    settling_s: float | None = None,
    known_good: KnownGood | None = None,
) -> tuple[Reading, list[Figure]]:
    """Reads a finished direction; `settling_s` sets the settling time instead of finding it."""
    settling = (
        find_settling(result.ticks) if settling_s is None else Settling(settling_s, settled=True, automatic=False)
    )
    evidence = gather(result, settling)
    ceiling = ceiling_of(link, evidence.segment)
    settled_bps = mean_rate_bps(result.ticks, settling.settled_from_s)
    case = Case(settled_bps, settling, evidence, ceiling, link, options, known_good)
    values = dict(_values(result, settling, evidence, ceiling, settled_bps))
    labels: dict[str, str] = {"direction": result.direction}
    reading = Reading(result.direction, settling, ceiling, find_limiter(case))
    return reading, [Figure(quantity, value, labels) for quantity, value in values.items() if value is not None]


def _values(
    result: DirectionResult, settling: Settling, evidence: Evidence, ceiling: Ceiling | None, settled_bps: float
) -> Iterator[tuple[str, float | None]]:
    """(quantity, value) of one direction; None where this system or this link does not tell."""
    mean_bps = mean_rate_bps(result.ticks)
    yield "goodput-settled", settled_bps
    yield "goodput-mean", mean_bps
    yield "settling", settling.settled_from_s
    payload_bytes = evidence.segment.payload_bytes
    if payload_bytes:
        yield "tcp-throughput-l2", settled_bps * frame_bytes_of_segment(evidence.segment) / payload_bytes
    if ceiling:
        yield "ceiling", ceiling.goodput_bps
        yield "ceiling-share", settled_bps / ceiling.goodput_bps
        yield "transfer-time-ratio", ceiling.goodput_bps / mean_bps if mean_bps else None
    yield "segment-payload", float(payload_bytes) if payload_bytes else None
    yield "retransmitted", evidence.retransmitted
    yield "rtt-min", evidence.rtt_min_s
    yield "rtt-mean", evidence.rtt_mean_s
    if evidence.rtt_idle_s and evidence.rtt_mean_s:
        yield "buffer-delay", evidence.rtt_mean_s / evidence.rtt_idle_s - 1
    if result.receiver and len(result.receiver.flow_bytes) > 1:
        yield "fairness", fairness(result.receiver.flow_bytes)
    for end, cpu in evidence.cpu.items():
        yield f"busiest-core-{end}", cpu.busiest_core
