"""The ends of a rig, and the streams of traffic between them. Worker processes import this file.

Traffic goes in streams, each from one named end to another. Most rigs have two ends, near and far, and then `send` and
`receive` are shorthand for the two streams between them, as seen from the near end, where the command is typed. A rig
with more ends (the ports of a switch, the stations of a site) names them, and its streams say which two they join.
"""

from dataclasses import dataclass, field
from typing import Literal

from harvok.core.bounds import Name, Share

DirectionChoice = Literal["send", "receive", "each", "both"]
Role = Literal["sender", "receiver"]
End = Literal["near", "far"]


@dataclass(frozen=True, slots=True)
class Stream:
    """Traffic from one end to another. Its name is what figures are labelled with as their direction."""

    name: Name
    source: Name
    destination: Name

    def role_at(self, end: str) -> Role:
        """Which part one of its two ends plays in it."""
        return "sender" if end == self.source else "receiver"

    def end_of(self, role: str) -> str:
        """The end that plays a part in it."""
        return self.source if role == "sender" else self.destination


SEND, RECEIVE = Stream("send", "near", "far"), Stream("receive", "far", "near")
TWO_WAY = {stream.name: stream for stream in (SEND, RECEIVE)}
"""The streams of a rig with two ends, by their shorthand."""

AT_A_TIME: dict[DirectionChoice, tuple[tuple[Stream, ...], ...]] = {
    "send": ((SEND,),),
    "receive": ((RECEIVE,),),
    "each": ((SEND,), (RECEIVE,)),
    "both": ((SEND, RECEIVE),),
}
"""The streams of each trial that a choice comes to."""


def directions_of(choice: DirectionChoice) -> list[str]:
    """The names of the streams that a choice comes to."""
    return [stream.name for streams in AT_A_TIME[choice] for stream in streams]


MAX_STREAMS = 64
"""What a rig has to carry at once."""

TwoPortDirection = Literal["send", "receive", "both"]
PORT_STREAMS: dict[TwoPortDirection, tuple[Stream, ...]] = {
    "send": (SEND,),
    "receive": (RECEIVE,),
    "both": (SEND, RECEIVE),
}
"""The same of a rig with two ports, where both directions run at once or not at all."""


@dataclass(frozen=True, slots=True)
class CpuUse:
    """How busy a host was over an interval: each core, each worker process (share of one core), and time stolen
    by the hypervisor (share of all cores).

    `waiting` is the share of the interval in which each worker could have run and had no core, `interrupts` that which
    each core spent in interrupts, soft ones above all: the kernel's part of the traffic. Both are empty where a system
    does not tell.
    """

    cores: list[Share]
    workers: list[Share]
    stolen: Share = 0.0
    waiting: list[Share] = field(default_factory=list)
    interrupts: list[Share] = field(default_factory=list)

    @property
    def busiest_core(self) -> float:
        return max(self.cores, default=0.0)
