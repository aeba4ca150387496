"""What an impairment does to each direction of a path. Plain dataclasses: worker processes import this file.

Directions are those of a rig: `send` from the first port to the second.
"""

from dataclasses import dataclass, field
from typing import Literal

Spread = Literal["uniform", "normal", "recorded"]


@dataclass(frozen=True, slots=True)
class Impairment:
    """What befalls the frames of one direction; the default is nothing at all.

    Every frame takes `delay_s`, and more or less of it by `variation_s`: within ± that, evenly (`uniform`); with that
    as standard deviation (`normal`); or one of `recorded_s`, drawn anew for each frame, instead of both (`recorded`).
    With `keeps_order` no frame overtakes another. `loss` befalls frames one by one; `burst_loss` is the share that is
    lost in runs of `burst_frames` on average (a Gilbert–Elliott channel that loses all in its bad state).
    `reordering` of the frames are held back by `reorder_by_s`, and overtaken; `duplication` come twice; of those that
    `corruption` befalls one bit behind the Ethernet header is turned. `rate_bps` is that of frames, FCS counted; what
    does not fit into `queue_bytes` before it is dropped.
    """

    delay_s: float = 0.0
    variation_s: float = 0.0
    spread: Spread = "uniform"
    recorded_s: tuple[float, ...] = ()
    keeps_order: bool = True
    loss: float = 0.0
    burst_loss: float = 0.0
    burst_frames: float = 1.0
    reordering: float = 0.0
    reorder_by_s: float = 0.001
    duplication: float = 0.0
    corruption: float = 0.0
    rate_bps: float | None = None
    queue_bytes: float = 64 * 1024

    @property
    def longest_s(self) -> float:
        """About the longest time that a frame can be held."""
        spread_s = max(self.recorded_s, default=0.0) if self.spread == "recorded" else self.delay_s
        more_s = {"uniform": 1.0, "normal": 5.0, "recorded": 0.0}[self.spread] * self.variation_s
        queue_s = self.queue_bytes * 8 / self.rate_bps if self.rate_bps else 0.0
        return spread_s + more_s + queue_s + (self.reorder_by_s if self.reordering else 0.0)


CLEAN = Impairment()


@dataclass(frozen=True, slots=True)
class Stage:
    """From `at_s` on after the start, each direction has these impairments."""

    at_s: float
    send: Impairment = CLEAN
    receive: Impairment = CLEAN

    def of(self, direction: str) -> Impairment:
        return self.send if direction == "send" else self.receive


@dataclass(frozen=True, slots=True)
class ImpairmentPlan:
    """An impairment with its schedule: `stages` in the order of their times, the first of which is at 0 s. The same
    `seed` gives the same fate to the same sequence of frames."""

    name: str
    stages: tuple[Stage, ...]
    seed: int = 1

    @property
    def longest_s(self) -> float:
        """About the longest time that any frame can be held."""
        return max(one.longest_s for stage in self.stages for one in (stage.send, stage.receive))


@dataclass(frozen=True, slots=True)
class DirectionReport:
    """What was really done to the frames of one direction so far.

    `queued_frames` are held now; `given_*` is the delay that frames were really given, from the kernel's stamp on
    arrival until they were handed on, over the last interval, or over all at the end; `late_p99_s` how much later than
    due. `too_large` were longer than the ports carry, `overrun` found the ring full.
    """

    direction: str
    in_frames: int = 0
    in_bytes: int = 0
    out_frames: int = 0
    out_bytes: int = 0
    lost: int = 0
    queue_drops: int = 0
    duplicated: int = 0
    reordered: int = 0
    corrupted: int = 0
    queued_frames: int = 0
    too_large: int = 0
    overrun: int = 0
    given_min_s: float = 0.0
    given_median_s: float = 0.0
    given_p99_s: float = 0.0
    given_max_s: float = 0.0
    late_p99_s: float = 0.0


@dataclass(frozen=True, slots=True)
class ImpairmentReport:
    """Both directions at one moment; `over` when nothing more will come."""

    at_s: float
    stage: int
    directions: list[DirectionReport] = field(default_factory=list)
    over: bool = False
