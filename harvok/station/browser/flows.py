"""The connections of a browser in one direction of a trial: what each moved, and the kernel's own view of it.

What the station sends counts once the browser's host has acknowledged it: that is what arrived there. What the browser
sends counts as it is read here.
"""

import threading
from dataclasses import replace
from socket import SHUT_RDWR, socket

from harvok.clock import Clock
from harvok.core.ends import CpuUse, Stream
from harvok.core.trials.tcp import Connection, DirectionResult, TcpInfo, TcpInterval, TcpSummary
from harvok.host.cpu import Meter, thread_times_s
from harvok.traffic.sockets import describe, missing_here, read_tcp_info, with_send_buffer

STATION_END = "far"


def shut(sock: socket) -> None:
    """Ends a connection for both ends, whatever thread waits for it."""
    try:
        sock.shutdown(SHUT_RDWR)
    except OSError:  # it is gone already
        return


class Flow:
    """One connection. `moved_bytes` is written by the thread that serves it, and read by the one that samples."""

    def __init__(self, sock: socket, number: int, head_bytes: int) -> None:
        self.sock = sock
        self.moved_bytes = 0
        self.made: Connection = describe(sock, number)
        self._thread, self._times_s = threading.get_native_id(), (0.0, 0.0)
        self.thread_shares(1.0)
        self.info = self.made.handshake
        self._before_bytes = (self._acked_bytes or 0) + head_bytes

    def look(self) -> None:
        """Reads the kernel's view, which is kept as it was last when the connection is gone."""
        self.info = read_tcp_info(self.sock) if self.sock.fileno() >= 0 else self.info

    def thread_shares(self, passed_s: float) -> tuple[float, float]:
        """Of the time since the last call, in which the thread that serves it ran, and in which it had no core."""
        before, now = self._times_s, thread_times_s(self._thread) or self._times_s
        self._times_s = now
        ran, waited = ((b - a) / passed_s for a, b in zip(before, now, strict=True))
        return ran, waited

    @property
    def arrived_bytes(self) -> int:
        """What the browser's host has acknowledged; what was handed to the kernel, where that does not tell."""
        acked = self._acked_bytes
        return self.moved_bytes if acked is None else max(acked - self._before_bytes, 0)

    @property
    def _acked_bytes(self) -> int | None:
        return self.info.acked_bytes if self.info else None


class Flows:
    """All of one direction. Connections join it as the browser opens them, from any thread."""

    def __init__(self, stream: Stream, clock: Clock) -> None:
        self.stream, self._clock = stream, clock
        self._sends = stream.role_at(STATION_END) == "sender"
        self._lock = threading.Lock()
        self._flows: dict[socket, Flow] = {}
        self._under_way, self._idle_since_ns, self._idle_ns = 0, 0, 0
        self._began_ns, self._elapsed_s, self._wall_ns = 0, 0.0, 0
        self._meter: Meter | None = None
        self._sender: list[TcpInterval] = []
        self._receiver: list[TcpInterval] = []
        self._ticks: list[tuple[float, int]] = []
        self._start_s, self._before = 0.0, list[int]()

    @property
    def began_ns(self) -> int:
        """When its first transfer began, by the monotonic clock; 0 before that."""
        return self._began_ns

    def begin_transfer(self, sock: socket, head_bytes: int = 0) -> Flow:
        """A request that moves data began on this connection; an answer has a head of so many bytes."""
        with self._lock:
            now_ns = self._clock.now_ns()
            if not self._began_ns:
                self._began_ns, self._wall_ns, self._meter = now_ns, self._clock.wall_ns(), Meter([])
            elif not self._under_way:
                self._idle_ns += now_ns - self._idle_since_ns
            self._under_way += 1
            if sock not in self._flows:
                self._flows[sock] = Flow(sock, len(self._flows), head_bytes)
            return self._flows[sock]

    def end_transfer(self) -> None:
        """One that began is over."""
        with self._lock:
            self._under_way -= 1
            if not self._under_way:
                self._idle_since_ns = self._clock.now_ns()

    @property
    def gaps(self) -> float:
        """The share of the time since the first transfer in which none was under way."""
        with self._lock:
            now_ns = self._clock.now_ns()
            idle_ns = self._idle_ns + (0 if self._under_way or not self._began_ns else now_ns - self._idle_since_ns)
            return idle_ns / max(now_ns - self._began_ns, 1)

    def tick(self) -> float:
        """Notes how far everything is; returns the goodput since the tick before, in b/s."""
        before_s, before_bytes = self._ticks[-1] if self._ticks else (self._start_s, sum(self._before))
        for flow in self._all():
            flow.look()
        self._elapsed_s = (self._clock.now_ns() - self._began_ns) / 1e9
        self._ticks.append((self._elapsed_s, sum(self._moved())))
        return (self._ticks[-1][1] - before_bytes) * 8 / max(self._elapsed_s - before_s, 1e-9)

    def close_interval(self) -> list[TcpInterval]:
        """The halves of the interval that ends with the last tick."""
        now = self._moved()
        before = self._before + [0] * (len(now) - len(self._before))
        moved = [b - a for a, b in zip(before, now, strict=True)]
        cpu = self._cpu()
        span = (len(self._receiver), self._start_s, self._elapsed_s)
        of, ticks, wall_ns = self.stream.name, self._ticks, self._wall_ns
        closed = [TcpInterval(of, "receiver", *span, ticks, moved, [], None if self._sends else cpu, wall_ns)]
        if self._sends:
            closed.append(TcpInterval(of, "sender", *span, [], moved, self._infos(), cpu, wall_ns))
            self._sender.append(closed[1])
        self._receiver.append(closed[0])
        self._ticks, self._start_s, self._before = [], self._elapsed_s, now
        return closed

    def result(self) -> DirectionResult:
        """The whole direction. Of the half that is the browser's, only what the station knows."""
        flows = self._all()
        made = [with_send_buffer(flow.sock, flow.made) for flow in flows]
        receiver = TcpSummary(
            self.stream.name, "receiver", self._elapsed_s, self._moved(), [] if self._sends else made, missing_here()
        )
        sent = [flow.moved_bytes for flow in flows]
        sender = TcpSummary(self.stream.name, "sender", self._elapsed_s, sent, made, missing_here())
        return DirectionResult(
            self.stream.name, self._sender, self._receiver, sender if self._sends else None, receiver
        )

    def cut(self) -> None:
        """Ends what is under way: the trial is over."""
        for flow in self._all():
            shut(flow.sock)

    def _cpu(self) -> CpuUse | None:
        """This host's use of its cores, with each connection's thread as a worker."""
        if not self._meter or self._elapsed_s <= self._start_s:
            return None
        shares = [flow.thread_shares(self._elapsed_s - self._start_s) for flow in self._all()]
        return replace(
            self._meter.since_last(), workers=[ran for ran, _ in shares], waiting=[waited for _, waited in shares]
        )

    def _all(self) -> list[Flow]:
        with self._lock:
            return list(self._flows.values())

    def _moved(self) -> list[int]:
        """Of each connection; of uploads in all, since a browser takes whatever connection is free for the next."""
        if self._sends:
            return [flow.arrived_bytes for flow in self._all()]
        return [sum(flow.moved_bytes for flow in self._all())]

    def _infos(self) -> list[TcpInfo]:
        return [flow.info for flow in self._all() if flow.info]
