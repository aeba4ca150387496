"""Frames between two ports while a test runs: on a terminal a paragraph that changes, elsewhere a line per trial. Then
RFC 2544 results and calibrations as tables over the frame sizes."""

import bisect
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import cast

from rich.console import Console
from rich.status import Status
from rich.text import Text

from harvok.cli.render.charts import Chart, ChartLimit
from harvok.cli.render.console import stderr
from harvok.cli.render.rig import what_is_sent
from harvok.cli.render.run_view import RunView, ShowRun
from harvok.cli.render.tables import PlainTable, plain_table
from harvok.cli.render.words import DASH, figure_cell
from harvok.clock import SYSTEM, Clock
from harvok.core.figures import Figure, find
from harvok.core.labels import size_text
from harvok.core.models.run import RunRecord
from harvok.core.observer import RunOutline
from harvok.core.procedures.frames import FramesTest, port_words
from harvok.core.procedures.latency import latency_definition, lateness_words, stamps_of
from harvok.core.quantities import QUANTITIES, heading_of
from harvok.core.samples import DEVICE, Sample
from harvok.core.trials.any import Trial, TrialOutcome, TrialResult
from harvok.core.trials.frames import (
    FRAME_DELAY,
    RECEIVED_FRAMES,
    SENT_FRAMES,
    FrameDirectionResult,
    FrameTrial,
    FrameTrialResult,
)
from harvok.core.units import (
    format_duration,
    format_frame_rate,
    format_quantity,
    format_rate,
    format_share,
    format_span,
)
from harvok.runner.request import RigPlace, TestRequest

_ROUNDING = 1e-6
_TABLES: dict[str, tuple[str, ...]] = {
    "throughput": ("throughput", "throughput-share", "throughput-l1", "throughput-l2"),
    "latency": (
        "latency-min", "latency-median", "latency-p999", "latency-max", "latency-tagged-mean", "latency-jitter",
    ),
    "order and content": ("frame-duplicates", "frame-reordered", "frame-corrupted", "frame-foreign"),
    "faults": ("burst-mean", "buffer-time", "recovery-time", "reset-time"),
}  # fmt: skip
"""The tables, each with its quantities; a quantity that no frame size has is left out."""

_CALIBRATION = (
    "tester-limit", "tester-limit-share", "tester-limit-spread", "offered-error", "delay-floor-min",
    "delay-floor-median", "delay-floor-p999",
)  # fmt: skip


