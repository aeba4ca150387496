"""A frame test while it runs: on a terminal one paragraph that keeps changing, elsewhere a line for each trial."""

from collections.abc import Callable

from rich.console import Console
from rich.status import Status
from rich.text import Text

from harvok.clock import SYSTEM, Clock
from harvok.core.models.run import RunRecord
from harvok.core.observer import Observer, RunOutline
from harvok.core.procedures.calibrate import CalibrationTest
from harvok.core.procedures.emulator import EmulatorTest
from harvok.core.procedures.load import LoadTest
from harvok.core.procedures.rfc2544 import FrameTest
from harvok.core.trials.any import Trial, TrialResult
from harvok.core.trials.frames import FrameProgress, FrameTrial, FrameTrialResult
from harvok.core.units import format_duration, format_frame_rate, format_share, format_span

ShowRun = Callable[[Console, RunRecord], None]


class FramesView(Observer):
    """Says what goes on, and sums each run up with `show`. `virtual_time`: trials take none of ours."""

    def __init__(
        self,
        console: Console,
        test: FrameTest | LoadTest | EmulatorTest | CalibrationTest,
        show: ShowRun,
        virtual_time: bool,
        clock: Clock = SYSTEM,
    ) -> None:
        self.records: list[RunRecord] = []
        self._console, self._test, self._show = console, test, show
        self._virtual_time, self._clock = virtual_time, clock
        self._status: Status | None = None
        self._began_ns = 0
        self._number = 0
        self._trial: FrameTrial | None = None
        self._last = ""
        self._flows: dict[str, str] = {}
        self._said: set[str] = set()

    def run_started(self, outline: RunOutline) -> None:
        repeat = f", repeat {outline.number} of {outline.of}" if outline.of > 1 else ""
        about = f"about {format_span(round(self._test.expected_s))} of trials and pauses"
        virtual = " in virtual time" if self._virtual_time else ""
        self._console.print(Text.assemble((outline.far, "bold"), f"  run {outline.run}{repeat}, {about}{virtual}"))
        self._began_ns, self._last = self._clock.now_ns(), ""
        if self._console.is_terminal:
            self._status = self._console.status("starting")
            self._status.start()

    def trial_started(self, number: int, trial: Trial) -> None:
        if isinstance(trial, FrameTrial):
            self._number, self._trial, self._flows = number, trial, {}
            self._update()

    def progress(self, progress: FrameProgress) -> None:
        self._flows[progress.direction] = progress_words(progress)
        self._update()

    def trial_finished(self, number: int, result: TrialResult) -> None:
        if not self._trial or not isinstance(result, FrameTrialResult):
            return
        self._last = f"{format_frame_rate(self._trial.steps[0].load_fps)} frames/s: {result_words(result)}"
        if not self._status and not self._virtual_time:
            line = f"trial {number}: {trial_words(self._trial)}: {result_words(result)}"
            self._console.print(Text(line), soft_wrap=True)
        self._update()

    def notice(self, text: str) -> None:
        self._said.add(text)
        self._console.print(Text.assemble(("note ", "bold yellow"), text), soft_wrap=True)

    def record(self, record: RunRecord) -> None:
        """One finished run, whole or broken."""
        self._stop()
        self.records.append(record)
        for text in record.notices:
            if text not in self._said:
                self.notice(text)
        self._show(self._console, record)

    def close(self) -> None:
        self._stop()

    def _update(self) -> None:
        if not self._status or not self._trial:
            return
        passed_s = (self._clock.now_ns() - self._began_ns) / 1e9
        left_s = round(max(self._test.expected_s - passed_s, 0.0))
        lines = [f"{self._trial.about}; about {format_span(left_s)} left"]
        lines.append(f"trial {self._number}: {trial_words(self._trial)}")
        lines += [f"{direction}: {words}" for direction, words in self._flows.items()]
        if self._last:
            lines.append(f"before: {self._last}")
        self._status.update(Text("\n  ".join(lines)))

    def _stop(self) -> None:
        if self._status:
            self._status.stop()
            self._status = None


def trial_words(trial: FrameTrial) -> str:
    """A trial in a few words: frame size, load, duration."""
    load = " then ".join(format_frame_rate(step.load_fps) for step in trial.steps)
    size = "mix" if len(trial.frame_sizes) > 1 else f"{trial.frame_sizes[0]} B"
    return f"{size} frames at {load} frames/s for {format_duration(trial.duration_s)}"


def progress_words(progress: FrameProgress) -> str:
    """What a direction has come to so far. Frames under way are neither lost nor received."""
    rate = progress.sent_frames / progress.at_s if progress.at_s else 0.0
    delay = f", delay {format_duration(progress.delay_s)}" if progress.delay_s else ""
    missing = max(progress.sent_frames - progress.received_frames, 0)
    return (
        f"{progress.at_s:.0f} s, {format_frame_rate(rate)} frames/s sent, "
        f"{format_frame_rate(missing)} frames not back{delay}"
    )


def result_words(result: FrameTrialResult) -> str:
    """What became of a trial, worst direction first."""
    worst = max(result.directions, key=lambda one: one.loss)
    delay = f", delay typically {format_duration(worst.delay.median_s)}" if worst.delay else ""
    lost = f"lost {worst.lost_frames} ({format_share(worst.loss)})" if worst.lost_frames else "nothing lost"
    return f"{format_frame_rate(worst.offered_load_fps)} frames/s offered, {lost}{delay}"
