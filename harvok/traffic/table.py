"""Every kind of traffic between near end and station: how it is opened, admitted and run. A row for each."""

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, Protocol

from harvok.clock import Clock
from harvok.core.ends import End
from harvok.core.trials.app import AppInterval, AppSummary, AppTrial
from harvok.core.trials.policy import PolicySummary
from harvok.core.trials.tcp import TcpInterval, TcpSummary, TcpTrial
from harvok.core.trials.udp import UdpInterval, UdpSummary, UdpTrial
from harvok.traffic.sockets import Source
from harvok.traffic.tcp import DataTarget, TcpListener, TcpTrialEnd, connect_flows
from harvok.traffic.together import TogetherEnd, TogetherListener, open_together
from harvok.traffic.trial_end import TrialEnd
from harvok.traffic.udp import UdpListener, UdpTrialEnd, open_flows

FlowTrial = TcpTrial | UdpTrial | AppTrial
AnyInterval = TcpInterval | UdpInterval | AppInterval
AnySummary = TcpSummary | UdpSummary | AppSummary | PolicySummary


class FlowListener(Protocol):
    """Admits the data flows of one trial at the far end."""

    def sockets(self, timeout_s: float) -> Any: ...
    def close(self) -> None: ...


@dataclass(frozen=True, slots=True)
class Traffic:
    """One kind of traffic: its listener at the far end, how the near end opens its flows, and what runs them. `version`
    is that of its trials, hellos and summaries, which both ends must have alike."""

    listener: Callable[[Any, bytes, bytes, str | None, int, str], FlowListener]
    open_flows: Callable[[Any, DataTarget, Source], Any]
    trial_end: Callable[[End, Any, Any, bytes, Clock], TrialEnd]
    version: int = 1


def _peerless(
    listener: Callable[[Any, bytes, bytes, str | None, int], FlowListener],
) -> Callable[[Any, bytes, bytes, str | None, int, str], FlowListener]:
    """The listener of traffic whose near end opens every connection."""
    return lambda trial, trial_id, key, host, port, _peer: listener(trial, trial_id, key, host, port)


TRAFFIC = {
    "tcp": Traffic(_peerless(TcpListener), connect_flows, TcpTrialEnd),
    "udp": Traffic(_peerless(UdpListener), open_flows, UdpTrialEnd),
    "app": Traffic(TogetherListener, open_together, TogetherEnd, version=2),
}


def open_listener(
    trial: FlowTrial, trial_id: bytes, key: bytes, host: str | None, port: int, peer: str
) -> FlowListener:
    """The far end's way in for a trial of the near end at `peer`."""
    return TRAFFIC[trial.kind].listener(trial, trial_id, key, host, port, peer)


def make_trial_end(end: End, trial: FlowTrial, sockets: Any, trial_id: bytes, clock: Clock) -> TrialEnd:
    """One end's half over data connections that are open."""
    return TRAFFIC[trial.kind].trial_end(end, trial, sockets, trial_id, clock)


def open_near_end(trial: FlowTrial, target: DataTarget, source: Source, clock: Clock) -> TrialEnd:
    """The near end's half, with every data connection opened. Raises DataBlockedError."""
    sockets = TRAFFIC[trial.kind].open_flows(trial, target, source)
    return make_trial_end("near", trial, sockets, target.trial_id, clock)
