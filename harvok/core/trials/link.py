"""What a watch over a port asks of a rig, and what a rig answers. Plain dataclasses, as in core.trial."""

from dataclasses import dataclass, field
from typing import Literal

LinkState = Literal["up", "no link", "down", "gone"]


@dataclass(frozen=True, slots=True)
class LinkTrial:
    """Follow `port` until it has come up `link_ups` times, or `duration_s` is over; None watches until broken off."""

    port: str
    link_ups: int | None = None
    duration_s: float | None = None
    kind: Literal["link"] = "link"


@dataclass(frozen=True, slots=True)
class LinkEvent:
    """The port changed its state, `at_s` seconds after the watch began. `missed` times it went down and up again
    faster than was seen."""

    at_s: float
    state: LinkState
    speed_bps: float | None = None
    duplex: str | None = None
    missed: int = 0


@dataclass(frozen=True, slots=True)
class LinkTrialResult:
    """What a rig answers to a LinkTrial: the state at the start, at 0 s, and every change."""

    events: list[LinkEvent] = field(default_factory=list)
    kind: Literal["link"] = "link"

    @property
    def link_ups(self) -> list[LinkEvent]:
        """The times at which it came up."""
        return [event for event in self.events if event.state == "up"]
