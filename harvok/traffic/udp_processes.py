"""The worker processes of one direction at one end: what they tell of their flows, put together by service."""

import os
from collections.abc import Callable, Sequence
from math import ceil
from socket import socket
from typing import Any

from harvok.core.ends import End, Role
from harvok.core.trials.udp import (
    TransitSummary,
    UdpFlowReceived,
    UdpFlowSent,
    UdpInterval,
    UdpService,
    UdpSummary,
    UdpTrial,
)
from harvok.errors import FlowBrokenError
from harvok.traffic.processes import Line, Processes, ProcessWatch, processes_for_each_end
from harvok.traffic.sampler import CpuMeter, MeterMaker
from harvok.traffic.udp_worker import BATCHES_A_SECOND, FlowOrder, UdpOrders
from harvok.worker.parent import Worker

OnUdpInterval = Callable[[UdpInterval], None]

_SLIVER = 0.1


class UdpWatch(ProcessWatch):
    """All flows of one direction at one end, in as many processes as there are cores for."""

    def __init__(
        self, end: End, direction: str, role: Role, trial: UdpTrial, flows: Sequence[socket], tag: int
    ) -> None:
        count = max(min(len(flows), processes_for_each_end()), 1)
        workers = [_spawn(role, trial, tag, [*enumerate(flows)][number::count]) for number in range(count)]
        super().__init__(direction, role, Processes(end, workers))
        self._summary = UdpSummary(direction, role)
        self._trial = trial

    def watch(self, meter_maker: MeterMaker, on_interval: OnUdpInterval) -> None:
        """Passes intervals on until every worker is over. Raises FlowBrokenError when one was stopped by an error,
        NearEndError when one failed, and WorkerLostError when one ended though nobody asked it to."""
        meter = meter_maker(self._processes.pids)
        for lines in self._processes.intervals(self._take):  # at the end those of workers that no datagram reached
            self._pass_on(lines, meter, on_interval)

    def _take(self, line: Line) -> None:
        if "errno" in line:
            raise FlowBrokenError(
                f"UDP flows ({self.direction}) broke: {os.strerror(line['errno'])}",
                "See whether the station went down, or the frames are too large for the path's MTU.",
            )
        self._add(line["over"])

    def _flows_in(self, service: UdpService, start_s: float, end_s: float) -> bool:
        """Whether a service flows in more than a sliver of an interval, whose ends are as punctual as the host is."""
        begins_s, ends_s = self._trial.span_s(service)
        return min(end_s, ends_s) - max(start_s, begins_s) > _SLIVER * self._trial.interval_s

    def _pass_on(self, lines: Sequence[Line], meter: CpuMeter, on_interval: OnUdpInterval) -> None:
        use = meter.since_last()
        key = "sent" if self.role == "sender" else "received"
        for at, service in enumerate(self._trial.services):
            reported = [flow for line in lines for number, flow in line[key] if number == at]
            if not reported:
                continue
            datagrams = sum(reported) if self.role == "sender" else sum(flow["datagrams"] for flow in reported)
            if not datagrams and not self._flows_in(service, lines[0]["start_s"], lines[0]["end_s"]):
                continue
            on_interval(
                UdpInterval(
                    direction=self.direction,
                    role=self.role,
                    index=lines[0]["interval"],
                    service=at,
                    start_s=min(line["start_s"] for line in lines),
                    end_s=max(line["end_s"] for line in lines),
                    datagrams=datagrams,
                    payload_bytes=datagrams * service.payload_bytes,
                    cpu=use,
                    began_ns=min(line["began_ns"] for line in lines),
                    **(_together(reported) if self.role == "receiver" else {}),
                )
            )

    def _add(self, flows: Sequence[Any]) -> None:
        """Takes in what a worker says at its end."""
        for flow in flows:
            if self.role == "sender":
                self._summary.sent.append(UdpFlowSent(*flow))
            else:
                reported, runs = flow.pop("transit"), dict(flow.pop("loss_runs"))
                if reported:
                    reported["distribution"] = [(edge, count) for edge, count in reported["distribution"]]
                transit = TransitSummary(**reported) if reported else None
                self._summary.received.append(UdpFlowReceived(**flow, loss_runs=runs, transit=transit))
        self._summary.sent.sort(key=lambda flow: flow.flow)
        self._summary.received.sort(key=lambda flow: flow.flow)

    def summary(self) -> UdpSummary:
        """What this direction says at its end."""
        return self._summary


def _together(flows: Sequence[Line]) -> Line:
    """What the flows of one service say of an interval, as one: sums, the mean of jitters and delays, extremes."""

    def known(key: str) -> list[float]:
        return [flow[key] for flow in flows if flow[key] is not None]

    jitters, means = known("jitter_s"), known("mean_transit_s")
    return {
        "missing": sum(flow["missing"] for flow in flows),
        "duplicates": sum(flow["duplicates"] for flow in flows),
        "reordered": sum(flow["reordered"] for flow in flows),
        "longest_run": max(flow["longest_run"] for flow in flows),
        "jitter_s": sum(jitters) / len(jitters) if jitters else None,
        "min_transit_s": min(known("min_transit_s"), default=None),
        "mean_transit_s": sum(means) / len(means) if means else None,
        "max_transit_s": max(known("max_transit_s"), default=None),
    }


def _spawn(role: Role, trial: UdpTrial, tag: int, flows: Sequence[tuple[int, socket]]) -> Worker:
    orders = _orders(role, trial, tag, flows).encode()
    return Worker("harvok.traffic.udp_worker", orders, [sock.fileno() for _, sock in flows])


def _orders(role: Role, trial: UdpTrial, tag: int, flows: Sequence[tuple[int, socket]]) -> UdpOrders:
    orders = []
    for number, sock in flows:
        at = trial.flow_services[number]
        service = trial.services[at]
        place = number - trial.flow_services.index(at)
        load_fps = service.load_fps / service.flows
        phase = place / service.flows
        orders.append(
            FlowOrder(sock.fileno(), number, at, load_fps, service.payload_bytes, phase, *trial.span_s(service))
        )
    batch = 1
    if trial.method != "plain":
        batch = max(ceil(trial.load_at_once_fps([number for number, _ in flows]) / BATCHES_A_SECOND), 1)
        if trial.method == "segmented":
            batch = max(batch, 8)
    return UdpOrders(role, tag, orders, trial.duration_s, trial.interval_s, batch, trial.method)
