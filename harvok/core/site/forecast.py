"""A schedule in virtual time: what would run when, what would be late, and whether it fits at all."""

import heapq
from collections import Counter, defaultdict
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field

from harvok.core.site.queue import Job, Missed, Turns

_JUST_AFTER_S = 0.001


@dataclass(frozen=True, slots=True)
class Stay:
    """A job that ran, from when to when."""

    job: Job
    began_s: float
    ended_s: float

    @property
    def late_s(self) -> float:
        """How long it waited."""
        return self.began_s - self.job.due_s


@dataclass(slots=True)
class Forecast:
    """What became of every job of a stretch of time."""

    stays: list[Stay] = field(default_factory=list)
    missed: list[Missed] = field(default_factory=list)

    def busy_s(self) -> dict[str, float]:
        """How long each station and link was taken."""
        busy: dict[str, float] = defaultdict(float)
        for stay in self.stays:
            for need in stay.job.needs:
                busy[need] += stay.ended_s - stay.began_s
        return dict(busy)

    def longest_wait_s(self) -> dict[str, float]:
        """Of each round, the longest that one of its jobs waited."""
        longest: dict[str, float] = {}
        for stay in self.stays:
            longest[stay.job.round] = max(longest.get(stay.job.round, 0.0), stay.late_s)
        return longest

    def missed_of(self) -> Mapping[str, int]:
        """Of each round, how many of its jobs were never begun."""
        return Counter(one.job.round for one in self.missed)


def forecast(jobs: Sequence[Job], duration_s: Callable[[Job], float]) -> Forecast:
    """Runs all jobs in virtual time; `duration_s` says how long each takes."""
    turns, found = Turns(), Forecast()
    due = sorted(jobs, key=lambda job: job.due_s)
    ends: list[tuple[float, int, Job]] = []
    at = number = 0
    while at < len(due) or ends or turns.next_limit_s() is not None:
        now_s = min(_moments(due, at, ends, turns))
        while ends and ends[0][0] <= now_s:
            turns.end(heapq.heappop(ends)[2])
        while at < len(due) and due[at].due_s <= now_s:
            turns.add([due[at]])
            at += 1
        found.missed += turns.give_up(now_s)
        for job in turns.start(now_s):
            ended_s = now_s + duration_s(job)
            heapq.heappush(ends, (ended_s, number, job))
            number += 1
            found.stays.append(Stay(job, now_s, ended_s))
    return found


def _moments(due: Sequence[Job], at: int, ends: Sequence[tuple[float, int, Job]], turns: Turns) -> Iterable[float]:
    """When something happens next: a job is due, one ends, or one has waited for too long."""
    if at < len(due):
        yield due[at].due_s
    if ends:
        yield ends[0][0]
    late_s = turns.next_limit_s()
    if late_s is not None:
        yield late_s + _JUST_AFTER_S
