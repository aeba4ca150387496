"""An interval held against a limit: the one place where met, missed and undecided are told apart.

A result meets a limit when its whole interval does, misses it when its whole interval does, and is undecided otherwise,
which calls for a RETEST.
"""

from dataclasses import dataclass, replace

from harvok.core.judgement.finding import Finding
from harvok.core.measures.statistics import Interval


@dataclass(frozen=True, slots=True)
class Limit:
    """A value that a result is to reach (`at_least`) or not to pass; `words` is the limit as people read it."""

    value: float
    at_least: bool
    words: str

    def is_met_by(self, value: float) -> bool:
        """Whether one value is on the right side."""
        return value >= self.value if self.at_least else value <= self.value

    def is_surely_met_by(self, interval: Interval) -> bool:
        """Whether a whole interval is on the right side."""
        return self.is_met_by(interval.low) and self.is_met_by(interval.high)

    def with_slack(self, share: float) -> "Limit":
        """The limit that is missed only by more than a share of it."""
        slack = share * abs(self.value)
        return replace(self, value=self.value - slack if self.at_least else self.value + slack)

    def hold(self, interval: Interval, place: str, clause: str, advice: str = "", missed: str = "") -> Finding:
        """The finding for an interval, of which `clause` tells; `advice` is for what is undecided, `missed` for what
        misses the limit."""
        if self.is_surely_met_by(interval):
            return Finding("ACCEPT", place, f"{clause}, which meets {self.words}")
        if not (self.is_met_by(interval.low) or self.is_met_by(interval.high)):
            return Finding("REJECT", place, f"{clause}, which misses {self.words}", missed)
        return Finding("RETEST", place, f"{clause}, which straddles {self.words}", advice)


def exactly(value: float, error: float = 0.0) -> Interval:
    """The interval of one value that is known to within `error`, and not subject to chance."""
    return Interval(value - error, value + error, 1.0)
