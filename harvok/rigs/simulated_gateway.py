"""A model of a gateway in virtual time: what it carries of application traffic follows from four numbers, exactly.

It is a fluid: users, connections and bytes are rates. What it cannot take at once it refuses (connections) or delays
(bytes); what is delayed without end is left over.
"""

from collections.abc import Sequence
from dataclasses import dataclass

from harvok.core.measures.bins import bin_of
from harvok.core.observer import Observer, started
from harvok.core.trials.app import (
    Action,
    ActionCounts,
    Application,
    AppStreamResult,
    AppSummary,
    AppTrial,
    AppTrialResult,
    ConnectionCounts,
    Level,
    LevelCounts,
    ServiceCounts,
)
from harvok.errors import UsageError

_HEAD_BYTES = 110
"""Of a message, about."""
_SEGMENT_BYTES = 1448
_HEADER_BYTES = 70
_FASTEST_S = 1e-6


@dataclass(frozen=True, slots=True)
class GatewayModel:
    """What a gateway can do; None has no limit. Each packet takes `delay_s`, which doubles at half of the throughput,
    and so on. `tester_per_s` is how many transactions a second the tester itself manages."""

    table: int | None = None
    connections_per_s: float | None = None
    throughput_bps: float | None = None
    delay_s: float = 100e-6
    tester_per_s: float | None = None


@dataclass(frozen=True, slots=True)
class _Flow:
    """What one application would do, had it all that it asks for: each second."""

    application: Application
    transactions: float
    connections: float
    open_connections: float
    bits: float
    round_s: float
    """How long a user takes for all actions once, where nothing waits; 0 of arrivals, who do not come again."""

    def wait_s(self, served: float) -> float:
        """How long each action of a user waits where only a share of what they would do is served: users who go round
        more slowly wait somewhere (Little's law: users = rate × time of a round)."""
        return self.round_s * (1 / served - 1) / len(self.application.actions)


class SimulatedGateway:
    """Runs trials in no time; the answer is exact."""

    def __init__(self, model: GatewayModel) -> None:
        self._model = model
        self.trials: list[AppTrial] = []

    def run(self, trial: AppTrial, observer: Observer) -> AppTrialResult:
        """Every level of a trial. Raises UsageError for what goes on beside users, which it does not model."""
        if trial.services or trial.probes or trial.policy:
            raise UsageError(
                "a simulated gateway has no services, delay probes and policy beside its users",
                "Leave them out, or measure on stations or a virtual rig.",
            )
        if trial.mix.has_media:
            raise UsageError("a simulated gateway carries no media streams", "Take a mix without protocol udp.")
        self.trials.append(trial)
        observer.happened([started(0)])
        levels = [self._level(trial, number, level) for number, level in enumerate(trial.levels)]
        service = ServiceCounts(busiest=0.1)
        return AppTrialResult(
            [
                AppStreamResult(
                    stream.name,
                    AppSummary(stream.name, "sender", levels, header_bytes=_HEADER_BYTES),
                    AppSummary(stream.name, "receiver", service=service),
                )
                for stream in trial.streams
            ]
        )

    def _level(self, trial: AppTrial, number: int, level: Level) -> LevelCounts:
        flows = self._flows(trial, level)
        wanted_bps = sum(flow.bits for flow in flows)
        served = min(1.0, (self._model.throughput_bps or wanted_bps or 1.0) / (wanted_bps or 1.0))
        admitted = self._admitted(flows)
        asked = sum(flow.transactions for flow in flows)
        tester = min(1.0, (self._model.tester_per_s or asked or 1.0) / (asked or 1.0))
        queued_s = self._response_s(wanted_bps * served)
        seconds = level.sustain_s
        actions = [
            self._action(
                at, place, flow, action, seconds * admitted * served * tester, max(queued_s, flow.wait_s(served))
            )
            for at, flow in enumerate(flows)
            for place, action in enumerate(flow.application.actions)
        ]
        refused = round(sum(flow.connections for flow in flows) * (1 - admitted) * tester * seconds)
        if refused:
            actions[0].failures["connect-timeout"] = refused
        arrive = level.users is None
        return LevelCounts(
            number,
            seconds,
            actions,
            [self._connections(at, flow, actions, seconds * admitted) for at, flow in enumerate(flows)],
            sum(flow.open_connections for flow in flows) * admitted,
            float(level.users or 0),
            {bin_of(10_000): max(round(asked * seconds), 1)},
            round(level.height * seconds * (1 - served)) if arrive else 0,
            [1.0 if tester < 1 else 0.2],
        )

    def _flows(self, trial: AppTrial, level: Level) -> Sequence[_Flow]:
        return [
            self._flow(application, level, level.height * share)
            for application, share in zip(trial.mix.applications, trial.mix.shares(), strict=True)
        ]

    def _flow(self, application: Application, level: Level, height: float) -> _Flow:
        """Users go round once in the time that pauses and answers take; arrivals go round once."""
        once_s = sum(
            action.mean_think_s + action.mean_service_s + self._model.delay_s for action in application.actions
        )
        sessions = height if level.users is None else height / max(once_s, _FASTEST_S)
        transactions = sessions * application.transactions
        each = application.transactions_per_connection
        if level.users is None:
            connections = sessions * (max(application.transactions / each, 1.0) if each else 1.0)
            open_connections = connections * once_s
        else:
            connections = transactions / each if each else height * application.connections / level.sustain_s
            open_connections = height * application.connections
        bits = 8 * sessions * (application.body_bytes + 2 * _HEAD_BYTES * application.transactions)
        return _Flow(
            application, transactions, connections, open_connections, bits, 0.0 if level.users is None else once_s
        )

    def _admitted(self, flows: Sequence[_Flow]) -> float:
        """The share of new connections that are let through."""
        rate, open_ones = sum(flow.connections for flow in flows), sum(flow.open_connections for flow in flows)
        by_rate = min(1.0, (self._model.connections_per_s or rate or 1.0) / (rate or 1.0))
        by_table = min(1.0, (self._model.table or open_ones or 1.0) / (open_ones or 1.0))
        return min(by_rate, by_table)

    def _response_s(self, carried_bps: float) -> float:
        """Delay grows as a queue's does: at half of the throughput it has doubled."""
        if not self._model.throughput_bps:
            return self._model.delay_s
        load = min(carried_bps / self._model.throughput_bps, 0.999)
        return self._model.delay_s / (1 - load)

    def _action(
        self, at: int, place: int, flow: _Flow, action: Action, seconds: float, response_s: float
    ) -> ActionCounts:
        transactions = round(flow.transactions * action.times / max(flow.application.transactions, 1) * seconds)
        up, down = (mean + _HEAD_BYTES for mean in (action.mean_request_bytes, action.mean_response_bytes))
        times = {bin_of(int((response_s + action.mean_service_s) * 1e9)): transactions} if transactions else {}
        return ActionCounts(
            at, place, transactions, round(transactions * up), round(transactions * down), dict(times), times, {}
        )

    def _connections(self, at: int, flow: _Flow, actions: Sequence[ActionCounts], seconds: float) -> ConnectionCounts:
        mine = [action for action in actions if action.application == at]
        sent, received = (
            sum(-(-getattr(one, which) // _SEGMENT_BYTES) for one in mine)
            for which in ("request_bytes", "response_bytes")
        )
        opened = round(flow.connections * seconds)
        times = {bin_of(int(self._model.delay_s * 1e9)): opened} if opened else {}
        return ConnectionCounts(at, opened, 0, sent + 3 * opened, received + 3 * opened, 0, times)
