"""What a browser is asked to do, and what came of it. The browser is the near end, the station that serves it the far
one. Plain dataclasses: the station checks what a page sends against them.

The station counts: what it received, and what the browser's host acknowledged of what was sent to it. The browser adds
what only it can know: how long answers took, and how far its page was held up.
"""

from dataclasses import dataclass, field
from typing import Annotated, Literal

from annotated_types import Le, MaxLen

from harvok.core.bounds import Count, Flows, Interval, Seconds, Share, SomeSeconds, Tick
from harvok.core.ends import Stream
from harvok.core.trials.tcp import DirectionOutcome, DirectionResult

MAX_RESPONSES = 100_000
IDLE, BOTH = "idle", "both"
Portion = Annotated[Share, Le(1.0)]


@dataclass(frozen=True, slots=True)
class BrowserTrial:
    """Transfers by `connections` in each of `streams` for `duration_s`, and short requests beside them; no streams:
    only those requests."""

    streams: tuple[Stream, ...]
    connections: Flows
    duration_s: SomeSeconds
    interval_s: Interval = 1.0
    tick_s: Tick = 0.1
    kind: Literal["browser"] = "browser"

    @property
    def load(self) -> str:
        """What flowed beside the requests: `idle`, `receive`, `send` or `both`."""
        names = [stream.name for stream in self.streams]
        return BOTH if len(names) > 1 else names[0] if names else IDLE


@dataclass(frozen=True, slots=True)
class PageReport:
    """What the page saw of a trial: the times from request to answer, how many requests failed, for what share of the
    trial the page could not run, what it read, and the step of its clock."""

    responses_s: Annotated[list[Seconds], MaxLen(MAX_RESPONSES)] = field(default_factory=list)
    failed: Count = 0
    held_up: Portion = 0.0
    received_bytes: Count = 0
    clock_step_s: Seconds = 0.0


@dataclass(frozen=True, slots=True)
class BrowserOutcome:
    """What a record keeps of a BrowserTrialResult, beside its samples."""

    directions: list[DirectionOutcome]
    page: PageReport
    upload_gaps: Portion = 0.0
    kind: Literal["browser"] = "browser"


@dataclass(frozen=True, slots=True)
class BrowserTrialResult:
    """What a trial came to. `upload_gaps` is the share of the time in which no upload was under way, though one should
    have been."""

    directions: list[DirectionResult]
    page: PageReport
    upload_gaps: Portion = 0.0
    kind: Literal["browser"] = "browser"

    @property
    def outcome(self) -> BrowserOutcome:
        outcomes = [DirectionOutcome(d.direction, d.sender, d.receiver, d.foreign_share) for d in self.directions]
        return BrowserOutcome(outcomes, self.page, self.upload_gaps)
