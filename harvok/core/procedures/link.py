"""Watching what a port negotiates while leads are plugged and moved, and judging it."""

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

from harvok.core.figures import Figure
from harvok.core.procedure import Context, Findings, Procedure
from harvok.core.samples import Event
from harvok.core.trials.link import MISSED, SPEED, LinkTrial, LinkTrialResult, link_ups
from harvok.core.units import format_speed

UNKNOWN = "unknown speed"


@dataclass(frozen=True, slots=True)
class LinkTest:
    """What to watch, and the speed that every link-up should reach; `min_link_ups` are needed for a verdict."""

    trial: LinkTrial
    rated_bps: float | None = None
    min_link_ups: int = 5
    kind: Literal["link"] = "link"

    @property
    def title(self) -> str:
        """What a list of runs shows."""
        return f"link of {self.trial.port}"

    @property
    def expected_s(self) -> float | None:
        """How long it watches; None until it has seen enough, or somebody ends it."""
        return self.trial.duration_s


def link_test(test: LinkTest, context: Context, findings: Findings) -> Procedure[LinkTrial, LinkTrialResult]:
    """Watches, and counts what was negotiated."""
    result = yield test.trial
    findings.figures.extend(figures_of(link_ups(result.events)))


def figures_of(ups: Sequence[Event]) -> list[Figure]:
    """How often each speed was negotiated, and the lowest of them."""
    counts = Counter(speed_words(event) for event in ups)
    figures = [Figure("link-ups", float(count), {"speed": speed}) for speed, count in counts.items()]
    speeds = [event.values[SPEED] for event in ups if SPEED in event.values]
    if speeds:
        figures.append(Figure("negotiated-speed-min", min(speeds)))
    missed = sum(event.values.get(MISSED, 0) for event in ups)
    if missed:
        figures.append(Figure("link-flaps", float(missed)))
    return figures


def speed_words(event: Event) -> str:
    """What was negotiated, for people."""
    if SPEED not in event.values:
        return UNKNOWN
    half = event.labels.get("duplex") == "half"
    return format_speed(event.values[SPEED]) + (" half duplex" if half else "")
