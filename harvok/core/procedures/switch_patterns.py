"""Traffic between many ports of a switch at once: what RFC 2889 measures with patterns of streams.

A figure is of the pattern, of one port or of one stream of it, and says so as its direction: `mesh`, `mesh to port2`,
`many-to-one from port2`. Rates are of each port that sends or receives; nothing is added up over ports.
"""

from collections.abc import Callable, Generator, Iterator, Sequence
from dataclasses import replace
from typing import Literal

from harvok.core.ends import Stream
from harvok.core.figures import Figure, counted_share
from harvok.core.procedure import Findings, Procedure
from harvok.core.procedures.frames import (
    TRIES,
    FrameSettings,
    FrameSize,
    intended_frames,
    measured,
    rate_figures,
    shortfall,
    trial,
)
from harvok.core.procedures.latency import latency
from harvok.core.procedures.throughput import FoundThroughput, throughput
from harvok.core.stream_frames import StreamFrames, leaving_share
from harvok.core.trials.frames import FrameTrial, FrameTrialResult, LoadStep
from harvok.core.units import format_share
from harvok.errors import TesterLimitError

Pattern = Literal["mesh", "one-to-many", "many-to-one"]
Trials = Procedure[FrameTrial, FrameTrialResult]

_MAX_LOAD = "100 %"
_FORWARDING_STEPS = 10


def streams_of(pattern: Pattern, ports: Sequence[str]) -> tuple[Stream, ...]:
    """The streams of a pattern: each port to each other, the first to all others, or all others to the first."""
    first, *others = ports
    joined = {
        "mesh": [(one, other) for one in ports for other in ports if one != other],
        "one-to-many": [(first, other) for other in others],
        "many-to-one": [(other, first) for other in others],
    }[pattern]
    return tuple(Stream(f"{pattern}: {one} to {other}", one, other) for one, other in joined)


def measure_pattern(
    pattern: Pattern, settings: FrameSettings, ports: Sequence[str], size: FrameSize, findings: Findings
) -> Trials:
    """The throughput of a pattern, and what comes out where every port that sends does so at line rate (RFC 2889
    §5.1 to §5.4)."""
    with_streams = settings.sending(streams_of(pattern, ports))
    yield from port_throughput(pattern, with_streams, size, findings)
    step, about = LoadStep(with_streams.max_fps(size), settings.full_s), f"{pattern} at {size.name} B, line rate"
    try:
        result = yield from measured(trial(with_streams, size, step, about=about))
    except TesterLimitError as limit:
        findings.notices.append(f"{pattern} at line rate, {size.name} B, is left out: {limit.message}")
        return
    findings.figures.extend(_at_max_load(pattern, with_streams, size, result))


def from_first(what: str, ports: Sequence[str]) -> tuple[Stream, ...]:
    """Streams from the first port to each other one, by the name of the port where each comes out."""
    first, *others = ports
    return tuple(Stream(f"{what} to {other}", first, other) for other in others)


def port_throughput(
    what: str, settings: FrameSettings, size: FrameSize, findings: Findings
) -> Generator[FrameTrial, FrameTrialResult, FoundThroughput]:
    """Searches the throughput of streams, and tells it as the load of each port that sends, all its streams
    together."""
    answer = yield from throughput(settings, size)
    of_a_port = settings.sending((Stream(what, "", ""),))
    mark = answer.figures[0].mark if answer.figures else ""
    per_port_fps = answer.fps * leaving_share(settings.streams, settings.frames_of)
    findings.figures.extend(rate_figures("throughput", per_port_fps, of_a_port, size, mark))
    findings.notices.extend(f"{what}, {remark}" for remark in answer.remarks)
    return answer


def _at_max_load(
    pattern: Pattern, settings: FrameSettings, size: FrameSize, result: FrameTrialResult
) -> Iterator[Figure]:
    """Loss and forwarding rate of each port that receives, or, where that is one, from each port that sends."""
    many_to_one = pattern == "many-to-one"
    port_of: Callable[[Stream], str] = (lambda s: s.source) if many_to_one else (lambda s: s.destination)
    for port in dict.fromkeys(map(port_of, settings.streams)):
        ones = [got for s, got in zip(settings.streams, result.directions, strict=True) if port_of(s) == port]
        direction = f"{pattern} {'from' if many_to_one else 'to'} {port}"
        labels = {"direction": direction, "frame-size": size.name, "load": _MAX_LOAD}
        sent, received = sum(one.sent_frames for one in ones), sum(one.received_frames for one in ones)
        yield counted_share("frame-loss", sent - received, sent, labels)
        yield Figure("forwarding-rate", sum(one.forwarding_rate_fps for one in ones), labels)


