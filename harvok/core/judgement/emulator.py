"""Judges an emulator: what it was set to against what was measured."""

import math
from collections.abc import Iterator, Sequence

from harvok.core.figures import Figure, find
from harvok.core.impairment import Impairment, Stage
from harvok.core.judgement.finding import Finding, worst_first
from harvok.core.judgement.limits import Limit, exactly
from harvok.core.units import format_duration, format_rate, format_share

_RATE_TOLERANCE = 0.02
"""Emulators count in different layers and shape in bursts; 2 % is less than any difference of layers at 1518 B but FCS
alone, and more than a bucket of a few milliseconds moves a trial of ten seconds."""
_SURE = 3.29
"""Deviations of the normal limit: one in a thousand right emulators is wrongly rejected."""


def judge_emulator(
    set_to: Stage, figures: Sequence[Figure], tolerance_s: float, tester_s: dict[str, float]
) -> list[Finding]:
    """A finding for delay, loss and rate of every frame size and direction, worst first.

    A delay is right within `tolerance_s`, once the tester's own (`tester_s`, by frame size) is taken off; a loss when
    the binomial interval around what was set holds it; a rate within 2 %. A tester that was never calibrated may have
    delayed, lost or slowed down by itself: the box is not rejected for that.
    """
    findings = [
        finding
        for figure in figures
        if figure.quantity == "frames-sent"
        for finding in _judge(set_to, figure, figures, tolerance_s, tester_s)
    ]
    return sorted((one if tester_s else _uncalibrated(one) for one in findings), key=worst_first)


def _uncalibrated(finding: Finding) -> Finding:
    """A rejection by a tester of which nothing is known."""
    if finding.verdict != "REJECT":
        return finding
    reason = f"{finding.reason}; but the tester is not calibrated, and may have done that itself"
    return Finding("RETEST", finding.where, reason, "Calibrate it over a lead alone: harvok calibrate RIG; then again.")


def _judge(
    set_to: Stage, sent: Figure, figures: Sequence[Figure], tolerance_s: float, tester_s: dict[str, float]
) -> Iterator[Finding]:
    labels = sent.labels
    wanted = set_to.send if labels["direction"] == "send" else set_to.receive
    place = f"{labels['frame-size']} B, {labels['direction']}"
    median = find(figures, "latency-median", **labels)
    if median is None:
        yield Finding("REJECT", place, "not one frame came through", "Check the wiring of the emulator.")
        return
    if wanted.spread != "recorded":
        yield _delay(place, wanted, median - tester_s.get(labels["frame-size"], 0.0), tolerance_s)
    yield _loss(place, wanted, find(figures, "frame-loss", **labels) or 0.0, sent.value)
    rate = find(figures, "throughput-l2", **labels)
    if wanted.rate_bps and rate is not None:
        yield _rate(place, wanted.rate_bps, rate)


def _delay(place: str, wanted: Impairment, median_s: float, tolerance_s: float) -> Finding:
    """The median, which both spreads leave where the delay was set, as long as no frame waits for another."""
    clause = (
        f"delay set {format_duration(wanted.delay_s)}, measured {format_duration(max(median_s, 0.0))} at the median"
    )
    tolerance_s += wanted.variation_s / 5 if wanted.variation_s else 0.0
    tolerance = Limit(tolerance_s, at_least=False, words=f"the tolerance of ± {format_duration(tolerance_s)}")
    return tolerance.hold(exactly(abs(median_s - wanted.delay_s)), place, clause, missed="Calibrate the emulator.")


def _loss(place: str, wanted: Impairment, loss: float, sent: float) -> Finding:
    """Against the binomial interval; bursts widen it by their length, since whole runs come or do not."""
    share = wanted.loss + wanted.burst_loss * (1 - wanted.loss)
    runs = wanted.burst_frames * 2 if wanted.burst_loss else 1.0
    half = _SURE * math.sqrt(max(share * (1 - share) * runs, 1e-12) / sent) + 1 / sent
    clause = f"loss set {format_share(share)}, measured {format_share(loss)}"
    tolerance = Limit(half, at_least=False, words=f"the tolerance of ± {format_share(half)}")
    found = tolerance.hold(exactly(abs(loss - share)), place, clause, missed="Find what else loses frames.")
    if found.verdict == "ACCEPT" and share and half > share:
        return Finding("RETEST", place, f"{clause}, of too few frames to decide", "Take a longer --duration.")
    return found


def _rate(place: str, wanted_bps: float, rate_bps: float) -> Finding:
    clause = f"rate set {format_rate(wanted_bps)} (L2), measured {format_rate(rate_bps)}"
    words = f"the tolerance of ± {format_share(_RATE_TOLERANCE)}"
    tolerance = Limit(_RATE_TOLERANCE, at_least=False, words=words)
    return tolerance.hold(exactly(abs(rate_bps / wanted_bps - 1)), place, clause, missed="Calibrate the emulator.")
