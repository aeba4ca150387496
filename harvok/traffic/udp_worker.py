"""A worker process: sends or receives the datagrams of some flows of one direction, and accounts for every one.

It begins at the word to begin (see harvok.worker), says each interval and at last its end, and ends at once when its
standard input closes.
"""

import gc
import heapq
import json
import math
import os
import select
import socket
import sys
import threading
from collections.abc import Sequence
from dataclasses import asdict, dataclass
from typing import Any

from harvok.clock import SYSTEM
from harvok.core.ends import Role
from harvok.core.trials.udp import Method
from harvok.traffic.pacing import CATCH_UP, Waiter
from harvok.worker.child import raise_priority, run, say, say_ready, wait_begin, wake_precisely

_QUEUE_FULL_S = 50e-6
_POLL_MS = 20
BATCHES_A_SECOND = 30_000
"""Above this many calls a second in one process, batches grow instead."""
DRAIN_S = 1.0
FIRST_TIMEOUT_S = 5.0
_ALONE_WINDOW, _SHARED_WINDOW = 1 << 20, 1 << 17


@dataclass(frozen=True, slots=True)
class FlowOrder:
    """One flow: its socket, its number in the direction, the service that it belongs to, and when it flows."""

    fd: int
    flow: int
    service: int
    load_fps: float
    payload_bytes: int
    phase: float
    begins_s: float
    ends_s: float


@dataclass(frozen=True, slots=True)
class UdpOrders:
    """What a worker is to do. `trial` is the tag of the datagrams; `batch` how many go with one call."""

    role: Role
    trial: int
    flows: list[FlowOrder]
    duration_s: float
    interval_s: float
    batch: int
    method: Method

    def encode(self) -> str:
        return json.dumps(asdict(self))

    @classmethod
    def decode(cls, text: str) -> "UdpOrders":
        reported = json.loads(text)
        return cls(**reported | {"flows": [FlowOrder(**flow) for flow in reported["flows"]]})


def send(orders: UdpOrders, sockets: Sequence[socket.socket]) -> None:
    """Sends every flow on its own schedule, and tells how far it came."""
    from harvok.traffic.datagrams import DatagramSender, prepare_sending

    senders = []
    for sock, flow in zip(sockets, orders.flows, strict=True):
        prepare_sending(sock)
        senders.append(DatagramSender(sock, orders.trial, flow.payload_bytes, orders.batch, orders.method))
    _await_go()
    origin_ns = SYSTEM.now_ns()
    spans = [[0, 0] for _ in senders]
    try:
        _send_all(orders, senders, origin_ns, spans)
    except OSError as error:
        say({"errno": error.errno or -1})
    reported = []
    for flow, sender, (first, last) in zip(orders.flows, senders, spans, strict=True):
        gap_s = sender.batch / flow.load_fps
        sending_s = (last - first) / 1e9 + gap_s if sender.sent else 0.0
        reported.append(
            [flow.flow, sender.sent, sending_s, sender.means, sender.batch, sender.refused, sender.prohibited]
        )
    say({"over": reported})


def _send_all(orders: UdpOrders, senders: Sequence[Any], origin_ns: int, spans: list[list[int]]) -> None:
    """The hot loop: the flow whose turn is next, again and again, on an absolute schedule by busy waiting."""
    now_ns, sleep = SYSTEM.now_ns, SYSTEM.sleep
    ends = [origin_ns + int(flow.ends_s * 1e9) for flow in orders.flows]
    gaps = [sender.batch / flow.load_fps * 1e9 for sender, flow in zip(senders, orders.flows, strict=True)]
    totals = [round(flow.load_fps * (flow.ends_s - flow.begins_s)) for flow in orders.flows]
    starts = [origin_ns + flow.begins_s * 1e9 + gap * flow.phase for gap, flow in zip(gaps, orders.flows, strict=True)]
    queue = [(int(start), at) for at, start in enumerate(starts) if totals[at]]
    heapq.heapify(queue)
    report = _SentReport(orders, senders, origin_ns)
    now, waiter = now_ns(), Waiter()
    while queue:
        due, at = queue[0]
        now = waiter.until(due, now)
        if now >= report.due_ns and not report.last:
            report.tell(now)
        sender = senders[at]
        if now >= ends[at]:
            heapq.heappop(queue)
            continue
        if not sender.send(totals[at] - sender.sent):
            sleep(_QUEUE_FULL_S)
            continue
        span = spans[at]
        span[0], span[1] = span[0] or now, now
        if sender.sent >= totals[at]:
            heapq.heappop(queue)
            continue
        next_ns = max(starts[at] + sender.sent / sender.batch * gaps[at], now + gaps[at] * CATCH_UP)
        heapq.heapreplace(queue, (int(next_ns), at))
    report.tell(max(now_ns(), origin_ns + int(orders.duration_s * 1e9)))


class _SentReport:
    """Tells what was sent in each interval."""

    def __init__(self, orders: UdpOrders, senders: Sequence[Any], origin_ns: int) -> None:
        self._orders, self._senders, self._origin_ns = orders, senders, origin_ns
        self._began_ns = _by_wall_clock(origin_ns)
        self._interval_ns = int(orders.interval_s * 1e9)
        self._since_ns = origin_ns
        self._before = [0] * len(senders)
        self._index = 0
        self._before_last = math.ceil(orders.duration_s / orders.interval_s - 0.01) - 1
        self.due_ns = origin_ns + self._interval_ns

    @property
    def last(self) -> bool:
        """Whether the interval that runs is the last one, which is told when everything is sent."""
        return self._index >= self._before_last

    def tell(self, now_ns: int) -> None:
        now = [sender.sent for sender in self._senders]
        flows = [
            [flow.service, after - before]
            for flow, after, before in zip(self._orders.flows, now, self._before, strict=True)
        ]
        start_s, end_s = (self._since_ns - self._origin_ns) / 1e9, (now_ns - self._origin_ns) / 1e9
        line = {"interval": self._index, "began_ns": self._began_ns, "start_s": start_s, "end_s": end_s}
        say(line | {"sent": flows})
        self._before, self._since_ns, self._index = now, now_ns, self._index + 1
        self.due_ns = self._origin_ns + (self._index + 1) * self._interval_ns


