"""What a measurement of two-way delay asks of a rig, and what a rig answers. Plain dataclasses, as in core.trial."""

from collections.abc import Iterator
from dataclasses import dataclass, field, fields
from typing import Literal

from harvok.core.bounds import Count, Dscp, Name, Seconds
from harvok.core.samples import Sample

Means = Literal["stamp", "stamp-authenticated", "echo"]
"""STAMP (RFC 8762), authenticated or not, or ICMP echo (RFC 792, RFC 4443)."""

PACKET, TWO_WAY_DELAY = "packet", "two-way-delay-s"
"""Samples of a delay trial: each packet by its number, and the delay of each that was answered."""


@dataclass(frozen=True, slots=True)
class DelayTrial:
    """Packets to a reflector: `packets`, one every `gap_s`, each of `payload_bytes`; those that have not come back
    `wait_s` after the last was sent are lost. `load` names what fills the link meanwhile, empty when nothing does."""

    packets: Count
    gap_s: Seconds
    payload_bytes: Count = 44
    dscp: Dscp | None = None
    wait_s: Seconds = 1.0
    load: Name = ""
    kind: Literal["delay"] = "delay"

    @property
    def duration_s(self) -> float:
        return self.packets * self.gap_s


@dataclass(frozen=True, slots=True)
class Echo:
    """One packet and its answer. Times are seconds: `sent_s` since the first packet; `two_way_s` from sending to
    receiving, less the time that the reflector held it; None when no answer came.

    `there_s` and `back_s` are one-way, by clocks that may differ; None with ICMP echo, which tells no times.
    """

    number: int
    sent_s: float
    two_way_s: float | None = None
    there_s: float | None = None
    back_s: float | None = None

    def samples(self, began_s: float) -> Iterator[Sample]:
        """Its packet at the moment of sending, for a first packet that was sent at `began_s` on the time axis."""
        at_s = round(began_s + self.sent_s, 9)
        yield Sample(at_s, "near", PACKET, self.number)
        delays = ((TWO_WAY_DELAY, self.two_way_s), ("delay-out-s", self.there_s), ("delay-back-s", self.back_s))
        for quantity, delay_s in delays:
            if delay_s is not None:
                yield Sample(at_s, "near", quantity, delay_s)


@dataclass(frozen=True, slots=True)
class DelayOutcome:
    """What a record keeps of a DelayTrialResult, beside its samples.

    `reordered` answers came after one with a higher number (RFC 4737 §3.2). `lost_there` and `lost_back` tell loss on
    the way there from loss on the way back, where the reflector counts for itself; None where it does not.
    `refused` answers were no valid ones: malformed, of another session, or not sealed with the key.
    """

    means: Means
    duplicates: int = 0
    reordered: int = 0
    refused: int = 0
    lost_there: int | None = None
    lost_back: int | None = None
    load_bps: float | None = None
    kind: Literal["delay"] = "delay"


@dataclass(frozen=True, slots=True)
class DelayTrialResult(DelayOutcome):
    """What a rig answers to a DelayTrial: what a record keeps, and the `echoes` in the order of their numbers."""

    echoes: list[Echo] = field(default_factory=list)

    @property
    def outcome(self) -> DelayOutcome:
        return DelayOutcome(**{each.name: getattr(self, each.name) for each in fields(DelayOutcome)})
