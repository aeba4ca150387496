"""What a procedure asks of a rig, and what a rig answers. Plain dataclasses: worker processes import this file.

Directions are seen from the near end, where the command is typed: `send` is near → far, `receive` far → near.
Each direction has a sending and a receiving half, one at either end; each half measures with its own clock and
counts time from its own origin: the sender from its start, the receiver from the first byte that arrives. As samples
(core.samples) both stand on the trial's time axis.
"""

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field, fields
from typing import Literal

from harvok.core.bounds import (
    Amount,
    BitRate,
    Count,
    Dscp,
    Flows,
    Index,
    Interval,
    Line,
    Mss,
    Name,
    Pacing,
    Seconds,
    SocketBuffer,
    SomeSeconds,
    Tick,
)
from harvok.core.ends import CpuUse, Role, Stream
from harvok.core.samples import INTERVAL_INDEX, INTERVAL_LENGTH, Sample, cpu_samples
from harvok.core.time_axis import ClockOffset

Method = Literal["auto", "copy", "zero-copy"]
"""How hosts move the bytes: copied as an application does, or passed on and dropped in the kernel; `auto` is zero-copy
where the system can. Each half tells which it was."""


@dataclass(frozen=True, slots=True)
class SocketOptions:
    """What to set on every data connection; None leaves the system's own choice.

    `socket_buffer_bytes` is asked for as send and as receive buffer at both ends. `pacing_bps` is per flow and
    counts what the kernel counts, headers included.
    """

    socket_buffer_bytes: SocketBuffer | None = None
    mss_bytes: Mss | None = None
    congestion_control: Name | None = None
    dscp: Dscp | None = None
    pacing_bps: Pacing | None = None


@dataclass(frozen=True, slots=True)
class TcpTrial:
    """One TCP transfer: `flows` connections in each of `streams`, all at the same time.

    Ends after `duration_s`, or when `amount_bytes` (per direction) have arrived; exactly one of them is set.
    """

    streams: tuple[Stream, ...]
    flows: Flows = 1
    duration_s: SomeSeconds | None = None
    amount_bytes: Amount | None = None
    interval_s: Interval = 1.0
    tick_s: Tick = 0.1
    options: SocketOptions = SocketOptions()
    method: Method = "copy"
    kind: Literal["tcp"] = "tcp"


_SLOWEST_TICK_S, _FASTEST_TICK_S = 0.1, 0.01


def tcp_trial(
    flows: int,
    duration_s: float | None,
    amount_bytes: int | None = None,
    interval_s: float = 1.0,
    options: SocketOptions = SocketOptions(),
    method: Method = "auto",
) -> TcpTrial:
    """The pattern of a trial whose streams are filled in later; ten ticks an interval, within bounds."""
    if duration_s is not None:
        interval_s = min(interval_s, duration_s)
    tick_s = max(min(interval_s / 10, _SLOWEST_TICK_S), _FASTEST_TICK_S)
    return TcpTrial((), flows, duration_s, amount_bytes, interval_s, tick_s, options, method)


@dataclass(frozen=True, slots=True)
class TcpInfo:
    """The kernel's own view of one connection. A field is None where this kernel does not tell it.

    Counters are totals since the connection was made. `options` is a bit set: 1 timestamps, 2 SACK, 4 window
    scaling, 8 ECN (Linux uapi tcp.h).
    """

    options: Count | None = None
    mss_bytes: Count | None = None
    path_mtu_bytes: Count | None = None
    rtt_us: Count | None = None
    rtt_variation_us: Count | None = None
    min_rtt_us: Count | None = None
    cwnd_segments: Count | None = None
    peer_window_bytes: Count | None = None
    delivery_rate_bps: BitRate | None = None
    sent_bytes: Count | None = None
    acked_bytes: Count | None = None
    retransmitted_bytes: Count | None = None
    retransmitted_segments: Count | None = None
    busy_us: Count | None = None
    window_limited_us: Count | None = None
    buffer_limited_us: Count | None = None

    def values(self) -> Iterator[tuple[str, float]]:
        """(quantity, value) of what the kernel tells; each quantity is a field's name in kebab case."""
        for each in fields(self):
            value = getattr(self, each.name)
            if value is not None:
                yield each.name.replace("_", "-"), value


def tcp_info(values: Mapping[str, float]) -> TcpInfo:
    """A connection's state from its samples; the inverse of `TcpInfo.values`."""
    known = {each.name: values[key] for each in fields(TcpInfo) if (key := each.name.replace("_", "-")) in values}
    return TcpInfo(**{name: value if name.endswith("_bps") else int(value) for name, value in known.items()})  # type: ignore[arg-type]


