"""The processes of one end of a stream of application traffic, and what they tell, put together."""

import math
import os
import resource
import select
from collections.abc import Callable, Sequence
from dataclasses import replace
from typing import Any

from harvok.certificates import self_signed
from harvok.core.app.counts import joined_levels
from harvok.core.ends import End
from harvok.core.measures.bins import merged, quantile_ns
from harvok.core.trials.app import (
    ActionCounts,
    AppInterval,
    AppSummary,
    AppTrial,
    ConnectionCounts,
    LevelCounts,
    MediaCounts,
    ServiceCounts,
)
from harvok.errors import UnsupportedError
from harvok.traffic.app.orders import COARSE, OTHER_DESCRIPTORS, PROVE_S, ServiceOrders, UsersOrders, write_orders
from harvok.traffic.processes import Line, Processes, ProcessWatch, processes_for_each_end
from harvok.traffic.sampler import CpuMeter, MeterMaker
from harvok.worker.parent import Worker

OnAppInterval = Callable[[AppInterval], None]

_MAX_PROCESSES = 64

_SUMMED = ("users", "open_connections", "connections", "transactions", "request_bytes", "response_bytes", "failed",
           "unserved")  # fmt: skip


def processes_for(trial: AppTrial) -> int:
    """How many processes each end of a trial needs: as many as its cores are worth, or as all connections of users who
    stay fit into, where a process may have fewer descriptors. Users who arrive are as many as the device is slow, which
    nobody knows beforehand: they have what there is."""
    connections = max(application.connections for application in trial.mix.applications)
    at_once = max(level.users or 0 for level in trial.levels) * connections
    each = max(resource.getrlimit(resource.RLIMIT_NOFILE)[1] - OTHER_DESCRIPTORS, 1)
    needed = math.ceil(at_once / each) if at_once else 1
    return min(max(processes_for_each_end(), needed), _MAX_PROCESSES)


def start_worker(module: str, orders: UsersOrders | ServiceOrders, fds: Sequence[int] = ()) -> Worker:
    """A process with its orders. Raises UnsupportedError where the system has no epoll."""
    if not hasattr(select, "epoll"):
        raise UnsupportedError("application traffic needs Linux at both ends", "Measure TCP and UDP on this system.")
    told = write_orders(orders)
    try:
        return Worker(module, str(told), [told, *fds])
    finally:
        os.close(told)


class _Watch(ProcessWatch):
    """What both ends have in common: processes whose intervals are put together."""

    def watch(self, meter_maker: MeterMaker, on_interval: OnAppInterval) -> None:
        """Passes intervals on until every worker is over. Raises NearEndError when one failed, and WorkerLostError when
        one ended though nobody asked it to."""
        meter = meter_maker(self._processes.pids)
        before_s = 0.0
        for lines in self._processes.intervals(self._take):
            interval = self._together(lines, before_s, meter)
            before_s = interval.end_s
            on_interval(interval)

    def _together(self, lines: Sequence[Line], start_s: float, meter: CpuMeter) -> AppInterval:
        use = meter.since_last()
        self._heard_of_cpu(use.workers)
        summed: dict[str, Any] = {key: sum(line.get(key, 0) for line in lines) for key in _SUMMED}
        return AppInterval(
            direction=self.direction,
            role=self.role,
            index=lines[0]["interval"],
            start_s=start_s,
            end_s=max(max(line["end_s"] for line in lines), start_s),
            cpu=use,
            began_ns=min(line["began_ns"] for line in lines),
            **summed,
            **(_times(lines) if self.role == "sender" else {}),
        )

    def _heard_of_cpu(self, workers: Sequence[float]) -> None:
        """How busy each worker was in an interval."""

    def _take(self, line: Line) -> None:
        """What a worker says besides its intervals."""


class UsersWatch(_Watch):
    """The users of one stream."""

    def __init__(self, end: End, direction: str, trial: AppTrial, orders: UsersOrders) -> None:
        of = min(processes_for(trial), _most_at_once(trial))
        workers = [
            start_worker("harvok.traffic.app.users_worker", replace(orders, number=number, of=of))
            for number in range(of)
        ]
        super().__init__(direction, "sender", Processes(end, workers))
        self._trial = trial
        self._levels: dict[int, list[LevelCounts]] = {}
        self._header_bytes = 0
        self._busy: list[list[float]] = []

    def _heard_of_cpu(self, workers: Sequence[float]) -> None:
        self._busy.append(list(workers))

    def _take(self, line: Line) -> None:
        if "level" in line:
            counts = _level_of(line["level"])
            self._levels.setdefault(counts.level, []).append(counts)
        else:
            self._header_bytes = line["over"]["header_bytes"]

    def summary(self) -> AppSummary:
        """What the users' end says when all is over."""
        levels = [self._with_cpu(joined_levels(parts)) for _, parts in sorted(self._levels.items())]
        return AppSummary(self.direction, self.role, levels, header_bytes=self._header_bytes)

    def _with_cpu(self, level: LevelCounts) -> LevelCounts:
        """A level with the CPU of the workers while it was sustained, on average."""
        _, begins_s, ends_s = [*self._trial.sustained()][level.level]
        first, last = (round(at_s / self._trial.interval_s) for at_s in (begins_s, ends_s))
        seen = self._busy[first:last] or self._busy[-1:]
        shares = [sum(shares) / len(shares) for shares in zip(*seen, strict=True)]
        return replace(level, cpu=shares)


