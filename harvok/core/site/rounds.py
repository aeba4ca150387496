"""The jobs of rounds over a stretch of time."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import datetime, time
from zoneinfo import ZoneInfo

from harvok.core.site.calendar import due_times, is_within
from harvok.core.site.queue import Job


@dataclass(frozen=True, slots=True)
class Group:
    """Near ends that begin at one time towards one far end, and what they need for themselves."""

    near: tuple[str, ...]
    far: str
    needs: frozenset[str]


@dataclass(frozen=True, slots=True)
class Round:
    """A test that comes round: due by a cron expression, between each of the `groups`, unless it is quiet then."""

    name: str
    cron: str
    groups: tuple[Group, ...]
    late_s: float
    quiet: tuple[tuple[time, time], ...] = ()

    def due(self, zone: ZoneInfo, after: datetime, until: datetime) -> Iterator[datetime]:
        """When it is due after one moment and up to another, quiet hours left out."""
        for moment in due_times(self.cron, zone, after, until):
            if not any(is_within(moment, hours) for hours in self.quiet):
                yield moment

    def jobs(self, moment: datetime) -> Iterator[Job]:
        """Its jobs that are due at a moment."""
        for group in self.groups:
            yield Job(self.name, group.near, group.far, moment.timestamp(), group.needs, self.late_s)


def jobs_between(rounds: Sequence[Round], zone: ZoneInfo, after: datetime, until: datetime) -> list[Job]:
    """Every job that is due after one moment and up to another, in the order of time."""
    found = [job for one in rounds for moment in one.due(zone, after, until) for job in one.jobs(moment)]
    return sorted(found, key=lambda job: (job.due_s, job.name))
