"""Holds loads, one after the other, and says at each what arrived, what was lost and how long frames took: a ramp."""

from collections import Counter
from collections.abc import Generator, Iterator
from dataclasses import dataclass
from typing import Literal

from harvok.core.figures import Figure
from harvok.core.frame_trial import FrameDirectionResult, FrameTrial, FrameTrialResult, LoadStep
from harvok.core.procedures.frames import FrameFindings, FrameSettings, FrameSize, measured, trial
from harvok.errors import TesterLimitError


@dataclass(frozen=True, slots=True)
class LoadTest:
    """Which loads: shares of the line rate, one trial at each in this order, for every frame size."""

    shares: tuple[float, ...]
    sizes: tuple[FrameSize, ...]
    settings: FrameSettings
    kind: Literal["load"] = "load"

    @property
    def title(self) -> str:
        """What a list of runs shows."""
        return "load" if len(self.shares) == 1 else "load ramp"

    @property
    def expected_s(self) -> float:
        """How long it should take, in seconds."""
        return len(self.sizes) * len(self.shares) * (self.settings.full_s + self.settings.pause_s)


def hold_loads(test: LoadTest, findings: FrameFindings) -> Generator[FrameTrial, FrameTrialResult, None]:
    """Takes one trial at each load. A load that the tester did not hold is left out and named; raises TesterLimitError
    when it held none at all."""
    refused: TesterLimitError | None = None
    for size in test.sizes:
        most_fps = size.line_fps(test.settings.line_bps)
        for share, load in zip(test.shares, _names(test.shares), strict=True):
            step = LoadStep(share * most_fps, test.settings.full_s)
            try:
                result = yield from measured(trial(test.settings, size, step, about=f"{size.name} B at {load}"))
            except TesterLimitError as limit:
                refused = limit
                findings.notices.append(f"{size.name} B at {load} is left out: {limit.message}")
                continue
            for one in result.directions:
                labels = {"direction": one.direction, "frame-size": size.name, "load": load}
                findings.figures.extend(_figures(one, size, labels))
    if refused and not findings.figures:
        raise refused


def _names(shares: tuple[float, ...]) -> Iterator[str]:
    """Each load as figures are labelled; one that comes again, on the way down say, is numbered."""
    seen: Counter[str] = Counter()
    for share in shares:
        name = f"{share * 100:g} %"
        seen[name] += 1
        yield name if seen[name] == 1 else f"{name} ({seen[name]})"


def _figures(result: FrameDirectionResult, size: FrameSize, labels: dict[str, str]) -> Iterator[Figure]:
    yield Figure("offered-load", result.offered_load_fps, labels)
    yield Figure("forwarding-rate", result.forwarding_rate_fps, labels)
    yield Figure("forwarding-rate-l2", result.forwarding_rate_fps * size.mean_bytes * 8, labels)
    yield Figure("frame-loss", result.loss, labels)
    if result.delay:
        yield Figure("latency-least", result.delay.least_s, labels)
        yield Figure("latency-median", result.delay.median_s, labels)
        yield Figure("latency-p999", result.delay.p999_s, labels)
