"""Two-way delay: while nothing else is on the link, and while a load fills it."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from typing import Literal

from harvok.core.figures import Figure, counted_share, find
from harvok.core.procedure import Context, Findings, Procedure
from harvok.core.trials.delay import DelayTrial, DelayTrialResult

Load = Literal["none", "tcp-send", "tcp-receive", "udp-send", "udp-receive"]
IDLE = "idle"


LoadWay = Literal["none", "send", "receive", "each"]

_LOADS: dict[tuple[LoadWay, Literal["tcp", "udp"]], tuple[Load, ...]] = {
    ("none", "tcp"): (),
    ("none", "udp"): (),
    ("send", "tcp"): ("tcp-send",),
    ("send", "udp"): ("udp-send",),
    ("receive", "tcp"): ("tcp-receive",),
    ("receive", "udp"): ("udp-receive",),
    ("each", "tcp"): ("tcp-send", "tcp-receive"),
    ("each", "udp"): ("udp-send", "udp-receive"),
}


def loads_of(way: LoadWay, by: Literal["tcp", "udp"]) -> tuple[Load, ...]:
    """The loads under which delay is measured, one after the other."""
    return _LOADS[way, by]


@dataclass(frozen=True, slots=True)
class DelayTest:
    """What to measure: `trial` idle, and then once more under each of `loads`; `load_bps` is that of UDP loads."""

    trial: DelayTrial
    loads: tuple[Load, ...] = ()
    load_bps: float | None = None
    kind: Literal["delay"] = "delay"

    @property
    def title(self) -> str:
        """What a list of runs shows."""
        return "delay under load" if self.loads else "delay"

    @property
    def expected_s(self) -> float:
        """How long it takes, in seconds."""
        return (self.trial.duration_s + self.trial.wait_s) * (1 + len(self.loads))


def delay_test(test: DelayTest, context: Context, findings: Findings) -> Procedure[DelayTrial, DelayTrialResult]:
    """Measures idle, then under each load, and takes the difference."""
    for load in (IDLE, *test.loads):
        result = yield replace(test.trial, load="" if load == IDLE else load)
        labels = {"load": load} if test.loads else {}
        findings.figures.extend(figures_of(result, labels))
        idle, now = (find(findings.figures, "two-way-delay-median", load=which) for which in (IDLE, load))
        if load != IDLE and idle is not None and now is not None:
            findings.figures.append(Figure("delay-under-load", now - idle, labels))


def figures_of(result: DelayTrialResult, labels: dict[str, str]) -> Iterator[Figure]:
    """The figures of one trial."""
    sent, times = len(result.echoes), delays_s(result)
    if sent:
        yield counted_share("two-way-loss", sent - len(times), sent, labels)
    if not times:
        return
    ordered = sorted(times)
    median, p99 = _quantile(ordered, 0.5), _quantile(ordered, 0.99)
    values: Sequence[tuple[str, float]] = (
        ("two-way-delay-min", ordered[0]),
        ("two-way-delay-median", median),
        ("two-way-delay-mean", sum(times) / len(times)),
        ("two-way-delay-p99", p99),
        ("two-way-delay-max", ordered[-1]),
        ("two-way-variation-p99", p99 - ordered[0]),
    )
    yield from (Figure(quantity, value, labels) for quantity, value in values)


def _quantile(ordered: Sequence[float], share: float) -> float:
    """The value that `share` of all do not exceed, between two of them by a straight line."""
    place = share * (len(ordered) - 1)
    low = int(place)
    high = min(low + 1, len(ordered) - 1)
    return ordered[low] + (ordered[high] - ordered[low]) * (place - low)


def delays_s(result: DelayTrialResult) -> list[float]:
    """The two-way delays of the answers, in the order of sending."""
    return [echo.two_way_s for echo in result.echoes if echo.two_way_s is not None]