class FramesView(RunView):
    """Says what will be sent where, and then how far it is."""

    def __init__(self, console: Console, show: ShowRun, request: TestRequest, clock: Clock = SYSTEM) -> None:
        super().__init__(console, show, request)
        assert isinstance(request.place, RigPlace)
        rig, self._clock = request.place.rig, clock
        self._virtual_time = rig.kind == "simulated"
        self._status: Status | None = None
        self._began_ns = 0
        self._expected_s = 0.0
        self._number = 0
        self._trial: FrameTrial | None = None
        self._last = ""
        self._streams: dict[str, str] = {}
        self._rates: dict[str, StreamRates] = {}
        self._found: dict[str, dict[str, str]] = {}

    def announce(self) -> None:
        assert isinstance(self._request.place, RigPlace)
        words = what_is_sent(self._request.place.rig, cast(FramesTest, self._request.test))
        stderr().print(words, soft_wrap=True)

    def run_started(self, outline: RunOutline) -> None:
        repeat = f", repeat {outline.number} of {outline.of}" if outline.of > 1 else ""
        self._expected_s = outline.expected_s or 0.0
        about = f"about {format_span(round(self._expected_s))} of trials and pauses"
        virtual = " in virtual time" if self._virtual_time else ""
        if not self.compact:
            self._console.print(Text.assemble((outline.far, "bold"), f"  run {outline.run}{repeat}, {about}{virtual}"))
        self._began_ns, self._last, self._found = self._clock.now_ns(), "", {}
        self._status = self._start_status("starting")

    def trial_started(self, number: int, trial: Trial) -> None:
        assert isinstance(trial, FrameTrial)
        self._number, self._trial, self._streams, self._rates = number, trial, {}, {}
        self.device_cpu, self.marks = [], []
        self._update()

    def samples(self, samples: Sequence[Sample]) -> None:
        by_direction: dict[str, dict[str, float]] = {}
        for sample in (one for one in samples if one.source != DEVICE):
            by_direction.setdefault(sample.labels["direction"], {})[sample.quantity] = sample.value
        for direction, values in by_direction.items():
            self._streams[direction] = progress_words(samples[-1].at_s, values)
            self._rates.setdefault(direction, StreamRates()).add(samples[-1].at_s, values)
        self.see_device(samples)
        self._update()

    def found(self, figures: Sequence[Figure]) -> None:
        """What is final already, by quantity and frame size."""
        for figure in figures:
            meaning = QUANTITIES[figure.quantity]
            if meaning.rank == "headline" and "frame-size" in figure.labels:
                of_sizes = self._found.setdefault(meaning.name, {})
                size = size_text(figure.labels["frame-size"])
                of_sizes[size] = f"{size} {format_quantity(figure.value, meaning.unit)}"
        self._update()

    def trial_finished(self, number: int, result: TrialResult | TrialOutcome) -> None:
        assert self._trial and isinstance(result, FrameTrialResult)
        self._last = f"{format_frame_rate(self._trial.steps[0].load_fps)} frames/s: {result_words(self._trial, result)}"
        if not self._status and not self._virtual_time:
            line = f"trial {number}: {trial_words(self._trial)}: {result_words(self._trial, result)}"
            self._console.print(Text(line), soft_wrap=True)
        self._update()

    def _update(self) -> None:
        if not self._status or not self._trial:
            return
        passed_s = (self._clock.now_ns() - self._began_ns) / 1e9
        left_s = round(max(self._expected_s - passed_s, 0.0))
        lines = [f"{self._trial.about}; about {format_span(left_s)} left"]
        lines.append(f"trial {self._number}: {trial_words(self._trial)}")
        lines += [f"{direction}: {words}" for direction, words in self._streams.items()]
        if self._last:
            lines.append(f"before: {self._last}")
        lines += [f"{name} so far: {', '.join(of_sizes.values())}" for name, of_sizes in self._found.items()]
        self._status.update(self.with_charts(Text("\n  ".join(lines))))

    def status_charts(self) -> list[Chart]:
        """The rate of each direction."""
        return [
            chart
            for name, rates in list(self._rates.items())
            for chart in rates.charts(name, self.marks, self.limit_of("forwarding-rate", name))
        ]


@dataclass(slots=True)
class StreamRates:
    """What was received of a direction a second, and lost or under way, between each two looks."""

    moments_s: list[float] = field(default_factory=list)
    offered: list[float | None] = field(default_factory=list)
    received: list[float | None] = field(default_factory=list)
    missing: list[float | None] = field(default_factory=list)
    _before: tuple[float, float, float] = (0.0, 0.0, 0.0)

    def add(self, at_s: float, values: Mapping[str, float]) -> None:
        """Frames that were sent and received since the start of the trial."""
        sent, received = values[SENT_FRAMES], values[RECEIVED_FRAMES]
        before_s, sent_before, received_before = self._before
        if at_s <= before_s:
            return
        self.moments_s.append(at_s)
        self.offered.append((sent - sent_before) / (at_s - before_s))
        self.received.append((received - received_before) / (at_s - before_s))
        self.missing.append(max(sent - received, 0.0))
        self._before = at_s, sent, received

    def charts(self, direction: str, marks_s: Sequence[float], limit: ChartLimit | None) -> list[Chart]:
        """Rate against what was offered, and what is missing."""
        marks = [bisect.bisect_left(self.moments_s, at_s) for at_s in marks_s]
        offered = max((value for value in self.offered if value), default=None)
        return [
            Chart(f"received, {direction}, frames/s", self.received, format_frame_rate, offered, marks, limit),
            Chart(f"missing, {direction}", self.missing, format_frame_rate, None, marks),
        ]


def trial_words(trial: FrameTrial) -> str:
    """A trial in a few words: frame size, load, duration."""
    load = " then ".join(format_frame_rate(step.load_fps) for step in trial.steps)
    size = "mix" if len(trial.frame_sizes) > 1 else f"{trial.frame_sizes[0]} B"
    return f"{size} frames at {load} frames/s for {format_duration(trial.duration_s)}"


def progress_words(at_s: float, values: Mapping[str, float]) -> str:
    """What a direction has come to so far. Frames under way are neither lost nor received."""
    sent, received, delay_s = values[SENT_FRAMES], values[RECEIVED_FRAMES], values.get(FRAME_DELAY)
    rate = sent / at_s if at_s else 0.0
    delay = f", delay {format_duration(delay_s)}" if delay_s else ""
    missing = max(sent - received, 0)
    return f"{at_s:.0f} s, {format_frame_rate(rate)} frames/s sent, {format_frame_rate(missing)} frames not back{delay}"


