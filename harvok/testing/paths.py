"""A path of exactly known properties, on which UDP trials run without a network or a clock."""

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field

import numpy as np

from harvok.core.ends import Stream
from harvok.core.measures.datagrams import FlowAccount
from harvok.core.observer import Observer
from harvok.core.time_axis import ClockOffset
from harvok.core.trials.udp import (
    UdpDirectionResult,
    UdpFlowReceived,
    UdpFlowSent,
    UdpInterval,
    UdpService,
    UdpSummary,
    UdpTrial,
    UdpTrialResult,
)

_START_NS = 1_800_000_000_000_000_000
_PORTION = 1000
_WINDOW = 1 << 17

FrameImpairer = Callable[[int], Sequence[float]]
"""What becomes of the datagram with a number: the delay in s of each of its copies; none when it is lost."""


@dataclass(slots=True)
class SimulatedPath:
    """Carries up to `carries_fps` datagrams a second, the fate of each of which is set by its number.

    `host_fps` is the most that the sending host manages, `clock_ahead_s` how far the far end's clock is ahead.
    """

    fate: FrameImpairer = lambda _: (0.001,)
    carries_fps: float = float("inf")
    host_fps: float = float("inf")
    clock_ahead_s: float = 0.0
    clock_error_s: float = 0.0
    socket_drops: int = 0
    trials: list[UdpTrial] = field(default_factory=list)

    def run(self, trial: UdpTrial, observer: Observer) -> UdpTrialResult:
        """Runs one trial in no time."""
        self.trials.append(trial)
        directions = [self._stream(trial, stream, observer) for stream in trial.streams]
        return UdpTrialResult(directions, ClockOffset(self.clock_ahead_s, self.clock_error_s))

    def _stream(self, trial: UdpTrial, stream: Stream, observer: Observer) -> UdpDirectionResult:
        direction = stream.name
        sender, receiver = UdpSummary(direction, "sender"), UdpSummary(direction, "receiver")
        ahead_s = self.clock_ahead_s if direction == "send" else -self.clock_ahead_s
        for flow, number in enumerate(trial.flow_services):
            service = trial.services[number]
            begins_s, ends_s = trial.span_s(service)
            sent, account = self._flow(service, ends_s - begins_s, ahead_s)
            sender.sent.append(UdpFlowSent(flow, sent, ends_s - begins_s, "plain", 1))
            receiver.received.append(_received(flow, account, self.socket_drops))
            for half in _intervals(direction, number, service, (begins_s, ends_s), sent, account):
                observer.samples(list(half.samples(stream.end_of(half.role), 0.0, service.name)))
        return UdpDirectionResult(direction, sender, receiver)

    def _flow(self, service: UdpService, duration_s: float, ahead_s: float) -> tuple[int, FlowAccount]:
        """How many were sent, and the account of those that arrived, in the order of their arrival."""
        load_fps = min(service.load_fps / service.flows, self.host_fps)
        sent, carried = (
            round(load_fps * duration_s),
            round(self.carries_fps * duration_s) if load_fps > self.carries_fps else None,
        )
        came = [
            (number / load_fps + delay_s, number)
            for number in range(sent)
            if carried is None or number * carried // sent != (number + 1) * carried // sent
            for delay_s in self.fate(number)
        ]
        came.sort()
        account = FlowAccount(_WINDOW)
        for at in range(0, len(came), _PORTION):
            times, numbers = zip(*came[at : at + _PORTION], strict=True)
            order = np.array(numbers, dtype=np.int64)
            stamps = _START_NS + np.round(order / load_fps * 1e9).astype(np.int64)
            arrived = _START_NS + np.round((np.array(times) + ahead_s) * 1e9).astype(np.int64)
            account.add(order, stamps, arrived)
        return sent, account


def _intervals(
    direction: str, number: int, service: UdpService, span_s: tuple[float, float], sent: int, account: FlowAccount
) -> Iterator[UdpInterval]:
    """One interval for the whole span, as either end tells it."""
    span, size = (0, number, *span_s), service.payload_bytes
    yield UdpInterval(direction, "sender", *span, datagrams=sent, payload_bytes=sent * size)
    seen = account.interval()
    yield UdpInterval(
        direction,
        "receiver",
        *span,
        datagrams=seen.datagrams,
        payload_bytes=seen.datagrams * size,
        missing=seen.missing,
        duplicates=seen.duplicates,
        reordered=seen.reordered,
        longest_run=seen.longest_run,
        jitter_s=seen.jitter_s,
    )


def _received(flow: int, account: FlowAccount, socket_drops: int) -> UdpFlowReceived:
    return UdpFlowReceived(
        flow=flow,
        datagrams=account.arrivals.received,
        duplicates=account.arrivals.duplicates,
        reordered=account.arrivals.reordered,
        highest=account.arrivals.highest,
        means="plain",
        loss_runs=account.arrivals.loss_runs(),
        transit=account.transit.summary(),
        longest_silence_s=account.longest_silence_ns / 1e9,
        socket_drops=socket_drops,
    )
