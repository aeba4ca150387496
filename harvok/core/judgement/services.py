"""Judges services against what they promise, step by step (ITU-T Y.1564 §8)."""

from collections.abc import Callable, Iterator, Sequence

from harvok.core.figures import Figure, find
from harvok.core.judgement.finding import Finding, blamed_on_tester, worst_first
from harvok.core.judgement.limits import Limit, exactly
from harvok.core.udp.services import ServiceSpec
from harvok.core.units import format_duration, format_share


def judge_services(services: Sequence[ServiceSpec], figures: Sequence[Figure]) -> list[Finding]:
    """A finding for every promise of every service at every step and in every direction, worst first."""
    findings = [
        finding
        for spec in services
        for figure in figures
        if figure.quantity == "datagram-loss" and figure.labels.get("service") == spec.name
        for finding in _judge(spec, figure, figures)
    ]
    return sorted(findings, key=worst_first)


def _judge(spec: ServiceSpec, loss: Figure, figures: Sequence[Figure]) -> Iterator[Finding]:
    """One service at one step in one direction; a step at which the tester fell short says nothing of the path."""
    labels, limits = loss.labels, spec.limits
    place = f"{spec.name}, {labels.get('load') or labels.get('level', '')}, {labels['direction']}"
    if loss.mark == "tester-limit":
        yield blamed_on_tester(place, None)
        return
    if limits.loss is not None:
        yield _within(place, "loss", loss.value, limits.loss, 0.0, format_share)
    if limits.variation_s is not None:
        variation = find(figures, "delay-variation-p999", **labels)
        yield _maybe_within(place, "p99.9 of the delay variation", variation, limits.variation_s, 0.0)
    if limits.delay_s is not None:
        delay = find(figures, "one-way-delay-mean", **labels)
        error_s = find(figures, "clock-error", **labels) or 0.0
        yield _maybe_within(place, "mean one-way delay", delay, limits.delay_s, error_s)


def _maybe_within(place: str, what: str, value: float | None, maximum: float, error: float) -> Finding:
    if value is None:
        return Finding(
            "RETEST",
            place,
            f"no {what} is known",
            "Let UDP through to the station's reflector, which measures the offset of the clocks.",
        )
    return _within(place, what, value, maximum, error, format_duration)


def _within(place: str, what: str, value: float, maximum: float, error: float, show: Callable[[float], str]) -> Finding:
    clause = f"{what} {show(value)}" + (f" ± {show(error)}" if error else "")
    promised = Limit(maximum, at_least=False, words=f"the {show(maximum)} promised")
    advice = "Keep both clocks in step with one source, so that one-way delay is known more precisely."
    return promised.hold(exactly(value, error), place, clause, advice)
