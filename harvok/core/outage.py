"""What an event in mid-test cost: outage, stall, delay, what failed (RFC 6412, RFC 6413)."""

import statistics
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, field

from harvok.core.events import PlannedEvent
from harvok.core.figures import Figure
from harvok.core.samples import Sample
from harvok.core.trials.delay import PACKET, TWO_WAY_DELAY
from harvok.core.trials.frames import RECEIVED_FRAMES


@dataclass(frozen=True, slots=True)
class ArrivedStretch:
    """How much came in a stretch of time."""

    begins_s: float
    ends_s: float
    amount: float

    @property
    def rate(self) -> float:
        return self.amount / (self.ends_s - self.begins_s)


_TOTALS = {(RECEIVED_FRAMES, ""), ("payload-bytes", "receiver")}
_INCREMENTS = {("datagrams", "receiver"), ("transactions", "sender")}
"""Samples that say how much came since the beginning, or since the one before, and at which end; of application traffic
users see it."""
_ANSWERS = {PACKET: 0.0, TWO_WAY_DELAY: 1.0}
"""Of packets and their answers, how many came with such a sample."""
_DELAYS_S = {
    (TWO_WAY_DELAY, ""): 1.0,
    ("rtt-us", "sender"): 1e-6,
    ("max-transit-s", "receiver"): 1.0,
    ("response-p999-s", "sender"): 1.0,
}
"""Samples that say how long something took, and what a unit of them is: packets and their answers, TCP's own RTT,
datagrams by two clocks (of which the level says nothing, and the change all), transactions."""


@dataclass(slots=True)
class ArrivalSeries:
    """What came of each direction over time, whatever kind of traffic it is."""

    series: dict[str, list[ArrivedStretch]] = field(default_factory=dict)
    _before: dict[str, tuple[float, float]] = field(default_factory=dict)

    def add(self, samples: Iterable[Sample]) -> None:
        """Takes samples in the order of time."""
        for sample in samples:
            direction = sample.labels.get("direction", "")
            kind = sample.quantity, sample.labels.get("role", "")
            if kind in _TOTALS:
                self._take(direction, sample.at_s, sample.value, cumulative=True)
            elif kind in _INCREMENTS:
                self._take(direction, sample.at_s, sample.value, cumulative=False)
            elif sample.quantity in _ANSWERS:
                self._take(direction, sample.at_s, _ANSWERS[sample.quantity], cumulative=False)

    def _take(self, direction: str, at_s: float, value: float, cumulative: bool) -> None:
        before_s, total = self._before.get(direction, (0.0, 0.0))
        series = self.series.setdefault(direction, [])
        if at_s > before_s:
            series.append(ArrivedStretch(before_s, at_s, value - total if cumulative else value))
        elif series and not cumulative:  # of another service at the same moment
            last = series[-1]
            series[-1] = ArrivedStretch(last.begins_s, last.ends_s, last.amount + value)
        self._before[direction] = at_s, value


@dataclass(frozen=True, slots=True)
class Outage:
    """What an event cost one direction, by its rate over time: `lasted_s` is how long nothing at all would have come
    for as much to be missing (RFC 6413, rate-derived), `recovered_s` how long after the event the rate was back for
    good; None when it did not come back. Both are as coarse as `grain_s`, the time between two looks."""

    lasted_s: float
    recovered_s: float | None
    grain_s: float


_BACK = 0.9
"""Of the rate before: TCP's own rate swings by some percent between two looks, a path that is cut falls to nothing."""
_BEFORE_S = 5.0
"""The rate before an event is the median of the last seconds before it: further back TCP may still be starting."""


def outage(series: Sequence[ArrivedStretch], at_s: float, until_s: float) -> Outage | None:
    """What came of one direction around an event, until the next, or until the traffic ends. None where nothing came
    before it."""
    before = [one for one in series if at_s - _BEFORE_S <= one.begins_s and one.ends_s <= at_s]
    after = [one for one in series if at_s < one.ends_s <= until_s]
    usual = statistics.median(one.rate for one in before) if before else 0.0
    if not usual or not after:
        return None
    low = [number for number, one in enumerate(after) if one.rate < _BACK * usual]
    grain_s = max(one.ends_s - one.begins_s for one in after)
    if not low:
        return Outage(0.0, 0.0, grain_s)
    dip = after[low[0] : low[-1] + 1]
    missing_s = sum((one.ends_s - one.begins_s) * (1 - one.rate / usual) for one in dip)
    recovered_s = dip[-1].ends_s - at_s if low[-1] + 1 < len(after) else None
    return Outage(max(missing_s, 0.0), recovered_s, grain_s)


def outage_from_loss(lost: int, offered_per_s: float) -> float:
    """RFC 6413, loss-derived: how long everything must have been lost for as much to be missing."""
    return lost / offered_per_s if offered_per_s else 0.0