def result_words(trial: FrameTrial, result: FrameTrialResult) -> str:
    """What became of a trial, worst direction first."""
    if trial.frames(result.directions[-1].direction).cast == "learned":
        watched = result.directions[-1]
        return f"of {watched.sent_frames} addresses {watched.received_frames} were not known, and flooded"
    worst = max(result.directions, key=lambda one: one.loss)
    delay = f", delay {_delay_words(worst)}" if worst.delay else ""
    lost = f"lost {worst.lost_frames} ({format_share(worst.loss)})" if worst.lost_frames else "nothing lost"
    ports = f"; {words}" if (words := port_words(result)) else ""
    corrupted = f", {worst.corrupted_frames} of them came corrupted" if worst.corrupted_frames else ""
    return f"{format_frame_rate(worst.offered_load_fps)} frames/s offered, {lost}{corrupted}{delay}{ports}"


def _delay_words(direction: FrameDirectionResult) -> str:
    assert direction.delay
    if not direction.known_delay:
        return f"below the {format_duration(direction.clock_error_s or 0.0)} that the two clocks may be apart"
    wrong = f" ± {format_duration(direction.clock_error_s)} by the clocks" if direction.clock_error_s else ""
    return f"median {format_duration(direction.delay.median_s)}{wrong}"


def show_rfc2544(console: Console, record: RunRecord) -> None:
    """What one run comes to: a row for each frame size, then loss over load."""
    streams = [stream.name for stream in record.test.settings.streams]
    for directions in [streams] if len(streams) > _TABLES_EACH else [[name] for name in streams]:
        for title, quantities in _TABLES.items():
            if table := _results(record, directions, title, quantities):
                console.print()
                console.print(table)
    if table := _ports(record):
        console.print()
        console.print(table)
    losses = [figure for figure in record.figures if figure.quantity == "frame-loss"]
    if losses:
        console.print()
        console.print(_losses(losses))
    if record.figures:
        console.print(Text(_remarks(record), style="dim"))


def show_calibration(console: Console, record: RunRecord) -> None:
    """What the tester can do, a row for each frame size."""
    table = plain_table(("the tester itself",), map(heading_of, _CALIBRATION))
    for size in record.test.sizes:
        of_size = [f for f in record.figures if f.labels["frame-size"] == size.name]
        values = {quantity: [f.value for f in of_size if f.quantity == quantity] for quantity in _CALIBRATION}
        cells = [figure_cell(quantity, max(values[quantity], default=None)) for quantity in _CALIBRATION]
        table.add_row(size_text(size.name), *cells)
    console.print()
    console.print(table)
    remark = (
        "highest load held within 0.5 % without loss over a lead alone in each of three searches, and their spread; "
        "the largest load error at a tenth, half and nine tenths of it; delays at a tenth of it"
    )
    console.print(Text(remark, style="dim"))


def _results(record: RunRecord, directions: Sequence[str], title: str, quantities: Sequence[str]) -> PlainTable | None:
    """One table of some directions: a row for each frame size of each; None when there is nothing to show."""
    rows = [(size.name, direction) for size in record.test.sizes for direction in directions]
    figures = [figure for figure in record.figures if "load" not in figure.labels]
    values = {(q, *row): _of(figures, q, *row) for q in quantities for row in rows}
    shown = [q for q in quantities if any(values[q, *row] is not None for row in rows)]
    if not shown or (title in _ONLY_WHERE_SOMETHING_IS and not any(values.values())):
        return None
    extra = {direction: _EXTRA[title](record, direction) if title in _EXTRA else ("", {}) for direction in directions}
    heading, beside = extra[directions[0]]
    alone = len(directions) == 1
    named = f"{title}, {directions[0]}" if alone else title
    table = plain_table((named,), [*map(heading_of, shown), *([heading] if beside else [])])
    for size, direction in rows:
        cells = [figure_cell(quantity, values[quantity, size, direction]) for quantity in shown]
        last = [extra[direction][1].get(size, DASH)] if beside else []
        table.add_row(size_text(size) if alone else f"{size_text(size)}, {direction}", *cells, *last)
    return table


