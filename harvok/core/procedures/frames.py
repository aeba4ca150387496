"""What all frame-level procedures share: what they send, and the rule that a trial must be the tester's best."""

from collections.abc import Generator, Iterator, Sequence
from dataclasses import dataclass, field, replace
from typing import Literal, Protocol

from harvok.core.ends import SEND, Stream
from harvok.core.ethernet import LINE_OVERHEAD_BYTES, VLAN_TAG_BYTES
from harvok.core.figures import Figure, Mark, counted_share
from harvok.core.procedure import Test
from harvok.core.procedures.search import step_at
from harvok.core.stream_frames import PLAIN, StreamFrames, arriving_share, leaving_share
from harvok.core.trials.frames import FrameDirectionResult, FrameTrial, FrameTrialResult, LoadStep, allowance_s
from harvok.errors import PortError, TesterLimitError

Trials = Generator[FrameTrial, FrameTrialResult, FrameTrialResult]

TRIES = 3
"""Of a trial in which the tester fell short: one may be chance, three are this host."""
MAX_TRIES, RETRY_BUDGET_S = 8, 10.0
"""Where it falls short by little, a neighbour on a shared host is in the way, and neighbours come and go: such a trial
is repeated for ten seconds, with growing pauses, before a search tries a lower load."""
NEARLY = 0.9
"""Of the intended load. A tester that holds less of it every time is not disturbed but too slow."""
NEAR_THE_TESTERS = 0.95
"""Of the tester's own limit: a figure above is the tester's as much as the device's. The
limit is known to the 2 % that a calibration resolves, and varies with what else the host does."""
_FIRST_BACK_OFF_S, _MAX_BACK_OFF_S = 0.25, 1.0  # after the second try, and twice as much after each further one
USUAL_AGING_S = 300.0  # IEEE 802.1Q §8.8.3
FINAL_PAUSE_S = 7.0  # RFC 2544 §23: 2 s for frames in flight, 5 s for the device to settle
STEERING_PAUSE_S = 1.0  # after short trials, which only steer


def short_trial_s(full_s: float) -> float:
    """How long trials are that only steer a search: a sixtieth of the full length, half a second at least, since below
    that one stall of the host decides the trial, and two seconds at most."""
    return min(max(full_s / 60, 0.5), 2.0, full_s)


@dataclass(frozen=True, slots=True)
class FrameSettings:
    """What every trial of a test has in common. `line_bps` is the rated speed of the ports; `loss_tolerance` the share
    of frames that may be lost in a trial that passes: 0 is RFC 2544's throughput. `aging_s` is for how long the device
    keeps an address that says nothing. `tester_fps` is the calibrated limit
    of the tester by frame size, `tester_delay_s` its own median delay; empty when it was not calibrated."""

    line_bps: float
    streams: tuple[Stream, ...] = (SEND,)
    frames_of: dict[str, StreamFrames] = field(default_factory=dict)
    ip_version: Literal[4, 6] | None = 4
    address_pairs: int = 1
    burst_frames: int = 1
    loss_tolerance: float = 0.0
    full_s: float = 60.0
    short_s: float = 1.0
    resolution: float = 0.001
    guided: bool = True
    pause_s: float = FINAL_PAUSE_S
    aging_s: float = USUAL_AGING_S
    tester_fps: dict[str, float] = field(default_factory=dict)
    tester_delay_s: dict[str, float] = field(default_factory=dict)

    def max_fps(self, size: "FrameSize") -> float:
        """The highest load of one stream: line rate, divided among the streams that leave one port."""
        return size.line_fps(self.line_bps) / leaving_share(self.streams, self.frames_of)

    def frames(self, stream: str) -> StreamFrames:
        """What the frames of a stream have of their own."""
        return self.frames_of.get(stream, PLAIN)

    def words_of(self, stream: Stream) -> str:
        """A stream as people read it, with what its frames have of their own."""
        own = str(self.frames(stream.name))
        return f"{stream.name} ({own})" if own else stream.name

    def max_carried_fps(self, size: "FrameSize") -> float:
        """The highest load that can come out without loss: line rate, divided among the streams that leave or reach
        one port."""
        return min(self.max_fps(size), size.line_fps(self.line_bps) / arriving_share(self.streams, self.frames_of))

    def sending(self, streams: tuple[Stream, ...], frames: StreamFrames = PLAIN) -> "FrameSettings":
        """The same with other streams, all with the same kind of frames."""
        frames_of = {} if frames == PLAIN else {stream.name: frames for stream in streams}
        return replace(self, streams=streams, frames_of=frames_of)

    @property
    def uncalibrated(self) -> "FrameSettings":
        """The settings without what the tester can do, for tests of other streams than it was calibrated with."""
        return replace(self, tester_fps={})

    @property
    def steering_pause_s(self) -> float:
        """The pause after trials that only steer."""
        return min(self.pause_s, STEERING_PAUSE_S)

    @property
    def trial_s(self) -> float:
        """How long a trial that counts takes, with its pause."""
        return self.full_s + self.pause_s

    @property
    def search_s(self) -> float:
        """About how long a search for a throughput takes."""
        if not self.guided:
            return 11 * self.trial_s
        return 2 * self.trial_s + 4 * (self.short_s + self.steering_pause_s)


