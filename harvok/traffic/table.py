"""Every kind of traffic between near end and station: how it is opened, admitted and run. A row for each."""

from typing import Any, Protocol

from harvok.clock import Clock
from harvok.core.ends import End
from harvok.core.trials.tcp import HalfInterval, HalfSummary, TcpTrial
from harvok.core.trials.udp import UdpInterval, UdpSummary, UdpTrial
from harvok.traffic.half import Half
from harvok.traffic.sockets import Source
from harvok.traffic.tcp import Door, Gate, TcpHalf, connect_flows
from harvok.traffic.udp import UdpGate, UdpHalf, open_flows

FlowTrial = TcpTrial | UdpTrial
AnyInterval = HalfInterval | UdpInterval
AnySummary = HalfSummary | UdpSummary


class FarGate(Protocol):
    """Admits the data flows of one trial at the far end."""

    def sockets(self, timeout_s: float) -> Any: ...
    def close(self) -> None: ...


def open_gate(trial: FlowTrial, trial_id: bytes, key: bytes, host: str | None, port: int) -> FarGate:
    """The far end's way in for a trial."""
    kind = UdpGate if isinstance(trial, UdpTrial) else Gate
    return kind(trial, trial_id, key, host, port)  # type: ignore[arg-type]


def make_half(end: End, trial: FlowTrial, sockets: Any, trial_id: bytes, clock: Clock) -> Half:
    """One end's half over data connections that are open."""
    if isinstance(trial, UdpTrial):
        return UdpHalf(end, trial, sockets, trial_id)
    return TcpHalf(end, trial, sockets, clock)


def open_near_half(trial: FlowTrial, door: Door, source: Source, clock: Clock) -> Half:
    """The near end's half, with every data connection opened. Raises DataBlockedError."""
    sockets = open_flows(trial, door, source) if isinstance(trial, UdpTrial) else connect_flows(trial, door, source)
    return make_half("near", trial, sockets, door.trial_id, clock)
