"""Checks that a box which is set to delay and lose frames delays and loses as many as it says, for every frame size."""

from dataclasses import dataclass, replace
from typing import Literal

from harvok.core.figures import Figure, counted_share
from harvok.core.impairment import Impairment, Stage
from harvok.core.procedure import Context, Findings, Procedure
from harvok.core.procedures.frames import FrameSettings, FrameSize, measured, trial
from harvok.core.procedures.throughput import throughput
from harvok.core.trials.frames import FrameDirectionResult, FrameTrial, FrameTrialResult, LoadStep
from harvok.errors import TesterLimitError

_OF_THE_RATE = 0.5


@dataclass(frozen=True, slots=True)
class EmulatorTest:
    """What to check: what the emulator is `set_to`, at `load_fps`, or half of its rate where that is less. A delay may
    be off by `tolerance_s`."""

    set_to: Stage
    sizes: tuple[FrameSize, ...]
    settings: FrameSettings
    load_fps: float = 1000.0
    tolerance_s: float = 100e-6
    kind: Literal["emulator"] = "emulator"

    @property
    def title(self) -> str:
        """What a list of runs shows."""
        return "emulator check"

    @property
    def expected_s(self) -> float:
        """How long it should take, in seconds."""
        once_s = self.settings.full_s + self.settings.pause_s
        searched = any(one.rate_bps for one in (self.set_to.send, self.set_to.receive))
        return len(self.sizes) * len(self.settings.streams) * once_s * (4 if searched else 1)


def emulator_check(test: EmulatorTest, context: Context, findings: Findings) -> Procedure[FrameTrial, FrameTrialResult]:
    """Takes one trial below the emulator's rate for each size and direction, and searches the rate where one is set."""
    for size in test.sizes:
        for stream in test.settings.streams:
            set_to = test.set_to.of(stream.name)
            settings = replace(test.settings, streams=(stream,), loss_tolerance=_tolerance(set_to))
            load_fps = _load_fps(test, set_to, size)
            step = LoadStep(load_fps, settings.full_s)
            about = f"delay and loss at {size.name} B"
            try:
                result = yield from measured(trial(settings, size, step, about=about))
                labels: dict[str, str] = {"frame-size": size.name, "direction": stream.name}
                findings.figures.extend(_figures(result.directions[0], labels))
                if set_to.rate_bps:
                    found = (yield from throughput(settings, size)).fps
                    carried = found * size.mean_bytes * 8
                    findings.figures.append(Figure("throughput-l2", carried, labels))
            except TesterLimitError as limit:
                findings.notices.append(f"{size.name} B ({stream.name}) is left out: {limit.message}")


def _tolerance(set_to: Impairment) -> float:
    """Loss that the search of the rate must let pass, since it was asked for: half as much again, and a little."""
    return min((set_to.loss + set_to.burst_loss) * 1.5 + 0.0005, 0.5)


def _load_fps(test: EmulatorTest, set_to: Impairment, size: FrameSize) -> float:
    if not set_to.rate_bps:
        return test.load_fps
    return min(test.load_fps, _OF_THE_RATE * set_to.rate_bps / (8 * size.mean_bytes))


def _figures(result: FrameDirectionResult, labels: dict[str, str]) -> list[Figure]:
    figures = [
        counted_share("frame-loss", result.lost_frames, result.sent_frames, labels),
        Figure("frames-sent", float(result.sent_frames), labels),
    ]
    if result.delay:
        figures += [
            Figure("latency-median", result.delay.median_s, labels),
            Figure("latency-mean", result.delay.mean_s, labels),
            Figure("latency-p999", result.delay.p999_s, labels),
            Figure("latency-min", result.delay.min_s, labels),
        ]
    return figures
