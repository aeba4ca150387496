"""What a frame-level procedure asks of a rig, and what a rig answers. Plain dataclasses, as in core.trial.

Each stream goes from one tester port of the rig to another. Loads are intended loads of one stream in frames/s (RFC
2285 §3.5). Of a rig with two ports the first is its near end and the second its far end.
"""

from dataclasses import dataclass, field, replace
from typing import Literal

from harvok.core.ends import SEND, Stream
from harvok.core.samples import Sample
from harvok.core.stream_frames import PLAIN, StreamFrames

MAX_STEPS = 64
"""What a rig has to carry in one trial."""

SENT_FRAMES, RECEIVED_FRAMES, FRAME_DELAY = "sent-frames", "received-frames", "frame-delay-s"
"""Samples of a frame trial: frames of a direction since its start, and the delay of those that just came."""


@dataclass(frozen=True, slots=True)
class LoadStep:
    """A stretch of a trial at one intended load."""

    load_fps: float
    duration_s: float


@dataclass(frozen=True, slots=True)
class FrameTrial:
    """One trial: frames at given loads, MAX_STEPS of them at most, in one direction or both at once.

    `frame_sizes` are sent in turn: one size, or the sequence of a mix (RFC 6985); `frames_of` has what the frames of a
    stream have of their own, by the name of the stream. `burst_frames` are sent back to back, with gaps between bursts
    that keep the load (RFC 2544 §21). `pause_s` is what the rig waits afterwards for frames in flight and for the
    device to settle (RFC 2544 §23: 2 s and 5 s). From `tag_at_s` on, `tags` frames spread evenly over the rest are
    reported one by one (RFC 2544 §26.2, RFC 8219 §7.2). At `reset_at_s` the rig resets the device. Where multicast
    streams come out, their groups are joined before the trial, or at `join_at_s`, and left after it, or at
    `leave_at_s`; not where `bystanders` come out, which are names of streams. `hurried`: what the next trial finds
    depends on how soon it follows. `ip_version` None sends bare Ethernet. `about` says to people what the trial is for.
    """

    frame_sizes: tuple[int, ...]
    steps: tuple[LoadStep, ...]
    streams: tuple[Stream, ...] = (SEND,)
    frames_of: dict[str, StreamFrames] = field(default_factory=dict)
    ip_version: Literal[4, 6] | None = 4
    address_pairs: int = 1
    burst_frames: int = 1
    pause_s: float = 7.0
    tag_at_s: float | None = None
    tags: int = 0
    reset_at_s: float | None = None
    join_at_s: float | None = None
    leave_at_s: float | None = None
    bystanders: tuple[str, ...] = ()
    hurried: bool = False
    about: str = ""
    kind: Literal["frames"] = "frames"

    @property
    def duration_s(self) -> float:
        return sum(step.duration_s for step in self.steps)

    @property
    def mean_size_bytes(self) -> float:
        return sum(self.frame_sizes) / len(self.frame_sizes)

    def frames(self, stream: str) -> StreamFrames:
        """What the frames of a stream have of their own."""
        return self.frames_of.get(stream, PLAIN)

    def load_of(self, stream: str, step: LoadStep) -> float:
        """The intended load of a stream in a step, in frames/s."""
        return self.frames(stream).load_fps(step.load_fps, self.frame_sizes)


@dataclass(frozen=True, slots=True)
class DelaySummary:
    """Delays through the device, in seconds. `jitter_s` is the mean absolute difference of successive delays
    (RFC 3393); `counted` says how many frames it rests on, `resolution` how coarse its percentiles are (a ratio).
    `distribution` is (upper edge in s, frames) of each bin that has any."""

    counted: int
    min_s: float
    mean_s: float
    median_s: float
    p999_s: float
    max_s: float
    jitter_s: float
    resolution: float
    distribution: list[tuple[float, int]] = field(default_factory=list)

    def less(self, by_s: float) -> "DelaySummary":
        """The same delays, all shorter by as much, none below zero."""
        shorter = {
            name: max(getattr(self, name) - by_s, 0.0) for name in ("min_s", "mean_s", "median_s", "p999_s", "max_s")
        }
        bins = [(max(edge_s - by_s, 0.0), frames) for edge_s, frames in self.distribution]
        return replace(self, **shorter, distribution=bins)


OFFERED_TOLERANCE = 0.005
"""Of the intended load: outside, the trial says nothing about the device. A quiet host
holds loads within 0.02 %; what misses by 0.5 % has stalled."""
LONGEST_STALL_S = 0.01
"""In a longer one a device's queues drain, so that the load after it meets another device than the load before."""


def allowance_s(duration_s: float) -> float:
    """How long a sender may stand still in all, and send for longer to make up for it, in a trial or a step of one."""
    return max(LONGEST_STALL_S, OFFERED_TOLERANCE * duration_s)


@dataclass(frozen=True, slots=True)
class TesterHealth:
    """How well the tester did its own part in a trial.

    `ring_drops` frames came and its receive ring was full; `kernel_drops` were dropped by this host's kernel before the
    ring. `batch_frames` were sent with one call, each batch as late as `late_p99_s` in 99 % of all cases; in the
    longest stall nothing was sent at all. `held_back_s` is how long no slot of the sending ring was free. `lost_count`
    says why nobody can tell which step a frame was of; empty where that is known. `sent_by` is what carried the frames
    to the port."""

    ring_drops: int = 0
    kernel_drops: int = 0
    longest_stall_s: float = 0.0
    batch_frames: int = 1
    late_p99_s: float = 0.0
    held_back_s: float = 0.0
    lost_count: str = ""
    sent_by: str = "packet ring"


