"""RFC 2544 results: which trial runs, and tables over the frame sizes at the end."""

from collections.abc import Callable, Sequence

from rich.console import Console
from rich.padding import Padding
from rich.status import Status
from rich.table import Table
from rich.text import Text

from harvok.cli.render.words import DASH, FORMATS
from harvok.core.figures import Figure, find
from harvok.core.frame_trial import FrameTrial, FrameTrialResult
from harvok.core.models.run import RunRecord
from harvok.core.observer import Observer, RunOutline
from harvok.core.procedures.rfc2544 import FrameTest
from harvok.core.quantities import QUANTITIES
from harvok.core.trial import Trial, TrialResult
from harvok.core.units import format_duration, format_frame_rate, format_rate, format_share

_TABLES: tuple[tuple[str, tuple[tuple[str, str], ...]], ...] = (
    ("throughput", (
        ("throughput", "frames/s"), ("throughput-share", "of line rate"),
        ("throughput-l1", "on the line, L1"), ("throughput-l2", "in frames, L2"),
    )),
    ("latency", (
        ("latency-least", "least"), ("latency-median", "typical"), ("latency-p999", "99.9 %"),
        ("latency-most", "most"), ("latency-tagged-mean", "tagged mean"), ("latency-jitter", "variation"),
    )),
    ("faults", (
        ("burst-mean", "longest burst"), ("buffer-time", "buffer time"), ("recovery-time", "recovery"),
        ("reset-time", "reset"),
    )),
)  # fmt: skip
"""The tables, each with its quantities and their headings; a quantity that no frame size has is left out."""


class FramesView(Observer):
    """Says what goes on, and sums each run up."""

    def __init__(self, console: Console, test: FrameTest) -> None:
        self.records: list[RunRecord] = []
        self._console = console
        self._test = test
        self._status: Status | None = None

    def run_started(self, outline: RunOutline) -> None:
        repeat = f", repeat {outline.number} of {outline.of}" if outline.of > 1 else ""
        about = f"about {format_duration(self._test.expected_s)} of trials and pauses"
        self._console.print(Text.assemble((outline.far, "bold"), f"  run {outline.run}{repeat}, {about}"))
        if self._console.is_terminal:
            self._status = self._console.status("starting")
            self._status.start()

    def trial_started(self, number: int, trial: Trial) -> None:
        if self._status and isinstance(trial, FrameTrial):
            self._status.update(f"trial {number}: {trial_words(trial)}")

    def trial_finished(self, number: int, result: TrialResult) -> None:
        if self._status and isinstance(result, FrameTrialResult):
            loss = max(one.loss for one in result.directions)
            self._status.update(f"trial {number}: lost {format_share(loss)}")

    def notice(self, text: str) -> None:
        self._console.print(Text.assemble(("note ", "bold yellow"), text), soft_wrap=True)

    def record(self, record: RunRecord) -> None:
        """One finished run, whole or broken."""
        self._stop()
        self.records.append(record)
        show_frame_run(self._console, record)

    def close(self) -> None:
        self._stop()

    def _stop(self) -> None:
        if self._status:
            self._status.stop()
            self._status = None


def trial_words(trial: FrameTrial) -> str:
    """A trial in a few words: frame size, load, duration."""
    load = " then ".join(format_frame_rate(step.load_fps) for step in trial.steps)
    size = "mix" if len(trial.frame_sizes) > 1 else f"{trial.frame_sizes[0]} B"
    return f"{size} frames at {load} frames/s for {format_duration(trial.duration_s)}"


def show_frame_run(console: Console, record: RunRecord) -> None:
    """Prints what one run comes to: a row for each frame size, then loss over load."""
    assert isinstance(record.test, FrameTest)
    if record.state == "broken":
        why = record.fault.message if record.fault else "unknown reason"
        console.print(Text.assemble(("BROKEN ", "bold red"), why), soft_wrap=True)
    for direction in record.test.settings.directions:
        for title, columns in _TABLES:
            table = _results(record, direction, title, columns)
            if table:
                console.print()
                console.print(table)
    losses = [figure for figure in record.figures if figure.quantity == "frame-loss"]
    if losses:
        console.print()
        console.print(_losses(losses))
    console.print(Padding(Text(_remarks(record), style="dim"), 0, expand=False))
    console.print(Text(f"kept as run {record.id}", style="dim"))


def _results(record: RunRecord, direction: str, title: str, columns: Sequence[tuple[str, str]]) -> Table | None:
    """One table of one direction: a row for each frame size; None when there is nothing to show."""
    assert isinstance(record.test, FrameTest)
    sizes = record.test.sizes
    found = {(q, size.name): _of(record.figures, q, size.name, direction) for q, _ in columns for size in sizes}
    shown = [(q, heading) for q, heading in columns if any(found[q, size.name] is not None for size in sizes)]
    if not shown:
        return None
    table = Table(box=None, padding=(0, 2, 0, 0), header_style="bold")
    table.add_column(f"{title}, {direction}", min_width=16)
    for _, heading in shown:
        table.add_column(heading, justify="right")
    for size in sizes:
        name = f"{size.name} B" if size.name.isdigit() else size.name
        table.add_row(name, *(_cell(quantity, found[quantity, size.name]) for quantity, _ in shown))
    return table


def _of(figures: Sequence[Figure], quantity: str, size: str, direction: str) -> float | None:
    """A figure of this direction, or one that is of the device as a whole."""
    found = find(figures, quantity, **{"frame-size": size, "direction": direction})
    if found is not None or quantity not in ("burst-mean", "buffer-time"):
        return found
    return find(figures, quantity, **{"frame-size": size})


def _cell(quantity: str, value: float | None) -> str:
    show: Callable[[float], str] = FORMATS[QUANTITIES[quantity].unit]
    if value is None:
        return DASH
    return format_rate(value) if quantity in ("throughput-l1", "throughput-l2") else show(value)


def _losses(losses: Sequence[Figure]) -> Table:
    """Loss over load: a row for each frame size and direction, a column for each load."""
    loads = list(dict.fromkeys(figure.labels["load"] for figure in losses))
    table = Table(box=None, padding=(0, 2, 0, 0), header_style="bold")
    table.add_column("loss at")
    for load in loads:
        table.add_column(load, justify="right")
    for size, direction in dict.fromkeys((f.labels["frame-size"], f.labels["direction"]) for f in losses):
        values = [find(losses, "frame-loss", **{"frame-size": size, "direction": direction, "load": x}) for x in loads]
        table.add_row(f"{size} {direction}", *(DASH if v is None else format_share(v) for v in values))
    return table


def _remarks(record: RunRecord) -> str:
    assert isinstance(record.test, FrameTest)
    settings = record.test.settings
    trials = sum(f.value for f in record.figures if f.quantity == "search-trials")
    time_s = sum(f.value for f in record.figures if f.quantity == "search-time")
    tolerance = f"loss tolerance {format_share(settings.loss_tolerance)}" if settings.loss_tolerance else "no loss"
    return (
        f"throughput with {tolerance}, to within {format_share(settings.resolution)} of line rate, "
        f"confirmed for {settings.full_s:g} s; its search took {trials:.0f} trials and {format_duration(time_s)}"
        f"{' of virtual time' if record.rig.kind == 'simulated' else ''}; latency from first bit in to first bit out"
    )
