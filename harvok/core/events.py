"""Events in mid-test: what is to be done when, and what that cost (RFC 6412, RFC 6413).

An event is written as a time after the beginning of the trial, and what is done then:

    20s: link port2 down for 200ms
    20s: link port2 cut for 200ms
    20s: run ./pull-route.sh
    20s: device shutdown interface 3
    20s: set ifAdminStatus.3 2
    20s: tell switch the second power supply off
"""

import statistics
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from typing import Literal

from harvok.core.figures import Figure
from harvok.core.samples import Sample
from harvok.core.trials.frames import RECEIVED_FRAMES
from harvok.core.units import format_duration, parse_duration_s
from harvok.errors import BadQuantityError, UsageError

EVENT, EVENT_ENDS = "event", "event-ends"
"""The events of the time axis: something was done, and what was done for a time was undone."""
INTENDED, TOOK = "intended-s", "took-s"

LinkState = Literal["down", "cut", "up"]
Action = Literal["link", "run", "device", "set", "tell"]
_ACTIONS: tuple[Action, ...] = ("link", "run", "device", "set", "tell")
SETUP_ACTIONS = ("run", "device", "set")
"""What a device can be set up with between tests: a link that is down would only end the test."""
_FORM = (
    'Write it as "20s: link PORT down for 200ms", "20s: run COMMAND", "20s: device COMMAND", "20s: set NAME VALUE" or '
    '"20s: tell TEXT".'
)
MAX_AT_S = 86_400.0
MAX_FOR_S = 3600.0
MAX_EVENTS = 64


@dataclass(frozen=True, slots=True)
class PlannedEvent:
    """`at_s` after a trial's first traffic: an `action` with its words. A link that goes down, or is cut with its
    carrier staying up, is brought up again after `for_s`; None leaves it until another event, or the test's end."""

    at_s: float
    action: Action
    words: str
    for_s: float | None = None
    lasts: str = ""
    """The same as it was written."""

    @property
    def title(self) -> str:
        """As it was written, without its time: what it is called in tables and labels."""
        return f"{self.action} {self.words}{f' for {self.lasts}' if self.lasts else ''}"

    @property
    def port(self) -> str:
        """Of a link."""
        return self.words.split()[0]

    @property
    def link_state(self) -> LinkState:
        """What becomes of a link."""
        state = self.words.split()[1]
        return "down" if state == "down" else "cut" if state == "cut" else "up"

    @property
    def ends_s(self) -> float:
        """When all of it is done."""
        return self.at_s + (self.for_s or 0.0)


def parse_event(text: str) -> PlannedEvent:
    """An event as people write it. Raises UsageError."""
    time, colon, rest = text.partition(":")
    action, _, words = rest.strip().partition(" ")
    if not colon or action not in _ACTIONS or not words.strip():
        raise UsageError(f"'{text}' is no event", _FORM)
    at_s = _time(text, time, MAX_AT_S)
    if action != "link":
        return PlannedEvent(at_s, action, words.strip())
    return _link_event(text, at_s, words.split())


def _link_event(text: str, at_s: float, words: Sequence[str]) -> PlannedEvent:
    match words:
        case [port, "down" | "cut" as state, "for", lasts]:
            for_s = _time(text, lasts, MAX_FOR_S)
            if not for_s:
                raise UsageError(f"'{text}' lasts no time at all", _FORM)
            return PlannedEvent(at_s, "link", f"{port} {state}", for_s, lasts)
        case [port, "down" | "cut" | "up" as state]:
            return PlannedEvent(at_s, "link", f"{port} {state}")
        case _:
            raise UsageError(f"'{text}' says not what becomes of which link", _FORM)


def _time(text: str, time: str, most_s: float) -> float:
    try:
        at_s = parse_duration_s(time.strip())
    except BadQuantityError as error:
        raise UsageError(f"'{text}' is no event: {error.message}", _FORM) from error
    if not 0 <= at_s <= most_s:
        raise UsageError(f"'{text}': {format_duration(at_s)} is more than {format_duration(most_s)}", _FORM)
    return at_s


def parse_events(texts: Iterable[str]) -> tuple[PlannedEvent, ...]:
    """Events in the order of time. Raises UsageError."""
    events = sorted((parse_event(text) for text in texts), key=lambda event: event.at_s)
    if len(events) > MAX_EVENTS:
        raise UsageError(f"{len(events)} events are more than {MAX_EVENTS}", "Take fewer.")
    return tuple(events)


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


def outage_figures(
    event: PlannedEvent, direction: str, found: Outage | None, lost: int | None, offered_per_s: float
) -> list[Figure]:
    """What an event cost one direction. `lost` is None where losses cannot be told apart by event."""
    labels = {"event": event.title, "direction": direction}
    figures = []
    if lost is not None:
        grain_s = 1 / offered_per_s if offered_per_s else 0.0
        figures.append(Figure("outage-from-loss", outage_from_loss(lost, offered_per_s), labels, resolution=grain_s))
    if found is not None:
        figures.append(Figure("outage-from-rate", found.lasted_s, labels, resolution=found.grain_s))
        if found.recovered_s is not None:
            figures.append(Figure("time-to-recover", found.recovered_s, labels, resolution=found.grain_s))
    return figures
