"""The two ends of a test, and the part that each plays in a direction. Worker processes import this file.

Directions are seen from the near end, where the command is typed: `send` is near → far, `receive` far → near.
"""

from dataclasses import dataclass
from typing import Literal

Direction = Literal["send", "receive"]
DirectionChoice = Literal["send", "receive", "each", "both"]
Role = Literal["sender", "receiver"]
End = Literal["near", "far"]

AT_A_TIME: dict[DirectionChoice, tuple[tuple[Direction, ...], ...]] = {
    "send": (("send",),),
    "receive": (("receive",),),
    "each": (("send",), ("receive",)),
    "both": (("send", "receive"),),
}
"""The directions of each trial that a choice comes to."""

TwoPortDirection = Literal["send", "receive", "both"]
SIDES: dict[TwoPortDirection, tuple[Direction, ...]] = {
    "send": ("send",),
    "receive": ("receive",),
    "both": ("send", "receive"),
}
"""The same of a rig with two ports, where both directions run at once or not at all."""


def role_at(end: End, direction: Direction) -> Role:
    """Which part an end plays in a direction."""
    return "sender" if (end == "near") == (direction == "send") else "receiver"


@dataclass(frozen=True, slots=True)
class CpuUse:
    """How busy a host was over an interval: each core, each worker process (share of one core), and time stolen
    by the hypervisor (share of all cores)."""

    cores: list[float]
    workers: list[float]
    stolen: float = 0.0

    @property
    def busiest_core(self) -> float:
        return max(self.cores, default=0.0)