@dataclass(frozen=True, slots=True)
class TcpInterval:
    """One interval of one half of one direction.

    `ticks` are (seconds since the origin, payload bytes of all flows since the origin); `flow_bytes` the payload
    bytes of each flow in this interval; `tcp` each flow's state at its end (empty where the system tells none).
    `began_ns` is the half's origin by its own host's wall clock; 0 where that is not known.
    """

    direction: Name
    role: Role
    index: Index
    start_s: Seconds
    end_s: Seconds
    ticks: list[tuple[Seconds, Count]]
    flow_bytes: list[Count]
    tcp: list[TcpInfo]
    cpu: CpuUse | None = None
    began_ns: Count = 0

    @property
    def goodput_bps(self) -> float:
        length_s = self.end_s - self.start_s
        return sum(self.flow_bytes) * 8 / length_s if length_s > 0 else 0.0

    def samples(self, source: str, began_s: float) -> Iterator[Sample]:
        """Everything that it tells, for a half that began at `began_s` on the time axis."""
        labels = {"direction": self.direction, "role": self.role}
        end_s = _axis(began_s, self.end_s)
        for at_s, payload_bytes in self.ticks:
            yield Sample(_axis(began_s, at_s), source, "payload-bytes", payload_bytes, labels)
        for flow, moved in enumerate(self.flow_bytes):
            of_flow = {**labels, "flow": str(flow)}
            yield Sample(end_s, source, "flow-bytes", moved, of_flow)
            for quantity, value in self.tcp[flow].values() if flow < len(self.tcp) else ():
                yield Sample(end_s, source, quantity, value, of_flow)
        yield from cpu_samples(self.cpu, end_s, source, labels)
        yield Sample(end_s, source, INTERVAL_LENGTH, self.end_s - self.start_s, labels)
        yield Sample(end_s, source, INTERVAL_INDEX, self.index, labels)


def _axis(began_s: float, at_s: float) -> float:
    """A moment of a half on the time axis, to the nanosecond that clocks have."""
    return round(began_s + at_s, 9)


@dataclass(frozen=True, slots=True)
class Connection:
    """One data connection as it was really made: addresses, and what the kernel granted of what was asked for."""

    flow: Index
    local: Line
    remote: Line
    send_buffer_bytes: Count
    receive_buffer_bytes: Count
    congestion_control: Name | None = None
    handshake: TcpInfo | None = None


@dataclass(frozen=True, slots=True)
class TcpSummary:
    """What one half of one direction says at its end. `elapsed_s` runs from the half's own origin. A receiver by
    zero-copy read `compared_bytes` of all, and found them to be what was sent."""

    direction: Name
    role: Role
    elapsed_s: Seconds
    flow_bytes: list[Count]
    connections: list[Connection]
    missing: list[Line] = field(default_factory=list)
    method: Method = "copy"
    compared_bytes: Count = 0


@dataclass(frozen=True, slots=True)
class DirectionResult:
    """Both halves of one direction. The two interval lists need not be of one length. `foreign_share` is what the ends'
    interfaces moved besides in this direction, over this transfer's own bytes; None where they do not tell."""

    direction: str
    sender_intervals: list[TcpInterval]
    receiver_intervals: list[TcpInterval]
    sender: TcpSummary | None = None
    receiver: TcpSummary | None = None
    foreign_share: float | None = None

    @property
    def ticks(self) -> list[tuple[float, int]]:
        """The receiver's (seconds, bytes) since its first byte, in order."""
        return [tick for interval in self.receiver_intervals for tick in interval.ticks]


@dataclass(frozen=True, slots=True)
class DirectionOutcome:
    """What both halves of one direction said at their ends, and the share of other traffic on the interfaces."""

    direction: str
    sender: TcpSummary | None = None
    receiver: TcpSummary | None = None
    foreign_share: float | None = None

    @property
    def method(self) -> Method:
        """How the receiving host took the bytes."""
        return self.receiver.method if self.receiver else "copy"

    @property
    def compared_share(self) -> float:
        """How much of what arrived was read and compared; only by zero-copy."""
        arrived = sum(self.receiver.flow_bytes) if self.receiver else 0
        return self.receiver.compared_bytes / arrived if self.receiver and arrived else 0.0


@dataclass(frozen=True, slots=True)
class TcpOutcome:
    """What a record keeps of a TcpTrialResult, beside its samples."""

    directions: list[DirectionOutcome]
    clock: ClockOffset | None = None
    kind: Literal["tcp"] = "tcp"


@dataclass(frozen=True, slots=True)
class TcpTrialResult:
    """What a rig answers to a TcpTrial: one result for each direction of the trial, in the same order. `clock` is None
    where the ends' clocks could not be compared."""

    directions: list[DirectionResult]
    clock: ClockOffset | None = None
    kind: Literal["tcp"] = "tcp"

    @property
    def outcome(self) -> TcpOutcome:
        outcomes = [DirectionOutcome(d.direction, d.sender, d.receiver, d.foreign_share) for d in self.directions]
        return TcpOutcome(outcomes, self.clock)
