"""How busy this host's cores and a set of processes were between two looks."""

import contextlib
import os
import resource
import sys
from collections.abc import Collection, Iterator, Sequence
from pathlib import Path

import psutil

from harvok.clock import SYSTEM, Clock
from harvok.core.ends import CpuUse
from harvok.worker.child import PRIORITY

_CAP_SYS_NICE = 23  # uapi linux/capability.h


def usable_cores() -> list[int]:
    """The cores that this process may run on."""
    if hasattr(os, "sched_getaffinity"):
        return sorted(os.sched_getaffinity(0))
    return list(range(os.cpu_count() or 1))


def may_raise_priority() -> bool:
    """Whether the scheduler takes it when this process asks to be preferred to others."""
    if sys.platform != "linux":
        return os.geteuid() == 0
    status = dict(line.split(":", 1) for line in Path("/proc/self/status").read_text().splitlines())
    capable = bool(int(status["CapEff"], 16) >> _CAP_SYS_NICE & 1)
    return capable or resource.getrlimit(resource.RLIMIT_NICE)[0] >= 20 - PRIORITY  # setpriority(2)


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
        self._waited_s = [_waited_s(pid) for pid in pids]

    def since_last(self) -> CpuUse:
        now_ns, cores = self._clock.now_ns(), psutil.cpu_times(percpu=True)
        used_s = [_used_s(process) for process in self._processes]
        passed_s = max(now_ns - self._then_ns, 1) / 1e9
        waited_s = [_waited_s(process.pid) for process in self._processes]
        busy = [_shares(before, after) for before, after in zip(self._cores, cores, strict=False)]
        use = CpuUse(
            cores=[core for core, _, _ in busy],
            workers=[max(after - before, 0.0) / passed_s for before, after in zip(self._used_s, used_s, strict=True)],
            stolen=sum(stolen for _, stolen, _ in busy) / len(busy) if busy else 0.0,
            waiting=_grown(self._waited_s, waited_s, passed_s),
            interrupts=[interrupts for _, _, interrupts in busy],
        )
        self._then_ns, self._cores, self._used_s, self._waited_s = now_ns, cores, used_s, waited_s
        return use


def _grown(before: Sequence[float | None], after: Sequence[float | None], passed_s: float) -> list[float]:
    """The growth of counters of seconds as shares of the time that passed; nothing where a system does not tell."""
    pairs = zip(before, after, strict=True)
    return [min(max(b - a, 0.0) / passed_s, 1.0) for a, b in pairs if a is not None and b is not None]


def _waited_s(pid: int) -> float | None:
    """Seconds for which the threads of a process could have run and had no core: the second number of schedstat
    (Documentation/scheduler/sched-stats.rst). None where the kernel does not tell."""
    try:
        texts = [thread.joinpath("schedstat").read_text() for thread in Path(f"/proc/{pid}/task").iterdir()]
    except OSError:
        return None
    return sum(int(text.split()[1]) for text in texts) / 1e9 if texts else None


def thread_times_s(thread: int) -> tuple[float, float] | None:
    """For how long a thread of this process ran, and for how long it could have run and had no core, in seconds. None
    where the kernel does not tell, or the thread has ended."""
    try:
        ran, waited = Path(f"/proc/self/task/{thread}/schedstat").read_text().split()[:2]
    except (OSError, ValueError):
        return None
    return int(ran) / 1e9, int(waited) / 1e9


def _shares(before: "psutil._ntp.scputimes", after: "psutil._ntp.scputimes") -> tuple[float, float, float]:
    """(busy, stolen, in interrupts) shares of a core's time. Guest time is already counted in user time, so it is left
    out. The kernel's counters may step back by a tick, and a share is never below 0."""
    grown = {field: getattr(after, field) - getattr(before, field) for field in after._fields}
    total = sum(grown[field] for field in grown if not field.startswith("guest"))
    if total <= 0:
        return 0.0, 0.0, 0.0
    idle = grown.get("idle", 0.0) + grown.get("iowait", 0.0)
    interrupts = grown.get("irq", 0.0) + grown.get("softirq", 0.0)
    return max(1 - idle / total, 0.0), max(grown.get("steal", 0.0), 0.0) / total, max(interrupts, 0.0) / total


def _used_s(process: psutil.Process) -> float:
    """CPU seconds that a process has used; what it had used is unknown once it is gone."""
    try:
        times = process.cpu_times()
    except psutil.Error:
        return 0.0
    return float(times.user + times.system)