def receive(orders: UdpOrders, sockets: Sequence[socket.socket]) -> None:
    """Receives until the time is over and what was in flight has come, or nothing comes at all."""
    receiver = _UdpReceiver(orders, sockets)
    _await_go()
    receiver.run()
    say({"over": receiver.reported()})


class _UdpReceiver:
    """The flows of this worker, each with its account."""

    def __init__(self, orders: UdpOrders, sockets: Sequence[socket.socket]) -> None:
        from harvok.core.measures.datagrams import FlowAccount
        from harvok.traffic.datagrams import make_receiver

        self._orders, self._sockets = orders, list(sockets)
        window = _ALONE_WINDOW if len(orders.flows) == 1 else _SHARED_WINDOW
        self._accounts = [FlowAccount(window) for _ in orders.flows]
        self._foreign = [0] * len(orders.flows)
        self._receivers = [
            make_receiver(sock, orders.trial, flow.payload_bytes, orders.batch, orders.method)
            for sock, flow in zip(sockets, orders.flows, strict=True)
        ]
        self._poll = select.poll()
        self._at = {sock.fileno(): at for at, sock in enumerate(sockets)}
        for sock in sockets:
            sock.setblocking(False)
            self._poll.register(sock, select.POLLIN)
        self._origin_ns = self._heard_ns = 0
        self._index, self._since_s = 0, 0.0

    def run(self) -> None:
        begun_ns = SYSTEM.now_ns()
        interval_ns = int(self._orders.interval_s * 1e9)
        waits_ns = int((FIRST_TIMEOUT_S + self._orders.duration_s) * 1e9)
        lasts_ns = int((self._orders.duration_s + DRAIN_S) * 1e9)
        before_last = math.ceil(self._orders.duration_s / self._orders.interval_s - 0.01) - 1
        while True:
            self._hear()
            now = SYSTEM.now_ns()
            if not self._origin_ns:
                if now - begun_ns > waits_ns:
                    return
                continue
            since_ns = now - self._origin_ns
            if self._index < before_last and since_ns >= (self._index + 1) * interval_ns:
                self._tell_interval(since_ns / 1e9)
            if since_ns >= lasts_ns:
                last_s = (self._heard_ns - self._origin_ns) / 1e9
                self._tell_interval(max(self._orders.duration_s, last_s))
                return

    def _hear(self) -> None:
        for fd, _ in self._poll.poll(_POLL_MS):
            at = self._at[fd]
            got = self._receivers[at].receive()
            if got is None:
                continue
            numbers, stamps, at_ns = got.heads
            self._foreign[at] += got.foreign
            if len(numbers):
                self._heard_ns = SYSTEM.now_ns()
                self._origin_ns = self._origin_ns or self._heard_ns - int(self._orders.flows[at].begins_s * 1e9)
                self._accounts[at].add(numbers, stamps, at_ns)

    def _tell_interval(self, end_s: float) -> None:
        """What came since the last one; the last of all has what was still in flight."""
        flows = [
            [flow.service, asdict(account.interval())]
            for flow, account in zip(self._orders.flows, self._accounts, strict=True)
        ]
        began_ns = _by_wall_clock(self._origin_ns)
        line = {"interval": self._index, "began_ns": began_ns, "start_s": self._since_s, "end_s": end_s}
        say(line | {"received": flows})
        self._index, self._since_s = self._index + 1, end_s

    def reported(self) -> list[dict[str, Any]]:
        """Everything about every flow, for its UdpFlowReceived."""
        from harvok.traffic.datagrams import socket_drops

        reported: list[dict[str, Any]] = []
        for at, (flow, account) in enumerate(zip(self._orders.flows, self._accounts, strict=True)):
            transit = account.transit.summary()
            sock = self._sockets[at]
            reported.append(
                {
                    "flow": flow.flow,
                    "datagrams": account.arrivals.received,
                    "duplicates": account.arrivals.duplicates,
                    "reordered": account.arrivals.reordered,
                    "highest": account.arrivals.highest,
                    "means": self._receivers[at].means,
                    "loss_runs": list(account.arrivals.loss_runs().items()),
                    "transit": asdict(transit) if transit else None,
                    "longest_silence_s": account.longest_silence_ns / 1e9,
                    "socket_drops": round(socket_drops(sock) * self._receivers[at].datagrams_a_message),
                    "receive_buffer_bytes": sock.getsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF),
                    "foreign": self._foreign[at],
                }
            )
        return reported


def _by_wall_clock(moment_ns: int) -> int:
    """A moment of the monotonic clock, by the wall clock."""
    return SYSTEM.wall_ns() - (SYSTEM.now_ns() - moment_ns)


def _await_go() -> None:
    say_ready()
    wait_begin()
    threading.Thread(target=_die_with_parent, daemon=True).start()


def _die_with_parent() -> None:
    sys.stdin.buffer.read(1)
    os._exit(0)


def work(text: str) -> None:
    orders = UdpOrders.decode(text)
    wake_precisely()
    raise_priority()
    sockets = [socket.socket(fileno=flow.fd) for flow in orders.flows]
    gc.disable()
    (send if orders.role == "sender" else receive)(orders, sockets)
    os._exit(0)  # the thread that watches the parent sits in a read, and would keep the interpreter from ending


if __name__ == "__main__":
    run(work)
