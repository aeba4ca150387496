"""A stream that is carried by several senders and receivers at once, where one core cannot fill the port: each lane is
a stream of its own to the workers, with an equal share of the load and a number of its own, and all are one again in
the result."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass, fields, replace
from itertools import accumulate

from harvok.core.ends import MAX_STREAMS, Stream
from harvok.core.stream_frames import StreamFrames
from harvok.core.trials.frames import DelaySummary, FrameDirectionResult, FrameTrial, TesterHealth
from harvok.traffic.frames import Pair, Reports
from harvok.traffic.stream_filter import MAX_LANES

_ONE_CORE_FPS = 1_000_000
"""What one sender holds at any frame size on an ordinary core."""
_MERGED_RESOLUTION = 2 ** (1 / 8) - 1
"""Of percentiles over several lanes: a record keeps eight bins a doubling of each."""


@dataclass(frozen=True, slots=True)
class LanesTrial:
    """A trial as its workers carry it out. `stream_of` says which stream of the trial that was asked for each of its
    streams is a lane of."""

    trial: FrameTrial
    stream_of: Sequence[int]
    each: int


class LaneCounts:
    """How far the lanes of each stream are, added up while frames flow."""

    def __init__(self, lanes: LanesTrial) -> None:
        self._stream_of = lanes.stream_of
        self._counts: dict[int, tuple[int, int]] = {}

    def take(self, lane: int, sent: int, received: int) -> tuple[int, int, int]:
        """Takes what one lane has come to: the number of its stream, and what that has sent and received in all."""
        stream, self._counts[lane] = self._stream_of[lane], (sent, received)
        ours = [counts for number, counts in self._counts.items() if self._stream_of[number] == stream]
        return stream, sum(sent for sent, _ in ours), sum(received for _, received in ours)


def lanes_for(trial: FrameTrial, wanted: int | None, cores: int) -> int:
    """How many lanes each stream has: as many as are wanted, else as its load needs and cores allow. One where frames
    follow a plan over all of them: bursts, steps, tagged frames, copies."""
    copied = any(trial.frames(stream.name).cast != "unicast" for stream in trial.streams)
    if copied or trial.burst_frames > 1 or len(trial.steps) > 1 or trial.tag_at_s is not None:
        return 1
    streams, (step,) = len(trial.streams), trial.steps
    needed = max(-(-trial.load_of(stream.name, step) // _ONE_CORE_FPS) for stream in trial.streams)
    most = min(MAX_LANES, MAX_STREAMS // streams)
    return max(min(wanted or min(int(needed), cores // (2 * streams)), most), 1)


def in_lanes(trial: FrameTrial, each: int) -> LanesTrial:
    """The trial with each stream in lanes."""
    if each == 1:
        return LanesTrial(trial, range(len(trial.streams)), 1)
    streams, frames_of, stream_of = list[Stream](), dict[str, StreamFrames](), list[int]()
    for number, stream in enumerate(trial.streams):
        own = trial.frames(stream.name)
        for lane in range(1, each + 1):
            streams.append(replace(stream, name=f"{stream.name}, lane {lane}"))
            frames_of[streams[-1].name] = replace(own, load_share=own.load_share / each)
            stream_of.append(number)
    return LanesTrial(replace(trial, streams=tuple(streams), frames_of=frames_of), stream_of, each)


def with_shared_receivers(pairs: Sequence[Pair], each: int, draw: Callable[[], int]) -> list[Pair]:
    """The orders, with the numbers of streams that lanes of one stream have: they follow one upon another, so that the
    kernel can spread the frames of a port over its receivers by them."""
    if each == 1:
        return list(pairs)
    changed = []
    for number, pair in enumerate(pairs):
        lane = number % each
        if lane == 0:
            first, group = draw() // MAX_LANES * MAX_LANES, draw() & 0xFFFF
        send = replace(pair.send, stream=first + lane, sample_by="")
        receive = replace(pair.receive, stream=first + lane, lanes=each, group=group, sample_by="")
        changed.append(replace(pair, send=send, receive=receive))
    return changed


def by_lane(pairs: Sequence[Pair], reports: Sequence[Reports], each: int) -> list[Reports]:
    """The reports, each with that of the receiver which really got the frames of its sender: the kernel says to none of
    them beforehand which lane will be its own."""
    if each == 1:
        return list(reports)
    sorted_out = []
    for at in range(0, len(pairs), each):
        ours = reports[at : at + each]
        heard = {report.received.stream: report.received for report in ours if report.received.received}
        silent = iter([report.received for report in ours if not report.received.received])
        for pair, report in zip(pairs[at : at + each], ours, strict=True):
            sorted_out.append(replace(report, received=heard.get(pair.send.stream) or next(silent)))
    return sorted_out


def merged(asked: FrameTrial, lanes: LanesTrial, results: Sequence[FrameDirectionResult]) -> list[FrameDirectionResult]:
    """The results of the streams that were asked for."""
    if lanes.each == 1:
        return list(results)
    return [
        _merged(stream.name, [one for one, of in zip(results, lanes.stream_of, strict=True) if of == number])
        for number, stream in enumerate(asked.streams)
    ]


_SUMS = (
    "received_frames", "duplicates", "reordered", "looped_frames", "fragments", "wrong_length_frames", "altered_frames",
)  # fmt: skip


def _merged(name: str, lanes: Sequence[FrameDirectionResult]) -> FrameDirectionResult:
    """Lanes that ran side by side as one: frames and rates add up, faults of the tester are the worst of any."""
    sent, load_fps = sum(one.sent_frames for one in lanes), sum(one.offered_load_fps for one in lanes)
    last_losses_s = [one.last_loss_s for one in lanes if one.last_loss_s is not None]
    return replace(
        lanes[0],
        direction=name,
        sent_frames=sent,
        sending_s=sent / load_fps if load_fps else 0.0,
        **{key: sum(getattr(one, key) for one in lanes) for key in _SUMS},
        delay=merged_delays([one.delay for one in lanes if one.delay]),
        last_loss_s=max(last_losses_s, default=None),
        longest_gap_s=min(one.longest_gap_s for one in lanes),
        foreign_frames=max(one.foreign_frames for one in lanes),
        tester=_worst([one.tester for one in lanes]),
    )


def _worst(lanes: Sequence[TesterHealth]) -> TesterHealth:
    worst = {field.name: max(getattr(one, field.name) for one in lanes) for field in fields(TesterHealth)}
    return TesterHealth(**worst | {"ring_drops": sum(one.ring_drops for one in lanes)})


def merged_delays(lanes: Sequence[DelaySummary]) -> DelaySummary | None:
    """The delays of several lanes as one; percentiles are read from what their records keep of the distributions."""
    if len(lanes) < 2:
        return lanes[0] if lanes else None
    counted = sum(one.counted for one in lanes)
    bins: dict[float, int] = {}
    for one in lanes:
        for edge_s, frames in one.distribution:
            bins[edge_s] = bins.get(edge_s, 0) + frames
    distribution = sorted(bins.items())

    def mean(key: str) -> float:
        return float(sum(getattr(one, key) * one.counted for one in lanes)) / counted

    min_s, max_s = min(one.min_s for one in lanes), max(one.max_s for one in lanes)

    def quantile_s(share: float) -> float:
        reached = accumulate(frames for _, frames in distribution)
        edge_s = next(edge for (edge, _), upto in zip(distribution, reached, strict=True) if upto >= share * counted)
        return min(max(edge_s / (1 + _MERGED_RESOLUTION / 2), min_s), max_s)

    return DelaySummary(
        counted=counted,
        min_s=min_s,
        mean_s=mean("mean_s"),
        median_s=quantile_s(0.5),
        p999_s=quantile_s(0.999),
        max_s=max_s,
        jitter_s=mean("jitter_s"),
        resolution=_MERGED_RESOLUTION,
        distribution=distribution,
    )
