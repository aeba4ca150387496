"""Throughput: the fastest rate at which the device forwards every frame offered (RFC 2544 §26.1).

Where the tester cannot offer line rate, the search goes up to what it can, and says so: a device that passes there may
well do more.
"""

import math
import statistics
from collections.abc import Generator
from dataclasses import dataclass, field

from harvok.core.figures import Figure, Mark
from harvok.core.procedures.frames import (
    NEAR_THE_TESTERS,
    FrameSettings,
    FrameSize,
    corruption_words,
    lossless,
    measured,
    order_figures,
    port_words,
    rate_figures,
    trial,
)
from harvok.core.procedures.search import MAX_RETREATS, Attempt, Outcome, Range, binary, guided, retreat
from harvok.core.trials.frames import OFFERED_TOLERANCE, FrameDirectionResult, FrameTrial, FrameTrialResult, LoadStep
from harvok.core.units import format_frame_rate, format_share, format_span
from harvok.errors import TesterLimitError


@dataclass(slots=True)
class _Spent:
    """What a search used, and what was really offered in each trial that passed."""

    trials: int = 0
    time_s: float = 0.0
    offered_fps: dict[float, float] = field(default_factory=dict)
    lossy_fps: float = math.inf
    """The lowest load that the tester held and the device did not carry."""
    passed: dict[float, FrameTrialResult] = field(default_factory=dict)
    """The full-length trials that passed, by their intended load."""
    losses: list[tuple[float, float, int]] = field(default_factory=list)
    """(load, share lost, frames lost) of every trial that lost anything."""
    found: float = 0.0
    """The intended load of the trial that is the answer."""
    corrupted: FrameDirectionResult | None = None
    """Where the most frames came that were not as they were sent."""

    ports: str = ""
    """What the tester's own ports counted in the latest trial in which they counted anything."""

    filling: tuple[float, float] = (0.0, 0.0)
    """The highest load under which a queue grew till the end, and by how much it was more than was carried."""

    def note(self, result: FrameTrialResult) -> None:
        self.ports = port_words(result) or self.ports
        worst = max(result.directions, key=lambda one: one.corrupted_frames)
        if worst.corrupted_frames > (self.corrupted.corrupted_frames if self.corrupted else 0):
            self.corrupted = worst


@dataclass(frozen=True, slots=True)
class FoundThroughput:
    """A throughput in frames/s, its figures, and what a person should know of it."""

    fps: float
    figures: list[Figure]
    remarks: list[str]


def throughput(settings: FrameSettings, size: FrameSize) -> Generator[FrameTrial, FrameTrialResult, FoundThroughput]:
    """Searches the throughput for one frame size. Both directions at once are offered the same load, and the trial
    passes when neither loses.

    Raises TesterLimitError when the tester could not hold any load steadily.
    """
    line = settings.max_carried_fps(size)
    max_fps, spent = min(line, settings.tester_fps.get(size.name, line)), _Spent()
    for tries_left in range(MAX_RETREATS, -1, -1):
        try:
            found = yield from _search(settings, size, max_fps, spent)
            break
        except TesterLimitError as limit:
            if not tries_left:
                raise
            max_fps = retreat(max_fps, limit.held_share)
    mark: Mark = "tester-limit" if _by_tester(settings, size, found, max_fps, spent) else ""
    figures = list(rate_figures("throughput", found, settings, size, mark))
    labels = {"frame-size": size.name}
    used = Figure("search-trials", spent.trials, labels), Figure("search-time", spent.time_s, labels)
    at_it = spent.passed.get(spent.found)
    order = order_figures(at_it, size) if at_it else ()
    return FoundThroughput(found, [*figures, *used, *order], _remarks(settings, size, found, spent))


def _search(
    settings: FrameSettings, size: FrameSize, max_fps: float, spent: _Spent
) -> Generator[FrameTrial, FrameTrialResult, float]:
    """The highest load that passed, as it was really offered."""
    resolution = settings.resolution * size.line_fps(settings.line_bps)
    wanted = Range(max_fps, min(resolution, max_fps / 10), settings.full_s, settings.short_s)
    search = (guided if settings.guided else binary)(wanted)
    try:
        attempt = next(search)
        while True:
            pause_s = settings.pause_s if attempt.duration_s >= settings.full_s else settings.steering_pause_s
            step = LoadStep(attempt.load, attempt.duration_s)
            about = f"throughput at {size.name} B, between {attempt.words}"
            wanted_trial = trial(settings, size, step, pause_s=pause_s, about=about)
            result = yield from measured(wanted_trial)
            spent.trials, spent.time_s = spent.trials + 1, spent.time_s + attempt.duration_s + pause_s
            spent.offered_fps[attempt.load] = _really_offered_fps(wanted_trial, result)
            attempt = search.send(_outcome(settings, attempt, wanted_trial, result, spent))
    except StopIteration as end:
        found: float = end.value
        spent.found = found
        return spent.offered_fps.get(found, found)


