"""Holds loads, one after the other, and says at each what arrived, what was lost and how long frames took: a ramp."""

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Literal

from harvok.core.figures import Figure, Mark, counted_share, numbered
from harvok.core.procedure import Context, Findings, Procedure
from harvok.core.procedures.frames import TRIES, FrameSettings, FrameSize, measured, step_faults, trial
from harvok.core.trials.frames import DelaySummary, FrameCounts, FrameTrial, FrameTrialResult, LoadStep
from harvok.errors import TesterLimitError

Trials = Procedure[FrameTrial, FrameTrialResult]


@dataclass(frozen=True, slots=True)
class LoadTest:
    """Which loads: shares of the line rate in this order, for every frame size. A `continuous` test goes from one to
    the next without a pause, in one trial; else each has a trial of its own, which the device begins with empty
    queues."""

    shares: tuple[float, ...]
    sizes: tuple[FrameSize, ...]
    settings: FrameSettings
    continuous: bool = False
    kind: Literal["load"] = "load"

    @property
    def title(self) -> str:
        """What a list of runs shows."""
        if len(self.shares) == 1:
            return "load"
        return "load ramp, continuous" if self.continuous else "load ramp"

    @property
    def expected_s(self) -> float:
        """How long it should take, in seconds."""
        pauses = 1 if self.continuous else len(self.shares)
        return len(self.sizes) * (len(self.shares) * self.settings.full_s + pauses * self.settings.pause_s)


def hold_loads(test: LoadTest, context: Context, findings: Findings) -> Trials:
    """Holds each load. One that the tester did not hold is left out and named; raises TesterLimitError when it held
    none at all."""
    one_size = _continuously if test.continuous else _one_by_one
    for size in test.sizes:
        yield from one_size(test, size, findings)
    if not findings.figures:
        raise TesterLimitError(
            f"the tester held no load at all: {findings.notices[-1]}",
            "`harvok calibrate` shows what this tester can do; test at a lower load or on a faster host.",
        )


def _one_by_one(test: LoadTest, size: FrameSize, findings: Findings) -> Trials:
    for step, load in zip(_steps(test, size), load_names(test.shares), strict=True):
        try:
            result = yield from measured(trial(test.settings, size, step, about=f"{size.name} B at {load}"))
        except TesterLimitError as limit:
            _leave_out(findings, size, load, limit.message)
            continue
        for direction in result.directions:
            findings.figures.extend(_figures(test, direction, direction.known_delay, size, direction.direction, load))


def _continuously(test: LoadTest, size: FrameSize, findings: Findings) -> Trials:
    """One trial, again when the tester fell short anywhere; of the try that fell short least, what it held counts."""
    names = load_names(test.shares)
    about = f"{size.name} B, {names[0]} to {names[-1]} without a pause"
    wanted = trial(test.settings, size, *_steps(test, size), about=about)
    tries: list[tuple[int, list[str], FrameTrialResult]] = []
    for _ in range(TRIES):
        result = yield wanted
        faults = step_faults(wanted, result)
        tries.append((sum(map(bool, faults)), faults, result))
        if not any(faults):
            break
    _, faults, result = min(tries, key=lambda one: one[0])
    for number, (load, fault) in enumerate(zip(names, faults, strict=True)):
        if fault:
            _leave_out(findings, size, load, f"the tester fell short {TRIES} times: {fault}")
            continue
        for direction in result.directions:
            step = direction.steps[number]
            findings.figures.extend(_figures(test, step, step.delay, size, direction.direction, load))


def _steps(test: LoadTest, size: FrameSize) -> tuple[LoadStep, ...]:
    max_fps = test.settings.max_fps(size)
    return tuple(LoadStep(share * max_fps, test.settings.full_s) for share in test.shares)


def _leave_out(findings: Findings, size: FrameSize, load: str, why: str) -> None:
    findings.notices.append(f"{size.name} B at {load} is left out: {why}")


def load_names(shares: tuple[float, ...]) -> list[str]:
    """Each load as figures are labelled; one may come again, on the way down say."""
    return numbered(f"{share * 100:g} %" for share in shares)


def _figures(
    test: LoadTest, counts: FrameCounts, delay: DelaySummary | None, size: FrameSize, direction: str, load: str
) -> Iterator[Figure]:
    labels: dict[str, str] = {"direction": direction, "frame-size": size.name, "load": load}
    yield Figure("offered-load", counts.offered_load_fps, labels)
    yield Figure("forwarding-rate", counts.forwarding_rate_fps, labels)
    frame_bytes = test.settings.frames(direction).mean_bytes(size.sizes)
    yield Figure("forwarding-rate-l2", counts.forwarding_rate_fps * frame_bytes * 8, labels)
    yield counted_share("frame-loss", counts.lost_frames, counts.sent_frames, labels)
    if delay:
        mark: Mark = "lossy" if counts.lost_frames else ""  # the delay of a full queue, not of the device
        yield Figure("latency-min", delay.min_s, labels, mark)
        yield Figure("latency-median", delay.median_s, labels, mark)
        yield Figure("latency-p999", delay.p999_s, labels, mark)
