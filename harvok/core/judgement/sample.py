"""What a comparison looks at of each run, without knowing how runs are kept."""

from dataclasses import dataclass, field

from harvok.core.figures import Figure
from harvok.core.limiter import Limiter


@dataclass(frozen=True, slots=True)
class RunSample:
    """One run. `conditions` maps the name of a condition to its value as printed; `limiters` goes by direction."""

    id: str
    figures: list[Figure]
    conditions: dict[str, str]
    limiters: dict[str, Limiter] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class Series:
    """The repeats of one test on one thing in one state. `left_out` are runs that broke off or were invalid."""

    name: str
    runs: list[RunSample]
    left_out: list[str] = field(default_factory=list)
