"""What a judgement looks at of each run, without knowing how runs are kept."""

from dataclasses import dataclass, field
from typing import Literal

from harvok.core.figures import Figure, FigureKey
from harvok.core.limiter import Limiter

Fault = Literal["path", "tester", "operator"]
"""Who broke a run off: the path (a connection broke), the tester itself, or the person at the keyboard."""


@dataclass(frozen=True, slots=True)
class RunSample:
    """One run. `conditions` maps the name of a condition to its value as printed; `limiters` goes by direction.

    `default` are the figures that are judged when nobody asks for others; None: all of quantities that are judged.
    """

    id: str
    figures: list[Figure]
    conditions: dict[str, str]
    limiters: dict[str, Limiter] = field(default_factory=dict)
    default: frozenset[FigureKey] | None = None
    by_key: dict[FigureKey, Figure] = field(init=False, repr=False, compare=False)
    """The figures again, by what they are of; of several of one key the first."""

    def __post_init__(self) -> None:
        by_key: dict[FigureKey, Figure] = {}
        for figure in self.figures:
            by_key.setdefault(figure.key, figure)
        object.__setattr__(self, "by_key", by_key)

    def figure(self, key: FigureKey) -> Figure | None:
        """The figure of this run that is of something, if it has one."""
        return self.by_key.get(key)


@dataclass(frozen=True, slots=True)
class FailedRun:
    """A run that came to no end: which, who broke it off, and what happened."""

    id: str
    state: str
    fault: Fault
    message: str


@dataclass(frozen=True, slots=True)
class Series:
    """The repeats of one test on one thing in one state; `failed` are runs that broke off or were invalid."""

    name: str
    runs: list[RunSample]
    failed: list[FailedRun] = field(default_factory=list)

    @property
    def left_out(self) -> list[str]:
        """The failed runs as people read them."""
        return [f"{run.id} ({run.state})" for run in self.failed]
