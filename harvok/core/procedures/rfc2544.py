"""The RFC 2544 tests of a device, in the RFC's order, for every frame size that was asked for."""

from collections.abc import Callable, Generator
from dataclasses import dataclass
from typing import Literal

from harvok.core.figures import Figure
from harvok.core.procedure import Context, Findings, Procedure
from harvok.core.procedures.back_to_back import LONGEST_S, REPEATS, back_to_back
from harvok.core.procedures.frames import FrameSettings, FrameSize
from harvok.core.procedures.latency import CLASSIC_REPEATS, STREAM_S, Form, latency
from harvok.core.procedures.loss import STEP, loss_rate
from harvok.core.procedures.recovery import OVERLOAD_S, recovery, reset
from harvok.core.procedures.throughput import throughput
from harvok.core.trials.frames import FrameTrial, FrameTrialResult
from harvok.errors import TesterLimitError

TestName = Literal["throughput", "latency", "loss", "back-to-back", "recovery", "reset"]
TEST_NAMES: tuple[TestName, ...] = ("throughput", "latency", "loss", "back-to-back", "recovery", "reset")


Part = Generator[FrameTrial, FrameTrialResult, list[Figure]]


@dataclass(frozen=True, slots=True)
class FrameTest:
    """What to measure. Throughput is measured whenever another test needs it."""

    tests: tuple[TestName, ...]
    sizes: tuple[FrameSize, ...]
    settings: FrameSettings
    latency_form: Form = "modern"
    stream_s: float = STREAM_S
    burst_repeats: int = REPEATS
    overload_s: float = OVERLOAD_S
    kind: Literal["rfc2544"] = "rfc2544"

    @property
    def title(self) -> str:
        """What a list of runs shows."""
        return f"{self.kind} {'all' if len(self.tests) == len(TEST_NAMES) else self.tests[0]}"

    @property
    def expected_s(self) -> float:
        """How long it should take, in seconds: an estimate, since searches end when they have found."""
        return len(self.sizes) * sum(self._expected_s(test) for test in {*self.tests, "throughput"})

    def _expected_s(self, test: str) -> float:
        settings = self.settings
        pause_s = settings.pause_s
        streams = CLASSIC_REPEATS if self.latency_form == "classic" else 1
        return {
            "throughput": settings.search_s,
            "latency": streams * (self.stream_s + pause_s),
            "loss": settings.trial_s / STEP / 2,
            "back-to-back": (20 + 2 * self.burst_repeats) * (LONGEST_S / 4 + settings.steering_pause_s),
            "recovery": 2 * self.overload_s + pause_s,
            "reset": 2 * self.overload_s + pause_s,
        }[test]


def rfc2544(test: FrameTest, context: Context, findings: Findings) -> Procedure[FrameTrial, FrameTrialResult]:
    """Runs the tests for each frame size in turn. A test that the tester itself could not do is left out and named;
    raises TesterLimitError when not even a throughput could be found."""
    for size in test.sizes:
        yield from _one_size(test, size, findings)


def _one_size(test: FrameTest, size: FrameSize, findings: Findings) -> Procedure[FrameTrial, FrameTrialResult]:
    settings = test.settings
    answer = yield from throughput(settings, size)
    found_fps = answer.fps
    findings.figures.extend(answer.figures)
    findings.notices.extend(answer.remarks)
    parts: dict[TestName, Callable[[], Part]] = {
        "loss": lambda: loss_rate(settings, size),
        "latency": lambda: latency(settings, size, found_fps, findings.notices, test.latency_form, test.stream_s),
        "back-to-back": lambda: back_to_back(settings, size, found_fps, findings.notices, test.burst_repeats),
        "recovery": lambda: recovery(settings, size, found_fps, test.overload_s),
    }
    if size is min(test.sizes, key=lambda one: one.mean_bytes):  # §26.6 asks for the minimum size alone
        parts["reset"] = lambda: reset(settings, size, found_fps, findings.notices, test.overload_s)
    for name, part in parts.items():
        if name not in test.tests or (found_fps <= 0 and name != "loss"):
            continue  # a device that carries nothing has no latency, no burst and nothing to recover
        try:
            findings.figures.extend((yield from part()))
        except TesterLimitError as limit:
            findings.notices.append(f"{name} at {size.name} B is left out: {limit.message}")
