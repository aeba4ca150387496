"""Application traffic, and UDP services and policy checks beside it: the halves of all as one. The data ports of TCP
and UDP have one number.
"""

import contextlib
from dataclasses import dataclass
from itertools import chain

from harvok.clock import Clock
from harvok.core.ends import End
from harvok.core.trials.app import AppTrial
from harvok.core.wire.app import proof_of
from harvok.traffic.app.ends import AppListener, AppSide, app_watches, close_side, open_users
from harvok.traffic.policy import PolicyProber, PolicyResponder
from harvok.traffic.sockets import Source
from harvok.traffic.tcp import DataTarget
from harvok.traffic.trial_end import TrialEnd
from harvok.traffic.udp import Flows, UdpListener, close_flows, open_flows, udp_watches


@dataclass(frozen=True, slots=True)
class Sides:
    """What one end has of a trial: its users or its service, the sockets of its flows, and who tries or answers policy
    checks."""

    app: AppSide
    flows: Flows
    policy: PolicyProber | PolicyResponder | None = None

    def close(self) -> None:
        """Ends both."""
        close_side(self.app)
        close_flows(self.flows)


class TogetherListener:
    """The far end's half: its service listens, and flows are admitted."""

    def __init__(self, trial: AppTrial, trial_id: bytes, key: bytes, host: str | None, port: int, peer: str) -> None:
        with contextlib.ExitStack() as opened:
            self._app = AppListener(trial, trial_id, key, host, port, peer)
            opened.callback(self._app.close)
            self._policy = PolicyResponder(trial, proof_of(trial_id, key), host) if trial.policy else None
            if self._policy:
                opened.callback(self._policy.close)
            self._udp = UdpListener(trial.services, trial_id, key, host, port) if trial.services else None
            opened.pop_all()

    def sockets(self, timeout_s: float) -> Sides:
        """What may be used from now on. Raises FarEndError where a flow is missing."""
        flows = self._udp.sockets(timeout_s) if self._udp else {}
        policy, self._policy = self._policy, None
        return Sides(self._app.sockets(timeout_s), flows, policy)

    def close(self) -> None:
        """Stops listening, where nobody took over."""
        self._app.close()
        for one in (self._udp, self._policy):
            if one:
                one.close()


def open_together(trial: AppTrial, target: DataTarget, source: Source) -> Sides:
    """The near end's half. Raises DataBlockedError, and NearEndError for a port that is taken."""
    with contextlib.ExitStack() as opened:
        side = open_users(trial, target, source)
        opened.callback(close_side, side)
        policy = PolicyProber(trial, side.proof, target.address, source) if trial.policy else None
        if policy:
            opened.callback(policy.close)
        sides = Sides(side, open_flows(trial.services, target, source) if trial.services else {}, policy)
        opened.pop_all()
        return sides


class TogetherEnd(TrialEnd):
    """One end's half of users, and of what flows beside them."""

    def __init__(self, end: End, trial: AppTrial, sides: Sides, trial_id: bytes, clock: Clock) -> None:
        beside = udp_watches(end, trial.services, sides.flows, trial_id) if trial.services else ()
        policy = [sides.policy] if sides.policy else []
        super().__init__(chain(app_watches(end, trial, sides.app), beside, policy), sides.close)