def congestion(settings: FrameSettings, ports: Sequence[str], size: FrameSize, findings: Findings) -> Trials:
    """Two ports send at line rate, the first half to a port of its own, the rest of both to one that so gets 150 %
    (RFC 2889 §5.5). What the port that is not congested loses is head-of-line blocking; where the senders are held
    back, that is back pressure. Needs four ports."""
    one, two, free, congested = ports[:4]
    to_free = Stream(f"congestion: {one} to {free}", one, free)
    halves = Stream(f"congestion: {one} to {congested}", one, congested)
    whole = Stream(f"congestion: {two} to {congested}", two, congested)
    half = StreamFrames(load_share=0.5)
    crossing = replace(settings, streams=(to_free, halves, whole), frames_of={to_free.name: half, halves.name: half})
    wanted = trial(
        crossing, size, LoadStep(crossing.max_fps(size), settings.full_s), about=f"congestion at {size.name} B"
    )
    result = yield from _held_or_held_back(wanted)
    labels = {"frame-size": size.name}
    uncongested, *others = result.directions
    to_free_port = labels | {"direction": f"congestion to {free}"}
    findings.figures.append(
        counted_share("head-of-line-loss", uncongested.lost_frames, uncongested.sent_frames, to_free_port)
    )
    sent, received = sum(other.sent_frames for other in others), sum(other.received_frames for other in others)
    at_150 = labels | {"direction": f"congestion to {congested}", "load": "150 %"}
    findings.figures.append(counted_share("frame-loss", sent - received, sent, at_150))
    intended = sum(intended_frames(wanted, stream.name) for stream in crossing.streams)
    held_back = max(1 - (uncongested.sent_frames + sent) / intended, 0.0) if _was_held_back(wanted, result) else 0.0
    findings.figures.append(Figure("back-pressure", held_back, labels | {"direction": "congestion"}))


_MOSTLY = 0.8
"""Of the time that is missing: where the port gave back no slot of the ring for so long, it was held back."""


def _held_or_held_back(wanted: FrameTrial) -> Generator[FrameTrial, FrameTrialResult, FrameTrialResult]:
    """A trial in which the tester did its part, or was kept from it by its ports alone. Raises TesterLimitError."""
    for _ in range(TRIES):
        result = yield wanted
        if not any(shortfall(wanted, one) for one in result.directions) or _was_held_back(wanted, result):
            return result
    return (yield from measured(wanted))


def _was_held_back(wanted: FrameTrial, result: FrameTrialResult) -> bool:
    """Whether ports of the tester were paused, as a device does with back pressure (IEEE 802.3 Annex 31B)."""
    missing = max(1 - one.sent_frames / max(intended_frames(wanted, one.direction), 1) for one in result.directions)
    missing_s = missing * wanted.duration_s
    held_back_s = max(one.tester.held_back_s for one in result.directions)
    return missing_s > 0.01 * wanted.duration_s and held_back_s > _MOSTLY * missing_s


def max_forwarding_rate(settings: FrameSettings, ports: Sequence[str], size: FrameSize, findings: Findings) -> Trials:
    """The highest forwarding rate at any load from the throughput to line rate, one way between two ports, and that at
    line rate (RFC 2889 §5.6, RFC 2285 §3.6.3). Gaps below 96 bit times, which §5.6 wants of forward pressure, no card
    sends."""
    name = "max-forwarding-rate"
    one_way = settings.sending((Stream(f"{name}: {ports[0]} to {ports[1]}", ports[0], ports[1]),))
    answer = yield from throughput(one_way, size)
    line_fps, best_fps, best_load_fps, at_line = one_way.max_fps(size), answer.fps, answer.fps, None
    step_fps = (line_fps - answer.fps) / _FORWARDING_STEPS
    for number in range(1, _FORWARDING_STEPS + 1) if step_fps > settings.resolution * line_fps / 10 else ():
        load_fps = answer.fps + number * step_fps
        about = f"{name} at {size.name} B, {format_share(load_fps / line_fps)} of line rate"
        try:
            result = yield from measured(trial(one_way, size, LoadStep(load_fps, settings.full_s), about=about))
        except TesterLimitError as limit:
            findings.notices.append(f"{about} is left out: {limit.message}")
            continue
        forwarded_fps = result.directions[0].forwarding_rate_fps
        at_line = result.directions[0] if number == _FORWARDING_STEPS else None
        if forwarded_fps > best_fps:
            best_fps, best_load_fps = forwarded_fps, load_fps
    labels = {"direction": f"{ports[0]} to {ports[1]}", "frame-size": size.name}
    findings.figures.append(Figure(name, best_fps, labels))
    findings.figures.append(Figure("max-forwarding-load", best_load_fps / line_fps, labels))
    if at_line:
        findings.figures.append(Figure("forwarding-rate", at_line.forwarding_rate_fps, labels | {"load": _MAX_LOAD}))


def broadcast(settings: FrameSettings, ports: Sequence[str], size: FrameSize, findings: Findings) -> Trials:
    """The highest load of broadcast frames of which every other port gets all, and their delay at it (RFC 2889 §5.10,
    §5.11)."""
    to_all = settings.sending(from_first("broadcast", ports), StreamFrames(cast="broadcast"))
    answer = yield from port_throughput("broadcast", to_all, size, findings)
    yield from delays_at("broadcast", to_all, size, answer.fps, findings)


def delays_at(what: str, settings: FrameSettings, size: FrameSize, load_fps: float, findings: Findings) -> Trials:
    """Delays of all streams at a load, if there is any; left out and named where the tester could not hold it."""
    if load_fps <= 0:
        return
    try:
        delays = yield from latency(settings, size, load_fps, findings.notices, stream_s=2 * settings.full_s)
        findings.figures.extend(delays)
    except TesterLimitError as limit:
        findings.notices.append(f"delay of {what} at {size.name} B is left out: {limit.message}")
