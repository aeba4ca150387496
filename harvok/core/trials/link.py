"""What a watch over a port asks of a rig, and what a rig answers. Plain dataclasses, as in core.trial."""

from collections.abc import Iterable
from dataclasses import dataclass, field
from typing import Literal

from harvok.core.samples import Event

LinkState = Literal["up", "no link", "down", "gone"]

SPEED, MISSED = "speed-bps", "missed"
"""What belongs to a link event: the speed that was negotiated, and changes too fast to be seen."""


@dataclass(frozen=True, slots=True)
class LinkTrial:
    """Follow `port` until it has come up `link_ups` times, or `duration_s` is over; None watches until broken off."""

    port: str
    link_ups: int | None = None
    duration_s: float | None = None
    kind: Literal["link"] = "link"


def link_event(
    at_s: float,
    state: LinkState,
    port: str,
    speed_bps: float | None = None,
    duplex: str | None = None,
    missed: int = 0,
) -> Event:
    """The port changed its state. `missed` times it went down and up again faster than was seen."""
    labels = {"duplex": duplex} if duplex else {}
    values = ({SPEED: speed_bps} if speed_bps else {}) | ({MISSED: float(missed)} if missed else {})
    return Event(at_s, state, port, labels, values)


@dataclass(frozen=True, slots=True)
class LinkOutcome:
    """What a record keeps of a LinkTrialResult, beside its events."""

    link_ups: int
    kind: Literal["link"] = "link"


@dataclass(frozen=True, slots=True)
class LinkTrialResult:
    """What a rig answers to a LinkTrial: the state at the start, at 0 s, and every change."""

    events: list[Event] = field(default_factory=list)
    kind: Literal["link"] = "link"

    @property
    def outcome(self) -> LinkOutcome:
        return LinkOutcome(len(link_ups(self.events)))


def link_ups(events: Iterable[Event]) -> list[Event]:
    """The times at which a port came up."""
    return [event for event in events if event.name == "up"]
