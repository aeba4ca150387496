"""What a procedure asks of a rig, and what a rig answers. Plain dataclasses: worker processes import this file.

Directions are seen from the near end, where the command is typed: `send` is near → far, `receive` far → near.
Each direction has a sending and a receiving half, one at either end; each half measures with its own clock and
counts time from its own origin: the sender from its start, the receiver from the first byte that arrives.
"""

from dataclasses import dataclass, field
from typing import Literal

from harvok.core.ends import CpuUse, Direction, Role


@dataclass(frozen=True, slots=True)
class SocketOptions:
    """What to set on every data connection; None leaves the system's own choice.

    `socket_buffer_bytes` is asked for as send and as receive buffer at both ends. `pacing_bps` is per flow and
    counts what the kernel counts, headers included.
    """

    socket_buffer_bytes: int | None = None
    mss_bytes: int | None = None
    congestion_control: str | None = None
    dscp: int | None = None
    pacing_bps: float | None = None


@dataclass(frozen=True, slots=True)
class TcpTrial:
    """One TCP transfer: `flows` connections in each of `directions`, all at the same time.

    Ends after `duration_s`, or when `amount_bytes` (per direction) have arrived; exactly one of them is set.
    """

    directions: tuple[Direction, ...]
    flows: int = 1
    duration_s: float | None = None
    amount_bytes: int | None = None
    interval_s: float = 1.0
    tick_s: float = 0.1
    options: SocketOptions = SocketOptions()
    kind: Literal["tcp"] = "tcp"


_SLOWEST_TICK_S, _FASTEST_TICK_S = 0.1, 0.01


def tcp_trial(
    flows: int,
    duration_s: float | None,
    amount_bytes: int | None = None,
    interval_s: float = 1.0,
    options: SocketOptions = SocketOptions(),
) -> TcpTrial:
    """The pattern of a trial whose directions are filled in later; ten ticks an interval, within bounds."""
    if duration_s is not None:
        interval_s = min(interval_s, duration_s)
    tick_s = max(min(interval_s / 10, _SLOWEST_TICK_S), _FASTEST_TICK_S)
    return TcpTrial((), flows, duration_s, amount_bytes, interval_s, tick_s, options)


@dataclass(frozen=True, slots=True)
class TcpInfo:
    """The kernel's own view of one connection. A field is None where this kernel does not tell it.

    Counters are totals since the connection was made. `options` is a bit set: 1 timestamps, 2 SACK, 4 window
    scaling, 8 ECN (Linux uapi tcp.h).
    """

    options: int | None = None
    mss_bytes: int | None = None
    path_mtu_bytes: int | None = None
    rtt_us: int | None = None
    rtt_variation_us: int | None = None
    min_rtt_us: int | None = None
    cwnd_segments: int | None = None
    peer_window_bytes: int | None = None
    delivery_rate_bps: float | None = None
    sent_bytes: int | None = None
    acked_bytes: int | None = None
    retransmitted_bytes: int | None = None
    retransmitted_segments: int | None = None
    busy_us: int | None = None
    window_limited_us: int | None = None
    buffer_limited_us: int | None = None


@dataclass(frozen=True, slots=True)
class TcpInterval:
    """One interval of one half of one direction.

    `ticks` are (seconds since the origin, payload bytes of all flows since the origin); `flow_bytes` the payload
    bytes of each flow in this interval; `tcp` each flow's state at its end (empty where the system tells none).
    """

    direction: Direction
    role: Role
    index: int
    start_s: float
    end_s: float
    ticks: list[tuple[float, int]]
    flow_bytes: list[int]
    tcp: list[TcpInfo]
    cpu: CpuUse | None = None

    @property
    def goodput_bps(self) -> float:
        length_s = self.end_s - self.start_s
        return sum(self.flow_bytes) * 8 / length_s if length_s > 0 else 0.0


@dataclass(frozen=True, slots=True)
class Connection:
    """One data connection as it was really made: addresses, and what the kernel granted of what was asked for."""

    flow: int
    local: str
    remote: str
    send_buffer_bytes: int
    receive_buffer_bytes: int
    congestion_control: str | None = None
    handshake: TcpInfo | None = None


@dataclass(frozen=True, slots=True)
class TcpSummary:
    """What one half of one direction says at its end. `elapsed_s` runs from the half's own origin."""

    direction: Direction
    role: Role
    elapsed_s: float
    flow_bytes: list[int]
    connections: list[Connection]
    missing: list[str] = field(default_factory=list)


@dataclass(frozen=True, slots=True)
class DirectionResult:
    """Both halves of one direction. The two interval lists need not be of one length when a test broke off."""

    direction: Direction
    sender_intervals: list[TcpInterval]
    receiver_intervals: list[TcpInterval]
    sender: TcpSummary | None = None
    receiver: TcpSummary | None = None

    @property
    def ticks(self) -> list[tuple[float, int]]:
        """The receiver's (seconds, bytes) since its first byte, in order."""
        return [tick for interval in self.receiver_intervals for tick in interval.ticks]


@dataclass(frozen=True, slots=True)
class TcpTrialResult:
    """What a rig answers to a TcpTrial: one result for each direction of the trial, in the same order."""

    directions: list[DirectionResult]
    kind: Literal["tcp"] = "tcp"