class ServiceWatch(_Watch):
    """The service of one stream. `lasts_s` is how long users may come."""

    def __init__(
        self,
        end: End,
        direction: str,
        trial: AppTrial,
        proof: str,
        listeners: Sequence[int],
        prove_s: float = PROVE_S,
        media: Sequence[int] = (),
    ) -> None:
        with_tls = trial.mix.with_tls
        certificate = self_signed() if any(with_tls) else b""
        orders = ServiceOrders(
            tuple(listeners),
            proof,
            trial.duration_s,
            trial.interval_s,
            trial.timeout_s,
            prove_s,
            certificate=certificate,
            all_tls=all(with_tls),
        )
        workers = [
            _start_service(replace(orders, number=number, media_fds=() if number else tuple(media)))
            for number in range(processes_for(trial))
        ]
        super().__init__(direction, "receiver", Processes(end, workers))
        self._counts: list[dict[str, int]] = []
        self._busiest = 0.0

    def _heard_of_cpu(self, workers: Sequence[float]) -> None:
        self._busiest = max(self._busiest, *workers)

    def _take(self, line: Line) -> None:
        self._counts.append(line["over"])

    def summary(self) -> AppSummary:
        """What the service's end says when all is over."""

        def total(key: str) -> int:
            return sum(counts[key] for counts in self._counts)

        service = ServiceCounts(
            total("transactions"),
            total("connections"),
            total("malformed"),
            total("strangers"),
            max((counts["overflows"] for counts in self._counts), default=0),  # each sees the whole host's
            total("segments_sent"),
            total("retransmitted"),
            self._busiest,
        )
        return AppSummary(self.direction, self.role, service=service)


def _start_service(orders: ServiceOrders) -> Worker:
    """Calls are all of one process, since its datagrams cannot be told apart by the kernel."""
    return start_worker("harvok.traffic.app.service_worker", orders, [*orders.fds, *orders.media_fds])


def _most_at_once(trial: AppTrial) -> int:
    return max(1, *(level.users or trial.max_users for level in trial.levels))


def _times(lines: Sequence[Line]) -> dict[str, Any]:
    """Medians and high percentiles of an interval, from the workers' coarse histograms."""
    made: dict[str, Any] = {}
    for key, share, name in (
        ("first_byte", 0.5, "first_byte_median_s"),
        ("first_byte", 0.999, "first_byte_p999_s"),
        ("response", 0.5, "response_median_s"),
        ("response", 0.999, "response_p999_s"),
        ("lag", 0.99, "lag_p99_s"),
    ):
        fine = merged(_fine(line[key]) for line in lines)
        made[name] = quantile_ns(fine, share) / 1e9 if fine else None
    return made


def _fine(coarse: dict[str, int]) -> dict[int, int]:
    """Coarse bins as fine ones in their middle."""
    middle = 1 << (COARSE - 1)
    return {(int(number) << COARSE) + middle: count for number, count in coarse.items()}


def _level_of(told: dict[str, Any]) -> LevelCounts:
    """A level as a worker told it: JSON knows no numbers as keys."""
    actions = [
        ActionCounts(
            **(
                one
                | {"first_byte": _bins(one["first_byte"]), "response": _bins(one["response"])}
                | {"media": _media_of(one["media"])}
            )
        )
        for one in told["actions"]
    ]
    handshakes = ("handshake", "tls_handshake")
    connections = [
        ConnectionCounts(**(one | {key: _bins(one[key]) for key in handshakes})) for one in told["connections"]
    ]
    return LevelCounts(**(told | {"actions": actions, "connections": connections, "lag": _bins(told["lag"])}))


def _media_of(told: dict[str, Any] | None) -> MediaCounts | None:
    jitters = ("jitter_up", "jitter_down")
    return MediaCounts(**(told | {key: _bins(told[key]) for key in jitters})) if told else None


def _bins(told: dict[str, int]) -> dict[int, int]:
    return {int(number): count for number, count in told.items()}