@dataclass(frozen=True, slots=True)
class FrameCounts:
    """Frames that were sent in a stretch of `sending_s`, and how many of them came; each is counted once."""

    sent_frames: int
    sending_s: float
    received_frames: int

    @property
    def lost_frames(self) -> int:
        return self.sent_frames - self.received_frames

    @property
    def loss(self) -> float:
        """Frame loss rate as a ratio (RFC 2544 §26.3)."""
        return self.lost_frames / self.sent_frames if self.sent_frames else 0.0

    @property
    def offered_load_fps(self) -> float:
        """What was really sent (RFC 2285 §3.5.2)."""
        return self.sent_frames / self.sending_s if self.sending_s else 0.0

    @property
    def forwarding_rate_fps(self) -> float:
        """What the device delivered of it (RFC 2285 §3.6.1)."""
        return self.received_frames / self.sending_s if self.sending_s else 0.0


@dataclass(frozen=True, slots=True)
class StepResult(FrameCounts):
    """What became of the frames that were sent in one step of a trial, whenever they came."""

    delay: DelaySummary | None = None


StampedBy = Literal["batch", "frame", "driver", "card", "model"]
"""Whose transmit stamps delays are by: the sender's of each batch, of which the first frame counts; the kernel's of
every frame as it leaves; the driver's or the cards' of some frames; nobody's, in a model."""


@dataclass(frozen=True, slots=True)
class FrameDirectionResult(FrameCounts):
    """What became of one direction. Frames are this trial's own.

    `steps` has one entry for each step of a trial with more than one. `last_loss_s` is when, after the start, the last
    frame that was lost had been sent; `longest_gap_s` the longest time between two frames that came. `looped_frames`
    came back to the port that had sent them, `foreign_frames` were on the receiving port and not of this trial. Frames
    that came in `fragments`, with a wrong length or with an altered content are lost ones; the content of one frame in
    `read_one_in` was checked. `join_delay_s` is from the word that joined the groups in mid-trial to the first frame,
    below zero where frames came before; `leave_delay_s` from the word that left them to the last. `clock_error_s` is
    how wrong delays by two clocks may be; None where they are by one. Delays are by the stamps that `stamped_by` names.
    """

    direction: str
    duplicates: int = 0
    reordered: int = 0
    steps: list[StepResult] = field(default_factory=list)
    delay: DelaySummary | None = None
    tagged_delays_s: list[float] = field(default_factory=list)
    last_loss_s: float | None = None
    longest_gap_s: float = 0.0
    looped_frames: int = 0
    foreign_frames: int = 0
    fragments: int = 0
    wrong_length_frames: int = 0
    altered_frames: int = 0
    read_one_in: int = 1
    tester: TesterHealth = TesterHealth()
    clock_error_s: float | None = None
    join_delay_s: float | None = None
    leave_delay_s: float | None = None
    stamped_by: StampedBy = "batch"

    @property
    def known_delay(self) -> DelaySummary | None:
        """The delay, if frames took so long that what it may be wrong by is the smaller part of it."""
        return self.delay if self.delay and self.delay.median_s >= (self.clock_error_s or 0.0) else None

    @property
    def corrupted_frames(self) -> int:
        """Frames that came, and not as they were sent."""
        return self.fragments + self.wrong_length_frames + self.altered_frames


def progress_samples(
    direction: str, at_s: float, sent_frames: int, received_frames: int, delay_s: float | None
) -> list[Sample]:
    """How far a direction has come: frames since the start of the trial, and their delay just now."""
    values = {SENT_FRAMES: sent_frames, RECEIVED_FRAMES: received_frames} | ({FRAME_DELAY: delay_s} if delay_s else {})
    return [Sample(round(at_s, 9), "near", key, value, {"direction": direction}) for key, value in values.items()]


@dataclass(frozen=True, slots=True)
class PortTrouble:
    """What went wrong at a port of the tester during a trial: how often it lost its link, a change of its speed, and
    what its driver counted of frames that could not be taken or sent."""

    port: str
    link_losses: int = 0
    speed_change: str = ""
    counts: dict[str, int] = field(default_factory=dict)

    @property
    def spoils(self) -> bool:
        """Whether a trial says nothing any more."""
        return bool(self.link_losses or self.speed_change)

    def __str__(self) -> str:
        times = "once" if self.link_losses == 1 else f"{self.link_losses} times"
        parts = [f"lost its link {times}"] if self.link_losses else []
        parts += [f"changed its speed from {self.speed_change}"] if self.speed_change else []
        counted = ", ".join(f"{key} {count}" for key, count in self.counts.items())
        parts += [f"counted {counted}"] if counted else []
        return f"{self.port} {' and '.join(parts)}"


@dataclass(frozen=True, slots=True)
class FrameTrialResult:
    """What a rig answers to a FrameTrial: one result for each direction of the trial, in the same order, and the ports
    of the tester at which something went wrong."""

    directions: list[FrameDirectionResult]
    kind: Literal["frames"] = "frames"
    ports: list[PortTrouble] = field(default_factory=list)

    @property
    def lost_link(self) -> PortTrouble | None:
        """A port whose link was lost or changed meanwhile, so that the trial says nothing."""
        return next((port for port in self.ports if port.spoils), None)
