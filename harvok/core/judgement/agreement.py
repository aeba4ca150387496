"""Two ways to one figure, which must agree: a rate by TCP and the loss-free one by UDP or by application traffic, both
put on layer 2 (frames from the Ethernet header to the FCS, RFC 1242), so that headers make no difference."""

import statistics
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass

from harvok.core.figures import Figure
from harvok.core.judgement.blame import usual_limiter
from harvok.core.judgement.finding import Finding
from harvok.core.judgement.sample import RunSample, Series
from harvok.core.limiter import Limiter
from harvok.core.quantities import QUANTITIES
from harvok.core.units import format_rate, format_share

RATES_L2 = ("tcp-throughput-l2", "udp-throughput", "app-throughput-l2")
"""The figures that say how much got through on layer 2, one for each way of measuring."""
_TESTER = Limiter("sending-host", "it could not offer more.", "Test with a faster host, or at a lower rate.")
_OF_ALL = {"direction", "level"}
"""Labels of figures of all traffic; others are of a part of it."""


@dataclass(frozen=True, slots=True)
class Agreement:
    """Two series that measured the same thing by two ways, and how far apart they may be, as a ratio of the higher."""

    first: str
    second: str
    within: float = 0.03


@dataclass(frozen=True, slots=True)
class _Rate:
    """What one way found in one direction: the median over the runs in b/s of frames, how much of it a search left
    open, as a ratio, and whether the tester could not do more."""

    step: str
    quantity: str
    rate_bps: float
    open_share: float
    held: bool
    runs: list[RunSample]

    @property
    def words(self) -> str:
        return f"{QUANTITIES[self.quantity].name} {format_rate(self.rate_bps)} ({self.step})"


def judge_agreement(asked: Agreement, series: Mapping[str, Series]) -> Iterator[Finding]:
    """A finding for each direction that both measured, or the reason why there is none."""
    both = [_rates(name, series[name].runs if name in series else []) for name in (asked.first, asked.second)]
    where = f"{asked.first} and {asked.second}"
    common = [direction for direction in both[0] if direction in both[1]]
    if not common:
        missing = [name for name, rates in zip((asked.first, asked.second), both, strict=True) if not rates]
        what = f"no run of {' or '.join(missing)} has one" if missing else "no direction was measured by both"
        reason = f"two ways cannot be compared by rates on layer 2: {what}"
        yield Finding("RETEST", where, reason, "Run the plan to its end.")
    for direction in common:
        first, second = (rates[direction] for rates in both)
        yield _finding(asked, f"{where}, {direction}", direction, first, second)


def _rates(step: str, runs: Sequence[RunSample]) -> dict[str, _Rate]:
    found: dict[str, list[Figure]] = {}
    for run in runs:
        for direction, figure in _highest(run).items():
            found.setdefault(direction, []).append(figure)
    return {
        direction: _Rate(
            step,
            figures[0].quantity,
            statistics.median(figure.value for figure in figures),
            max(figure.resolution / figure.value for figure in figures),
            any(figure.mark == "tester-limit" for figure in figures),
            list(runs),
        )
        for direction, figures in found.items()
    }


def _highest(run: RunSample) -> dict[str, Figure]:
    """By direction, the rate of a run; of several levels the highest."""
    highest: dict[str, Figure] = {}
    for figure in run.figures:
        if figure.quantity not in RATES_L2 or not figure.labels.keys() <= _OF_ALL or not figure.value:
            continue
        direction = figure.labels.get("direction", "")
        if direction not in highest or figure.value > highest[direction].value:
            highest[direction] = figure
    return highest


def _finding(asked: Agreement, where: str, direction: str, first: _Rate, second: _Rate) -> Finding:
    lower, higher = sorted((first, second), key=lambda rate: rate.rate_bps)
    apart = 1 - lower.rate_bps / higher.rate_bps
    words = f"{first.words} and {second.words}"
    if apart <= asked.within + lower.open_share:
        return Finding("ACCEPT", where, f"two ways agree to {format_share(apart)} of frames on layer 2: {words}")
    limiter = usual_limiter(lower.runs, direction)
    said = f"two ways are {format_share(apart)} apart on layer 2, and {format_share(asked.within)} is allowed: {words}"
    if lower.held and (limiter is None or limiter.blame != "tester"):
        limiter = _TESTER
    if limiter is None or limiter.kind in ("unknown", "none", "link"):
        return Finding(
            "RETEST",
            where,
            f"{said}; nothing explains the lower one",
            "Measure both again; if it stays, look for a device that treats TCP and UDP unlike, such as a policer.",
        )
    return Finding(
        "RETEST", where, f"{said}; {lower.step} was limited by {limiter.name}: {limiter.evidence}", limiter.advice
    )
