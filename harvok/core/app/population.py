"""Who is there when: users who stay, and users who arrive, go through their application once and leave.

Several processes share a trial; each takes every n-th user. Times are seconds after the start of the trial.
"""

import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from itertools import count, islice

from harvok.core.trials.app import AppTrial


@dataclass(frozen=True, slots=True)
class UserChange:
    """A user comes, or leaves after what he is at."""

    at_s: float
    user: int
    joins: bool


@dataclass(frozen=True, slots=True)
class _Slope:
    """From one height to another, and how long that takes."""

    begins_s: float
    lasts_s: float
    from_height: float
    to_height: float


def _slopes(trial: AppTrial) -> Iterator[_Slope]:
    """The course of a trial: up or down to each level, along it, and down to nothing at the end."""
    at_s, height = 0.0, 0.0
    for level in trial.levels:
        yield _Slope(at_s, level.ramp_s, height, level.height)
        at_s, height = at_s + level.ramp_s, level.height
        yield _Slope(at_s, level.sustain_s, height, height)
        at_s += level.sustain_s
    yield _Slope(at_s, trial.ramp_down_s, height, 0.0)


def changes(trial: AppTrial, number: int = 0, of: int = 1) -> Iterator[UserChange]:
    """Every user who comes or leaves, in the order of time; those of process `number` of `of`. Who came last leaves
    first."""
    for slope in _slopes(trial):
        low, high = sorted((round(slope.from_height), round(slope.to_height)))
        joins = slope.to_height > slope.from_height
        for place, user in enumerate(range(low, high) if joins else range(high - 1, low - 1, -1)):
            if user % of == number:
                yield UserChange(slope.begins_s + slope.lasts_s * (place + 0.5) / (high - low), user, joins)


def arrivals(trial: AppTrial, number: int = 0, of: int = 1) -> Iterator[float]:
    """When users arrive, evenly spaced at each moment's rate; those of process `number` of `of`."""
    before, next_one = 0.0, number
    for slope in _slopes(trial):
        total = (slope.from_height + slope.to_height) / 2 * slope.lasts_s
        while next_one + 0.5 < before + total:
            yield slope.begins_s + _when(slope, next_one + 0.5 - before)
            next_one += of
        before += total


def _when(slope: _Slope, arrived: float) -> float:
    """How long after a slope's beginning so many have arrived: the root of rate × t + growth × t² / 2 = arrived."""
    growth = (slope.to_height - slope.from_height) / slope.lasts_s
    if not growth:
        return arrived / slope.from_height
    root = math.sqrt(max(slope.from_height**2 + 2 * growth * arrived, 0.0))
    return 2 * arrived / (slope.from_height + root)


def turns(shares: Sequence[float], number: int = 0, of: int = 1) -> Iterator[int]:
    """Which application comes next, without end: after any number of turns each has had its share, to within one."""
    return islice(_all_turns(shares), number, None, of)


def _all_turns(shares: Sequence[float]) -> Iterator[int]:
    taken = [0] * len(shares)
    for turn in count(1):
        owed = [share * turn - had for share, had in zip(shares, taken, strict=True)]
        most_owed = owed.index(max(owed))
        taken[most_owed] += 1
        yield most_owed