@dataclass(frozen=True, slots=True)
class FrameSize:
    """A frame size, or a mix: its name as shown, and the sizes that are sent in turn."""

    name: str
    sizes: tuple[int, ...]

    @property
    def mean_bytes(self) -> float:
        return sum(self.sizes) / len(self.sizes)

    def line_fps(self, line_bps: float) -> float:
        """The theoretical maximum frame rate (RFC 2544 §20)."""
        return line_bps / (8 * (self.mean_bytes + LINE_OVERHEAD_BYTES))


@dataclass(frozen=True, slots=True)
class FramesSent:
    """What ports have to carry for a test: the sizes of its frames in bytes, tags counted but the one for which every
    port has room, and how many pairs of addresses they have."""

    sizes: Sequence[int]
    pairs: int


class FramesTest(Test, Protocol):
    """A test that sends frames between two ports."""

    @property
    def sizes(self) -> tuple[FrameSize, ...]: ...

    @property
    def settings(self) -> FrameSettings: ...


def frames_sent(test: FramesTest) -> FramesSent:
    """The frames that the trials of a test send, as far as its sizes and streams tell."""
    plain = [size_bytes for size in test.sizes for size_bytes in size.sizes]
    own = [
        size_bytes + VLAN_TAG_BYTES * max(len(frames.vlans) - 1, 0)
        for frames in test.settings.frames_of.values()
        for size_bytes in frames.sizes(plain)
    ]
    return FramesSent([*plain, *own], test.settings.address_pairs)


def trial(
    settings: FrameSettings, size: FrameSize, *steps: LoadStep, pause_s: float | None = None, about: str = ""
) -> FrameTrial:
    """A trial with the settings of the test; the pause after it is that of a final trial unless given."""
    return FrameTrial(
        frame_sizes=size.sizes,
        steps=steps,
        streams=settings.streams,
        frames_of=settings.frames_of,
        ip_version=settings.ip_version,
        address_pairs=settings.address_pairs,
        burst_frames=settings.burst_frames,
        pause_s=settings.pause_s if pause_s is None else pause_s,
        about=about,
    )


def measured(wanted: FrameTrial) -> Trials:
    """Runs a trial until the tester did its part and its links stood. Raises TesterLimitError when the tester fell
    short again and again, and PortError when a link was lost in every try.

    A trial in which the tester fell short is no loss of the device's, and counts for nothing.
    """
    fault, held, again, tries, link_losses = "", 0.0, wanted, 0, 0
    while tries < _max_tries(wanted, held):
        result, tries = (yield again), tries + 1
        if port := result.lost_link:
            link_losses += 1
            if link_losses == TRIES:
                raise PortError(
                    f"{port} in a trial, and so in each of {TRIES} tries",
                    f"Check lead, transceivers and speed settings of {port.port}; `harvok ports watch` shows when its "
                    "link goes.",
                )
            tries = 0
            continue
        fault = next((why for direction in result.directions if (why := shortfall(wanted, direction))), "")
        if not fault:
            return result
        held = max(held, held_share(wanted, result))
        again = replace(wanted, pause_s=wanted.pause_s + min(_FIRST_BACK_OFF_S * 2 ** (tries - 1), _MAX_BACK_OFF_S))
    raise TesterLimitError(
        f"the tester fell short {tries} times: {fault}; it held {held:.1%} of the load at most",
        "`harvok calibrate` shows what this tester can do; test at a lower load or on a faster host.",
        held,
    )


def _max_tries(wanted: FrameTrial, held: float) -> int:
    if held < NEARLY:
        return TRIES
    return max(TRIES, min(MAX_TRIES, int(RETRY_BUDGET_S / (wanted.duration_s + wanted.pause_s))))


def held_share(wanted: FrameTrial, result: FrameTrialResult) -> float:
    """How much of the intended load was offered, in the direction that got least of it."""
    return min(one.sent_frames / max(intended_frames(wanted, one.direction), 1.0) for one in result.directions)


def intended_frames(wanted: FrameTrial, direction: str) -> float:
    """How many frames a trial is to send in a direction."""
    return sum(wanted.load_of(direction, step) * step.duration_s for step in wanted.steps)


def shortfall(wanted: FrameTrial, got: FrameDirectionResult) -> str:
    """What the tester did wrong; empty when nothing."""
    intended, health = intended_frames(wanted, got.direction), got.tester
    allowed_s = allowance_s(wanted.duration_s)
    slack = max(allowed_s * intended / wanted.duration_s, len(wanted.steps) * health.batch_frames, 1.0)
    if abs(got.sent_frames - intended) > slack:
        return f"it sent {got.sent_frames} frames of {intended:.0f} intended ({got.direction})"
    if dropped := _dropped(got):
        return dropped
    if health.longest_stall_s > allowed_s:
        return f"it stalled for {health.longest_stall_s * 1e3:.0f} ms ({got.direction})"
    return ""


