"""How busy this host's cores and a set of processes were between two looks."""

import contextlib
import os
from collections.abc import Collection, Iterator, Sequence
from pathlib import Path

import psutil

from harvok.clock import SYSTEM, Clock
from harvok.core.ends import CpuUse


def usable_cores() -> list[int]:
    """The cores that this process may run on."""
    if hasattr(os, "sched_getaffinity"):
        return sorted(os.sched_getaffinity(0))
    return list(range(os.cpu_count() or 1))


@contextlib.contextmanager
def avoiding_cores(cores: Collection[int], others: Collection[int] = ()) -> Iterator[None]:
    """Keeps all threads of this process, and those of `others`, off some cores for a while, where others are left."""
    mine = set(usable_cores())
    left = mine - set(cores)
    if not left or left == mine:
        yield
        return
    processes = [os.getpid(), *others]
    _move_all_threads(processes, left)
    try:
        yield
    finally:
        _move_all_threads(processes, mine)


def _move_all_threads(processes: Collection[int], cores: Collection[int]) -> None:
    for process in processes:
        with contextlib.suppress(OSError):  # it may have ended meanwhile, or a thread of it
            for thread in Path(f"/proc/{process}/task").iterdir():
                os.sched_setaffinity(int(thread.name), cores)


class Meter:
    """Reads the use of the CPU since it was last asked, for the whole host and for the given processes."""

    def __init__(self, pids: Sequence[int], clock: Clock = SYSTEM) -> None:
        self._clock = clock
        self._processes = [psutil.Process(pid) for pid in pids]
        self._then_ns = clock.now_ns()
        self._cores = psutil.cpu_times(percpu=True)
        self._used_s = [_used_s(process) for process in self._processes]

    def since_last(self) -> CpuUse:
        now_ns, cores = self._clock.now_ns(), psutil.cpu_times(percpu=True)
        used_s = [_used_s(process) for process in self._processes]
        passed_s = max(now_ns - self._then_ns, 1) / 1e9
        busy = [_shares(before, after) for before, after in zip(self._cores, cores, strict=False)]
        use = CpuUse(
            cores=[core for core, _ in busy],
            workers=[(after - before) / passed_s for before, after in zip(self._used_s, used_s, strict=True)],
            stolen=sum(stolen for _, stolen in busy) / len(busy) if busy else 0.0,
        )
        self._then_ns, self._cores, self._used_s = now_ns, cores, used_s
        return use


def _shares(before: "psutil._ntp.scputimes", after: "psutil._ntp.scputimes") -> tuple[float, float]:
    """(busy, stolen) shares of a core's time. Guest time is already counted in user time, so it is left out."""
    grown = {field: getattr(after, field) - getattr(before, field) for field in after._fields}
    total = sum(grown[field] for field in grown if not field.startswith("guest"))
    if total <= 0:
        return 0.0, 0.0
    idle = grown.get("idle", 0.0) + grown.get("iowait", 0.0)
    return max(1 - idle / total, 0.0), grown.get("steal", 0.0) / total


def _used_s(process: psutil.Process) -> float:
    """CPU seconds that a process has used; what it had used is unknown once it is gone."""
    try:
        times = process.cpu_times()
    except psutil.Error:
        return 0.0
    return float(times.user + times.system)
