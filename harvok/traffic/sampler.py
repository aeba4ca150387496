"""Watches the flows of one half of one direction: reads the workers' counters and the kernel at every tick."""

import os
from collections.abc import Callable, Iterator, Sequence
from socket import socket
from typing import Protocol

from harvok.clock import Clock
from harvok.core.ends import CpuUse, End, Role
from harvok.core.trials.tcp import TcpInfo, TcpInterval, TcpSummary, TcpTrial
from harvok.errors import FlowBrokenError
from harvok.traffic.counters import Cell, Counters
from harvok.traffic.sockets import describe, missing_here, read_tcp_info, with_send_buffer
from harvok.traffic.workers import Workers
from harvok.traffic.zero_copy import resolved

_POLL_S = 0.001  # while waiting for the first byte
FIRST_BYTE_TIMEOUT_S = 10.0


class CpuMeter(Protocol):
    """Tells how busy this host was since it was last asked."""

    def since_last(self) -> CpuUse:
        """The use since the last call, or since the meter was made."""


MeterMaker = Callable[[Sequence[int]], CpuMeter]
"""Makes a meter that also watches the given worker processes."""

OnInterval = Callable[[TcpInterval], None]


class FlowWatch:
    """The flows of one half of one direction at one end, their workers, and what was seen of them."""

    def __init__(
        self,
        end: End,
        direction: str,
        role: Role,
        trial: TcpTrial,
        sockets: Sequence[socket],
        seed: str,
        clock: Clock,
    ) -> None:
        self._end = end
        self.direction = direction
        self.role: Role = role
        self._trial = trial
        self._sockets = sockets
        self._clock = clock
        self._connections = [describe(sock, flow) for flow, sock in enumerate(sockets)]
        self._counters = Counters(len(sockets))
        amount = trial.amount_bytes
        share = None if amount is None else -(-amount // len(sockets))
        self._method = resolved(trial.method)
        self._workers = Workers(role, sockets, self._counters, (self._method, seed), share)
        self._origin_ns = 0
        self._elapsed_s = 0.0
        self._stopping = False

    def wait_ready(self) -> None:
        self._workers.wait_ready()

    def begin(self) -> None:
        """Lets the bytes flow. A sender's time counts from here: from before the word, since a small amount may have
        been sent by the time at which this thread goes on."""
        self._origin_ns = self._clock.now_ns() if self.role == "sender" else 0
        self._workers.begin()

    def watch(self, meter_maker: MeterMaker, on_interval: OnInterval) -> None:
        """Samples until the trial is over for this half.

        Raises FlowBrokenError when a flow ended too early, WorkerLostError when a worker did.
        """
        if not self._await_origin():
            return
        meter = meter_maker(self._workers.pids)
        began_ns = self._clock.wall_ns() - (self._clock.now_ns() - self._origin_ns)
        ticks: list[tuple[float, int]] = []
        start_s, index, per_interval = 0.0, 0, max(round(self._trial.interval_s / self._trial.tick_s), 1)
        before = [0] * len(self._sockets)
        for number in self._tick_numbers():
            self._check_workers()
            now = self._flow_bytes()
            over = self._over()
            ticks.append((self._elapsed_s, sum(now)))
            if number % per_interval == 0 or over:
                moved = [b - a for a, b in zip(before, now, strict=True)]
                cpu, tcp = meter.since_last(), self._tcp_infos()
                on_interval(
                    TcpInterval(
                        self.direction, self.role, index, start_s, self._elapsed_s, ticks, moved, tcp, cpu, began_ns
                    )
                )
                ticks, start_s, before, index = [], self._elapsed_s, now, index + 1
            if over:
                self._check_flows()
                return

    def summary(self) -> TcpSummary:
        """What this half says at its end."""
        return TcpSummary(
            direction=self.direction,
            role=self.role,
            elapsed_s=self._elapsed_s,
            flow_bytes=self._flow_bytes(),
            connections=[
                with_send_buffer(sock, one) for sock, one in zip(self._sockets, self._connections, strict=True)
            ],
            missing=missing_here(),
            method=self._method,
            compared_bytes=sum(self._counters.read(flow, Cell.COMPARED) for flow in range(len(self._sockets))),
        )

    def interrupt(self) -> None:
        """Makes `watch` return soon, from another thread."""
        self._stopping = True

    def close(self) -> None:
        """Ends the workers and forgets the counters; the sockets belong to whoever made them."""
        self._stopping = True
        self._workers.stop()
        self._counters.close()

    def _await_origin(self) -> bool:
        """Waits for the first byte of a receiver, which its time counts from; False when interrupted."""
        deadline_ns = self._clock.now_ns() + int(FIRST_BYTE_TIMEOUT_S * 1e9)
        while not self._origin_ns and not self._stopping:
            firsts = [self._counters.read(flow, Cell.FIRST_NS) for flow in range(len(self._sockets))]
            self._origin_ns = min((first for first in firsts if first), default=0)
            if not self._origin_ns and self._clock.now_ns() > deadline_ns:
                raise FlowBrokenError(
                    f"the data connections opened, but not one byte of data came in {FIRST_BYTE_TIMEOUT_S:.0f} s",
                    "Look for a firewall or MTU trouble on the path: small packets pass and full-sized ones do not.",
                )
            if not self._origin_ns:
                self._check_workers()
                self._clock.sleep(_POLL_S)
        return not self._stopping

    def _check_workers(self) -> None:
        if not self._stopping:
            self._workers.check_alive(self._end)

    def _tick_numbers(self) -> Iterator[int]:
        """Sleeps from tick to tick on an absolute schedule, and notes the moment of each."""
        number = 0
        tick_ns = int(self._trial.tick_s * 1e9)
        while not self._stopping:
            number += 1
            due_ns = self._origin_ns + number * tick_ns
            self._clock.sleep(max(due_ns - self._clock.now_ns(), 0) / 1e9)
            self._elapsed_s = (self._clock.now_ns() - self._origin_ns) / 1e9
            yield number

    def _over(self) -> bool:
        """Whether this half has seen enough; for an amount of data the end is the last byte's, not the tick's."""
        ends = [self._counters.read(flow, Cell.LAST_NS) for flow in range(len(self._sockets))]
        if all(ends):
            self._elapsed_s = (max(ends) - self._origin_ns) / 1e9
            return True
        if any(self._counters.read(flow, Cell.ERRNO) for flow in range(len(self._sockets))):
            return True
        duration_s = self._trial.duration_s
        return duration_s is not None and self._elapsed_s >= duration_s - self._trial.tick_s / 100

    def _check_flows(self) -> None:
        """Raises FlowBrokenError for a flow that failed, or that the other end closed before its time."""
        if self._stopping:
            return
        for flow in range(len(self._sockets)):
            self._check_content(flow)
            number = self._counters.read(flow, Cell.ERRNO)
            early = self._trial.duration_s is not None and self._counters.read(flow, Cell.LAST_NS)
            if number or early:
                why = os.strerror(number) if number > 0 else "closed by the other end"
                raise FlowBrokenError(
                    f"flow {flow} ({self.direction}) broke after {self._elapsed_s:.1f} s: {why}",
                    "See whether the station, the lead or a firewall on the way went down, then measure again.",
                )

    def _check_content(self, flow: int) -> None:
        """Raises FlowBrokenError for bytes that are not those that were sent."""
        altered = self._counters.read(flow, Cell.ALTERED)
        if altered:
            raise FlowBrokenError(
                f"flow {flow} ({self.direction}): something on the way altered what was sent, in blocks of {altered} "
                f"of the {self._counters.read(flow, Cell.COMPARED)} bytes that were compared",
                "Look for a proxy or a filter between the hosts, and for a card or memory that is faulty.",
            )

    def _flow_bytes(self) -> list[int]:
        return [self._counters.read(flow, Cell.BYTES) for flow in range(len(self._sockets))]

    def _tcp_infos(self) -> list[TcpInfo]:
        infos = [read_tcp_info(sock) for sock in self._sockets]
        return [info for info in infos if info is not None]