def _ports(record: RunRecord) -> PlainTable | None:
    """What each port sends and takes at the throughput, where streams share ports."""
    streams = record.test.settings.streams
    ends = [end for stream in streams for end in (f"{stream.source} sends", f"{stream.destination} takes")]
    if len(set(ends)) == len(ends):
        return None
    table = plain_table(("at the throughput, each port",), (size.name + " B" for size in record.test.sizes))
    for end in sorted(set(ends)):
        port, _, what = end.partition(" ")
        cells = []
        for size in record.test.sizes:
            rates = [
                find(record.figures, "throughput-l1", **{"frame-size": size.name, "direction": stream.name}) or 0.0
                for stream in streams
                if port == (stream.source if what == "sends" else stream.destination)
            ]
            cells.append(format_rate(sum(rates)))
        table.add_row(f"{end}, L1", *cells)
    return table


def _limits(record: RunRecord, direction: str) -> tuple[str, dict[str, str]]:
    """What limited each throughput: line rate, the device, or the tester."""
    limits, settings = {}, record.test.settings
    share = settings.frames(direction).load_share
    highest = {
        size.name: share * settings.max_carried_fps(size) / size.line_fps(settings.line_bps)
        for size in record.test.sizes
    }
    for figure in record.figures:
        if figure.quantity == "throughput-share" and figure.labels["direction"] == direction:
            limits[figure.labels["frame-size"]] = limited_by(figure, highest[figure.labels["frame-size"]])
    return "limited by", limits


def limited_by(figure: Figure, highest_share: float) -> str:
    """What limited a throughput, by its share of line rate and the highest that is possible."""
    if figure.mark == "tester-limit":
        return "the TESTER"
    return "line rate" if figure.value >= highest_share * (1 - _ROUNDING) else "the device"


def _testers_delay(record: RunRecord, _: str) -> tuple[str, dict[str, str]]:
    """The tester's own median delay, which every latency contains."""
    own: Mapping[str, float] = record.test.settings.tester_delay_s
    return "tester's own", {size: format_duration(delay_s) for size, delay_s in own.items() if delay_s}


_TABLES_EACH = 2
"""So many streams have tables of their own; more share them."""
_ONLY_WHERE_SOMETHING_IS = {"order and content"}
_EXTRA = {"throughput": _limits, "latency": _testers_delay}
"""The last column of a table, which comes from the settings and marks rather than from a figure."""


def _of(figures: Sequence[Figure], quantity: str, size: str, direction: str) -> float | None:
    """A figure of this direction, or one that is of the device as a whole."""
    found = find(figures, quantity, **{"frame-size": size, "direction": direction})
    if found is not None or quantity not in ("burst-mean", "buffer-time"):
        return found
    return find(figures, quantity, **{"frame-size": size})


def _losses(losses: Sequence[Figure]) -> PlainTable:
    """Loss over load: a row for each frame size and direction, a column for each load."""
    loads = list(dict.fromkeys(figure.labels["load"] for figure in losses))
    table = plain_table(("loss at",), loads)
    for size, direction in dict.fromkeys((f.labels["frame-size"], f.labels["direction"]) for f in losses):
        of_row = {"frame-size": size, "direction": direction}
        values = [find(losses, "frame-loss", **of_row, load=load) for load in loads]
        table.add_row(f"{size_text(size)}, {direction}", *(DASH if v is None else format_share(v) for v in values))
    return table


def _remarks(record: RunRecord) -> str:
    settings, simulated = record.test.settings, record.rig.kind == "simulated"
    trials = sum(f.value for f in record.figures if f.quantity == "search-trials")
    time_s = sum(f.value for f in record.figures if f.quantity == "search-time")
    tolerance = f"loss tolerance {format_share(settings.loss_tolerance)}" if settings.loss_tolerance else "no loss"
    whole_span = format_span(time_s).replace(" ", "\u00a0")
    searched = (
        f"throughput with {tolerance}, to within {format_share(settings.resolution)} of line rate and 1 % of itself, "
        f"confirmed for {settings.full_s:g} s; its search took {trials:.0f} trials and {whole_span}"
        f"{' of virtual time' if simulated else ''}; "
    )
    return (
        f"{searched if trials else ''}latency {latency_definition(stamps_of(record.trials), simulated)}"
        f"{f'; {late}' if (late := lateness_words(record.trials)) else ''}"
        f"{f'; tester calibrated in run {record.calibration}' if record.calibration else ''}"
    )