@dataclass(slots=True)
class EventEvidence:
    """What is looked at for what events cost, kept as it comes: `arrivals`, `delays` as (moment, seconds) by direction,
    `failures` as (moment, transactions), and what each `flow` of a direction moved, as (moment, bytes)."""

    arrivals: ArrivalSeries = field(default_factory=ArrivalSeries)
    delays: dict[str, list[tuple[float, float]]] = field(default_factory=dict)
    failures: dict[str, list[tuple[float, float]]] = field(default_factory=dict)
    flows: dict[str, dict[str, list[tuple[float, float]]]] = field(default_factory=dict)

    def add(self, samples: Sequence[Sample]) -> None:
        """Takes samples in the order of time."""
        self.arrivals.add(samples)
        for sample in samples:
            direction, role = sample.labels.get("direction", ""), sample.labels.get("role", "")
            if unit_s := _DELAYS_S.get((sample.quantity, role)):
                self.delays.setdefault(direction, []).append((sample.at_s, sample.value * unit_s))
            elif (sample.quantity, role) == ("failed", "sender"):
                self.failures.setdefault(direction, []).append((sample.at_s, sample.value))
            elif (sample.quantity, role) == ("flow-bytes", "receiver"):
                flows = self.flows.setdefault(direction, {})
                flows.setdefault(sample.labels["flow"], []).append((sample.at_s, sample.value))

    @property
    def directions(self) -> list[str]:
        return list(dict.fromkeys([*self.arrivals.series, *self.delays, *self.failures, *self.flows]))


def stall_s(series: Sequence[ArrivedStretch], at_s: float, until_s: float) -> float:
    """The longest time from an event on in which nothing came at all, as far as two looks can tell; a time that lasts
    to the end counts. 0 where something came between any two."""
    longest_s = began_s = 0.0
    stalled = False
    for one in (one for one in series if at_s < one.ends_s <= until_s):
        if one.amount:
            stalled = False
            continue
        began_s = began_s if stalled else max(one.begins_s, at_s)
        stalled = True
        longest_s = max(longest_s, one.ends_s - began_s)
    return longest_s


def delay_rise_s(delays: Sequence[tuple[float, float]], at_s: float, until_s: float) -> float | None:
    """By how much the longest delay after an event is above the median before it; 0 where it is not. None where there
    was none before it, or after."""
    before = [delay_s for seen_s, delay_s in delays if at_s - _BEFORE_S <= seen_s <= at_s]
    after = [delay_s for seen_s, delay_s in delays if at_s < seen_s <= until_s]
    if not before or not after:
        return None
    return max(max(after) - statistics.median(before), 0.0)


def flows_lost(flows: Iterable[Sequence[tuple[float, float]]], at_s: float, until_s: float) -> int:
    """How many flows moved something before an event, and nothing any more in the last look after it."""
    lost = 0
    for flow in flows:
        before = [moved for seen_s, moved in flow if seen_s <= at_s]
        after = [moved for seen_s, moved in flow if at_s < seen_s <= until_s]
        lost += bool(before and before[-1] and after and not after[-1])
    return lost


def cost_figures(
    event: PlannedEvent,
    direction: str,
    seen: EventEvidence,
    until_s: float,
    lost: int | None = None,
    offered_per_s: float = 0.0,
) -> Iterator[Figure]:
    """What an event cost one direction, until the next, or until the traffic ends. `lost` is None where packets are not
    counted, or losses cannot be told apart by event."""
    labels = {"event": event.title, "direction": direction}
    if lost is not None:
        grain_s = 1 / offered_per_s if offered_per_s else 0.0
        yield Figure("outage-from-loss", outage_from_loss(lost, offered_per_s), labels, resolution=grain_s)
    arrived = seen.arrivals.series.get(direction, [])
    found = outage(arrived, event.at_s, until_s)
    if found is not None:
        yield Figure("outage-from-rate", found.lasted_s, labels, resolution=found.grain_s)
        if found.recovered_s is not None:
            yield Figure("time-to-recover", found.recovered_s, labels, resolution=found.grain_s)
        yield Figure("event-stall", stall_s(arrived, event.at_s, until_s), labels, resolution=found.grain_s)
    rise_s = delay_rise_s(seen.delays.get(direction, []), event.at_s, until_s)
    if rise_s is not None:
        yield Figure("event-delay-rise", rise_s, labels)
    yield from _lost_figures(event, direction, seen, until_s)


def _lost_figures(event: PlannedEvent, direction: str, seen: EventEvidence, until_s: float) -> Iterator[Figure]:
    """What did not survive an event: transactions of applications, flows of TCP."""
    labels = {"event": event.title, "direction": direction}
    if failures := seen.failures.get(direction):
        failed = sum(number for seen_s, number in failures if event.at_s < seen_s <= until_s)
        yield Figure("event-failed-transactions", failed, labels)
    if flows := seen.flows.get(direction):
        yield Figure("event-lost-connections", flows_lost(flows.values(), event.at_s, until_s), labels)
