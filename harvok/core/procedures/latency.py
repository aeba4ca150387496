"""Latency at the throughput of each frame size, in two forms.

Classic (RFC 2544 §26.2): streams of 120 s or more, one tagged frame after 60 s, the mean of 20 repeats or more. Modern
(RFC 8219 §7.2): one such stream with 500 tagged frames or more after 60 s; the median is typical, the 99.9th percentile
the worst case. Every frame is stamped, so least, mean and greatest delay are of all frames.
"""

import statistics
from collections.abc import Collection, Generator, Iterable, Iterator
from typing import Any, Literal

from harvok.core.figures import Figure, Mark
from harvok.core.procedures.frames import FrameSettings, FrameSize, lossless, measured, trial, with_tags
from harvok.core.trials.frames import FrameTrial, FrameTrialResult, LoadStep, StampedBy
from harvok.core.units import format_duration, format_share

Form = Literal["classic", "modern"]

STREAM_S = 120.0
TAG_AT_S = 60.0
CLASSIC_REPEATS = 20
MODERN_TAGS = 500


_DEFINITIONS: dict[StampedBy, str] = {
    "model": "from first bit in to first bit out",
    "batch": "from handing over to the kernel's receive stamp, the tester's own included",
    "frame": "from the kernel's stamp of each frame as it leaves to that as it comes, the tester's own included",
    "driver": "from the driver's stamp of some frames as they leave to the kernel's as they come",
    "card": "from the stamp of the card that sends to that of the card that receives, of some frames",
}


def latency_definition(by: Collection[StampedBy], simulated: bool) -> str:
    """Between which two moments latency is, in tables and plots alike, by whose stamps it is. A model follows bits (RFC
    1242 §3.8); on ports there are the moments that a host or its card can see. Of a record whose trials are no longer
    kept, nobody can tell whose stamps they were."""
    if not by:
        return _DEFINITIONS["model"] if simulated else "by stamps of trials that are not kept"
    return "; ".join(_DEFINITIONS[one] for one in _DEFINITIONS if one in by)


def stamps_of(trials: Iterable[Any]) -> set[StampedBy]:
    """Whose stamps the delays of the trials of a record are by."""
    frames = [one.result for one in trials if isinstance(one.result, FrameTrialResult)]
    return {one.stamped_by for result in frames for one in result.directions if one.delay}


def lateness_words(trials: Iterable[Any]) -> str:
    """How late the tester itself sent, at most, in the trials of a record; empty where it sent nothing."""
    frames = [one.result for one in trials if isinstance(one.result, FrameTrialResult)]
    late_s = max((one.tester.late_p99_s for result in frames for one in result.directions), default=0.0)
    return f"the tester sent up to {format_duration(late_s)} late (99 % of batches)" if late_s else ""


def latency(
    settings: FrameSettings,
    size: FrameSize,
    load_fps: float,
    notices: list[str],
    form: Form = "modern",
    stream_s: float = STREAM_S,
) -> Generator[FrameTrial, FrameTrialResult, list[Figure]]:
    """Delays of one frame size at a load, usually its throughput. Streams shorter than the RFC's tag at half time.

    The delay of a stream that lost frames is that of a full queue, not of the device: the load is lowered until a
    stream is whole, which a remark in `notices` says; figures of one that never was are marked.
    """
    for share in _LOWER:
        results = yield from _streams(settings, size, share * load_fps, form, stream_s)
        whole = all(lossless(result, settings.loss_tolerance) for result in results)
        if whole:
            break
    if share < 1:
        state = (
            f"was measured at {format_share(share)} of the throughput" if whole else "is of streams that lost frames"
        )
        notices.append(f"latency at {size.name} B {state}: at the throughput its streams of {stream_s:g} s lost frames")
    mark: Mark = "" if whole else "lossy"
    notices += _clock_notices(results, size)
    return [figure for n, _ in enumerate(settings.streams) for figure in _figures(results, n, size, mark)]


_LOWER = (1.0, 0.99, 0.95, 0.8)
"""Of the throughput, one after the other: streams are longer than the trials that found it, and a queue that fills
slowly overflows only in them."""


def _streams(
    settings: FrameSettings, size: FrameSize, load_fps: float, form: Form, stream_s: float
) -> Generator[FrameTrial, FrameTrialResult, list[FrameTrialResult]]:
    """The streams of one load, up to the first that lost frames."""
    repeats, tags = (CLASSIC_REPEATS, 1) if form == "classic" else (1, MODERN_TAGS)
    stream = trial(settings, size, LoadStep(load_fps, stream_s), about=f"latency at {size.name} B")
    wanted = with_tags(stream, min(TAG_AT_S, stream_s / 2), tags)
    results: list[FrameTrialResult] = []
    for _ in range(repeats):
        results.append((yield from measured(wanted)))
        if not lossless(results[-1], settings.loss_tolerance):
            break
    return results


def _clock_notices(results: list[FrameTrialResult], size: FrameSize) -> Iterator[str]:
    """How wrong latencies between two hosts may be, or that they are too short to be told."""
    for one in (direction for result in results[-1:] for direction in result.directions if direction.clock_error_s):
        within = format_duration(one.clock_error_s or 0.0)
        if one.known_delay:
            yield f"latency at {size.name} B, {one.direction}, is to ± {within}, by the clocks of two hosts"
        else:
            yield (
                f"latency at {size.name} B, {one.direction}, is below the {within} that the clocks of both hosts may "
                "be apart, and is not told"
            )


def _figures(results: list[FrameTrialResult], number: int, size: FrameSize, mark: Mark) -> list[Figure]:
    ones = [result.directions[number] for result in results]
    labels: dict[str, str] = {"direction": ones[0].direction, "frame-size": size.name}
    tagged = sorted(delay for one in ones for delay in one.tagged_delays_s)
    delays = [delay for one in ones if (delay := one.known_delay)]
    if not tagged or len(delays) < len(ones):
        return []
    values = {
        "latency-tagged-mean": statistics.fmean(tagged),
        "latency-median": statistics.median(tagged),
        "latency-p999": tagged[min(int(len(tagged) * 0.999), len(tagged) - 1)],
        "latency-min": min(tagged[0], *(d.min_s for d in delays)),
        "latency-mean": statistics.fmean(d.mean_s for d in delays),
        "latency-max": max(tagged[-1], *(d.max_s for d in delays)),
        "latency-jitter": statistics.fmean(d.jitter_s for d in delays),
    }
    return [Figure(quantity, value, labels, mark) for quantity, value in values.items()]
