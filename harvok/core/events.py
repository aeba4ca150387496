"""Events in mid-test: what is to be done when.

An event is written as a time after the beginning of the trial, and what is done then:

    20s: link port2 down for 200ms
    20s: link port2 cut for 200ms
    20s: run ./pull-route.sh
    20s: device shutdown interface 3
    20s: set ifAdminStatus.3 2
    20s: impair lossy-lead for 5s
    20s: tell switch the second power supply off
    20s: await reset the switch
"""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import Literal

from harvok.core.units import format_duration, parse_duration_s
from harvok.errors import BadQuantityError, UsageError

EVENT, EVENT_ENDS = "event", "event-ends"
"""The events of the time axis: something was done, and what was done for a time was undone."""
INTENDED, TOOK = "intended-s", "took-s"

LinkState = Literal["down", "cut", "up"]
Action = Literal["link", "run", "device", "set", "impair", "tell", "await"]
_ACTIONS: tuple[Action, ...] = ("link", "run", "device", "set", "impair", "tell", "await")
SETUP_ACTIONS = ("run", "device", "set")
"""What a device can be set up with between tests: a link that is down would only end the test."""
_FORM = (
    'Write it as "20s: link PORT down for 200ms", "20s: run COMMAND", "20s: device COMMAND", "20s: set NAME VALUE", '
    '"20s: impair NAME for 5s", "20s: tell TEXT" or "20s: await TEXT".'
)
MAX_AT_S = 86_400.0
MAX_FOR_S = 3600.0
MAX_EVENTS = 64


@dataclass(frozen=True, slots=True)
class PlannedEvent:
    """`at_s` after a trial's first traffic: an `action` with its words. A link that goes down, or is cut with its
    carrier staying up, is brought up again after `for_s`, and another impairment of the path gives way to its own; None
    leaves it until another event, or the test's end. What is awaited is done when the person says so."""

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
    if action == "link":
        return _link_event(text, at_s, words.split())
    if action == "impair":
        return _impair_event(text, at_s, words.split())
    return PlannedEvent(at_s, action, words.strip())


def _link_event(text: str, at_s: float, words: Sequence[str]) -> PlannedEvent:
    match words:
        case [port, "down" | "cut" as state, "for", lasts]:
            return PlannedEvent(at_s, "link", f"{port} {state}", _lasting(text, lasts), lasts)
        case [port, "down" | "cut" | "up" as state]:
            return PlannedEvent(at_s, "link", f"{port} {state}")
        case _:
            raise UsageError(f"'{text}' says not what becomes of which link", _FORM)


def _impair_event(text: str, at_s: float, words: Sequence[str]) -> PlannedEvent:
    match words:
        case [name, "for", lasts]:
            return PlannedEvent(at_s, "impair", name, _lasting(text, lasts), lasts)
        case [name]:
            return PlannedEvent(at_s, "impair", name)
        case _:
            raise UsageError(f"'{text}' says not which impairment for how long", _FORM)


def _lasting(text: str, lasts: str) -> float:
    for_s = _time(text, lasts, MAX_FOR_S)
    if not for_s:
        raise UsageError(f"'{text}' lasts no time at all", _FORM)
    return for_s


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