def _dropped(got: FrameDirectionResult) -> str:
    """What the tester received and lost itself, or lost count of; empty when nothing."""
    if got.tester.lost_count:
        return f"{got.tester.lost_count} ({got.direction})"
    if got.tester.ring_drops:
        return f"its receive ring dropped {got.tester.ring_drops} frames ({got.direction})"
    if got.tester.kernel_drops and got.lost_frames:
        return f"this host's kernel dropped {got.tester.kernel_drops} frames of its own ({got.direction})"
    return ""


def port_words(result: FrameTrialResult) -> str:
    """What went wrong at the tester's ports, to stand beside a result; empty when nothing did."""
    return "; ".join(map(str, result.ports))


def step_faults(wanted: FrameTrial, result: FrameTrialResult) -> list[str]:
    """What the tester did wrong in each step of a trial with several; empty where nothing. What its rings or kernel
    dropped may have been of any step."""
    dropped = next((why for direction in result.directions if (why := _dropped(direction))), "")
    return [dropped or _step_fault(wanted, number, result) for number in range(len(wanted.steps))]


def _step_fault(wanted: FrameTrial, number: int, result: FrameTrialResult) -> str:
    step = wanted.steps[number]
    for direction in result.directions:
        load_fps, sent = wanted.load_of(direction.direction, step), direction.steps[number].sent_frames
        intended = load_fps * step.duration_s
        if abs(sent - intended) > max(allowance_s(step.duration_s) * load_fps, direction.tester.batch_frames, 1.0):
            return f"it sent {sent} frames of {intended:.0f} intended ({direction.direction})"
    return ""


def lossless(result: FrameTrialResult, tolerance: float) -> bool:
    """Whether no direction lost more than the tolerance."""
    return all(direction.loss <= tolerance for direction in result.directions)


def rate_figures(
    quantity: str, load_fps: float, settings: FrameSettings, size: FrameSize, mark: Mark = ""
) -> Iterator[Figure]:
    """A frame rate that a search found, with what it means on the line: share of line rate, L1 and L2 rate; one set for
    each direction. Nothing is higher than line rate, so that one found there is as exact as it is."""
    line_fps = size.line_fps(settings.line_bps)
    may_be_more_fps = max(settings.max_carried_fps(size) - load_fps, 0.0)
    open_share = min(step_at(load_fps, settings.resolution * line_fps), may_be_more_fps) / max(load_fps, 1e-9)
    for stream in settings.streams:
        labels: dict[str, str] = {"direction": stream.name, "frame-size": size.name}
        frames = settings.frames(stream.name)
        stream_fps, frame_bytes = frames.load_fps(load_fps, size.sizes), frames.mean_bytes(size.sizes)
        line_bits = (frame_bytes + LINE_OVERHEAD_BYTES) * 8
        scales = {"": 1.0, "-share": line_bits / settings.line_bps, "-l1": line_bits, "-l2": frame_bytes * 8}
        for suffix, scale in scales.items():
            yield Figure(f"{quantity}{suffix}", value := stream_fps * scale, labels, mark, value * open_share)


def order_figures(result: FrameTrialResult, size: FrameSize, load: str = "") -> Iterator[Figure]:
    """What a device did to frames besides losing them, for each direction: duplicates, reordering (RFC 4737) and frames
    that came and not as they were sent, as shares of those that were sent; and frames of others."""
    for direction in result.directions:
        labels: dict[str, str] = {"direction": direction.direction, "frame-size": size.name}
        labels |= {"load": load} if load else {}
        sent = direction.sent_frames
        yield counted_share("frame-duplicates", direction.duplicates, sent, labels)
        yield counted_share("frame-reordered", direction.reordered, sent, labels)
        yield counted_share("frame-corrupted", direction.corrupted_frames, sent, labels)
        yield Figure("frame-foreign", direction.foreign_frames, labels)


def corruption_words(got: FrameDirectionResult) -> str:
    """What came and was not as it was sent, and what it means."""
    of_how_many = f" (one frame in {got.read_one_in} is read)" if got.read_one_in > 1 else ""
    kinds = (
        (got.fragments, "in fragments, though they may not be fragmented: an MTU of the device is too small"),
        (got.wrong_length_frames, "with a wrong length"),
        (got.altered_frames, f"with an altered content{of_how_many}"),
    )
    parts = [f"{frames} {words}" for frames, words in kinds if frames]
    return f"of {got.sent_frames} frames there came " + "; ".join(parts)


def with_tags(wanted: FrameTrial, tag_at_s: float, tags: int) -> FrameTrial:
    """The same trial, with frames reported one by one from `tag_at_s` on."""
    return replace(wanted, tag_at_s=tag_at_s, tags=tags)