def _outcome(
    settings: FrameSettings, attempt: Attempt, wanted: FrameTrial, result: FrameTrialResult, spent: _Spent
) -> Outcome:
    """What a search learns from a trial; everything else that is worth knowing of it goes to `spent`."""
    spent.note(result)
    full = attempt.duration_s >= settings.full_s
    worst = max(result.directions, key=lambda one: one.loss)
    if worst.lost_frames:
        spent.losses.append((attempt.load, worst.loss, worst.lost_frames))
    delivered = (
        min(one.forwarding_rate_fps / wanted.load_of(one.direction, wanted.steps[0]) for one in result.directions)
        * attempt.load
    )
    passed = lossless(result, settings.loss_tolerance)
    if passed and full and attempt.duration_s < RFC_TRIAL_S:
        overload = max(overload_share(direction) for direction in result.directions)
        if overload > OFFERED_TOLERANCE:
            passed, delivered = False, delivered / (1 + overload)
            spent.filling = max(spent.filling, (attempt.load, overload))
    if passed and full:
        spent.passed[attempt.load] = result
    if not passed:
        spent.lossy_fps = min(spent.lossy_fps, spent.offered_fps[attempt.load])
    return Outcome(passed, delivered)


RFC_TRIAL_S = 60.0
"""RFC 2544 §24: what a trial is to last. In one of this length what was not lost was carried, by definition."""
_EVENLY = (0.35, 0.65)
"""Where, between the smallest and the largest delay, median and mean stand when a queue grew steadily: in the middle.
Where it did not, nearly all frames are as fast as the fastest, and single ones late."""
_SMOOTHLY = 0.05
"""Of the growth: what one delay differs from the next by. Those that vary by chance differ by a third of their span."""


def overload_share(direction: FrameDirectionResult) -> float:
    """By how much the load was above what the device carried, though nothing was lost: a queue grew all through the
    trial. The last frame waits for all that was not carried in time, so that the growth of the delay, over the length
    of the trial, is that share. 0 where no queue grew steadily."""
    delay = direction.delay
    if not delay or not direction.sending_s or delay.p999_s <= delay.min_s:
        return 0.0
    span_s = delay.p999_s - delay.min_s
    places = [(value_s - delay.min_s) / span_s for value_s in (delay.median_s, delay.mean_s)]
    if delay.jitter_s > _SMOOTHLY * span_s or not all(_EVENLY[0] <= place <= _EVENLY[1] for place in places):
        return 0.0
    return span_s / direction.sending_s


_FAR_BELOW = 0.5
"""Of the lowest load that was lossy, and of line rate: a device that lacks capacity carries nearly what it delivers."""
_ALIKE = 4.0
"""Times: the shares lost of trials over a range of loads, where chance and not the load decides. A queue that overflows
loses nothing at one load and a tenth at one that is a tenth higher."""
_MIN_LOAD_RANGE = 2.0
_DEAD = 0.5
"""A device that loses this much loses nothing by chance."""
_MIN_LOST = 10
"""Frames: the share of fewer says little of the share that chance takes."""


def _remarks(settings: FrameSettings, size: FrameSize, found: float, spent: _Spent) -> list[str]:
    """Says what is no matter of capacity: frames that come corrupted or never, or are lost at any load alike."""
    if spent.ports:
        return [f"{size.name} B: {spent.ports} in a trial: look at that lead and port before the device"]
    if spent.corrupted:
        return [f"{size.name} B, {spent.corrupted.direction}: {corruption_words(spent.corrupted)}"]
    if not found and spent.losses and all(share == 1 for _, share, _ in spent.losses):
        return [f"{size.name} B: not one frame came at any load; is an MTU of the device smaller than the frame?"]
    load, overload = spent.filling
    if found < load:
        return [
            f"{size.name} B: at {format_frame_rate(load)} frames/s nothing was lost in {format_span(settings.full_s)}, "
            f"and a queue grew till the end: {format_share(overload)} more than is carried, so that it does not count; "
            f"trials of {format_span(RFC_TRIAL_S)} (RFC 2544 §24) tell how long it lasts"
        ]
    counted = [(load, share) for load, share, frames in spent.losses if frames >= _MIN_LOST]
    if len(counted) < 2 or found > _FAR_BELOW * settings.max_carried_fps(size):
        return []
    loads, shares = zip(*counted, strict=True)
    if max(loads) < _MIN_LOAD_RANGE * min(loads) or max(shares) > min(_ALIKE * min(shares), _DEAD):
        return []
    median, tolerance = format_share(statistics.median(shares)), format_share(2 * statistics.median(shares))
    return [
        f"{size.name} B: about {median} of the frames are lost at any load, from {format_frame_rate(min(loads))} to "
        f"{format_frame_rate(max(loads))} frames/s: random loss, not a lack of capacity. Look at error counters and "
        f"leads; --loss-tolerance {tolerance.replace(' ', '')} finds the throughput beside it"
    ]


def _by_tester(settings: FrameSettings, size: FrameSize, found: float, max_fps: float, spent: _Spent) -> bool:
    """Whether a figure says more about the tester than about the device: it is near the calibrated limit, or the tester
    could offer no more and the device had lost nothing close above."""
    line = settings.max_carried_fps(size)
    if max_fps >= line or found < NEAR_THE_TESTERS * max_fps:
        return False
    calibrated = settings.tester_fps.get(size.name, line)
    near_calibrated = calibrated < line and found >= NEAR_THE_TESTERS * calibrated
    return near_calibrated or spent.lossy_fps * NEAR_THE_TESTERS > found


def _really_offered_fps(wanted: FrameTrial, result: FrameTrialResult) -> float:
    """The load of a trial in the direction that got least of it; the intended one where not a frame is missing."""
    (step,) = wanted.steps
    shares = [
        min(one.offered_load_fps / load_fps, 1.0)
        for one in result.directions
        if one.sent_frames < (load_fps := wanted.load_of(one.direction, step)) * step.duration_s - 1
    ]
    return step.load_fps * min(shares, default=1.0)
