"""Which of the tests that are due may begin: never two that need the same station or shared link.

Whoever was due first begins first, where all that he needs is free. Where it is not, those due later may begin before
him, so that nothing stands idle for him; but only until he has waited for a while. From then on he holds what he needs,
and nobody who is due later passes him on it. So nobody starves.
"""

from bisect import insort
from collections.abc import Iterable
from dataclasses import dataclass
from heapq import heappop, heappush
from itertools import count

_PATIENCE = 0.5
_LONGEST_PATIENCE_S = 3600.0


@dataclass(frozen=True, slots=True)
class Job:
    """A test of a round, between its near ends and one far end. `due_s` is when it is due, `needs` the names of the
    stations and links that it takes for itself. One that could not begin `late_s` after it was due is missed."""

    round: str
    near: tuple[str, ...]
    far: str
    due_s: float
    needs: frozenset[str]
    late_s: float

    @property
    def name(self) -> str:
        """Round and ends, in words."""
        return f"{self.round}: {' + '.join(self.near)} to {self.far}"

    @property
    def patient_until_s(self) -> float:
        """Until when others may pass it."""
        return self.due_s + min(self.late_s * _PATIENCE, _LONGEST_PATIENCE_S)


@dataclass(frozen=True, slots=True)
class Missed:
    """A job that was not begun: `waited_for` is what it needed and did not get, and `held_by` who had it."""

    job: Job
    waited_for: str
    held_by: str


class Turns:
    """A line before each station and link. A test begins when all that it needs is free, and nobody before it in one of
    its lines has waited for too long already."""

    def __init__(self) -> None:
        self._lines: dict[str, list[Job]] = {}
        self._waiting: set[Job] = set()
        self._holders: dict[str, Job] = {}
        self._touched: set[str] = set()
        self._limits: list[tuple[float, int, Job]] = []
        self._number = count()

    def add(self, jobs: Iterable[Job]) -> None:
        """Jobs that are due. Of those due at one moment those come first that need most, since they find least room."""
        for job in jobs:
            for need in job.needs:
                insort(self._lines.setdefault(need, []), job, key=_place)
            self._waiting.add(job)
            self._touched |= job.needs
            heappush(self._limits, (job.due_s + job.late_s, next(self._number), job))

    def start(self, now_s: float) -> list[Job]:
        """The jobs that begin now."""
        touched, self._touched = self._touched - self._holders.keys(), set()
        starts = []
        for job in sorted({job for need in touched for job in self._lines[need]}, key=_place):
            if self._in_the_way(job, now_s) is None:
                starts.append(job)
                self._leave(job)
                self._holders |= dict.fromkeys(job.needs, job)
        return starts

    def hold(self, job: Job) -> None:
        """A job that runs already, and has what it needs."""
        self._holders |= dict.fromkeys(job.needs, job)

    def _in_the_way(self, job: Job, now_s: float) -> tuple[str, Job] | None:
        """What a job does not get now, and from whom: who runs, or who comes before it and has waited for too long."""
        for need in job.needs:
            if need in self._holders:
                return need, self._holders[need]
        for need in job.needs:
            for other in self._lines[need]:
                if other is job:
                    break
                if other.patient_until_s <= now_s:
                    return need, other
        return None

    def end(self, job: Job) -> None:
        """A job is over, however it ended."""
        for need in job.needs:
            del self._holders[need]
        self._touched |= job.needs

    def _leave(self, job: Job) -> None:
        """A job waits no longer."""
        for need in job.needs:
            self._lines[need].remove(job)
        self._waiting.remove(job)

    def give_up(self, now_s: float) -> list[Missed]:
        """The jobs that have waited for too long to begin at all; they wait no longer."""
        missed = []
        while self._limits and self._limits[0][0] < now_s:
            job = heappop(self._limits)[2]
            if job in self._waiting:
                need, other = self._in_the_way(job, now_s) or ("", job)
                missed.append(Missed(job, need, other.name))
        for one in missed:
            self._leave(one.job)
            self._touched |= one.job.needs
        return missed

    def next_limit_s(self) -> float | None:
        """When the next job will have waited for too long; None where none waits."""
        while self._limits and self._limits[0][2] not in self._waiting:
            heappop(self._limits)
        return self._limits[0][0] if self._limits else None


def _place(job: Job) -> tuple[float, int, str]:
    """Where a job stands in its lines."""
    return job.due_s, -len(job.needs), job.name
