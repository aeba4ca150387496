"""What the views of all kinds of test share: the title of a run, its notices, its end, and what its repeats come to."""

from collections.abc import Callable, Collection, Iterable, Sequence
from dataclasses import replace
from typing import Generic, Protocol, TypeVar

from rich.console import Console, Group, RenderableType
from rich.live import Live
from rich.status import Status
from rich.text import Text

from harvok.cli.render.charts import Chart, Charted, ChartLimit, chart_lines, charts
from harvok.cli.render.console import print_hanging
from harvok.cli.render.device import show_device_words
from harvok.cli.render.events import show_events
from harvok.cli.render.tables import PlainTable, plain_table
from harvok.cli.render.words import DASH, verdict_text
from harvok.core.events import EVENT
from harvok.core.judgement.finding import Finding, verdict_of
from harvok.core.link import PortSpeed
from harvok.core.models.run import RunRecord
from harvok.core.observer import Observer, RunOutline
from harvok.core.quantities import QUANTITIES
from harvok.core.samples import DEVICE, Event, Sample
from harvok.core.units import counted, format_duration, format_quantity, format_share
from harvok.runner.request import TestRequest
from harvok.runner.samples import headline_figures, summaries_of

ShowRun = Callable[[Console, RunRecord], None]
"""Prints what one run of a kind of test comes to: its figures, and what limited them."""

MAX_ACCEPTED = 12
"""More limits than this that are met are counted rather than listed."""
_WIDE = 100  # columns that the table of repeats takes with its medians
_MIN_ROWS = 3
_REFRESHES_PER_S = 2.0  # of a line that changes: charts below it are drawn anew each time
_LINES_BESIDE_ROWS = 8  # title, head and frame of the table, and room for a prompt


def _with_port(host: str, port: PortSpeed | None) -> str:
    """An end with the interface that its traffic really takes."""
    return f"{host} ({port.interface})" if port else host


class RunView(Observer):
    """Shows the title of each run and its notices as they come, then what it comes to. To be closed at the end.
    `compact`: without titles, and what moves is gone at the end: a line of somebody else's stands for the run."""

    def __init__(self, console: Console, show: ShowRun, request: TestRequest) -> None:
        self.records: list[RunRecord] = []
        self._console, self._show, self._request = console, show, request
        self._moving: Live | Status | None = None
        self.charted, self.compact = True, False
        self.device_cpu: list[float | None] = []
        self.marks: list[float] = []
        self._shown_notices: set[str] = set()

    def announce(self) -> None:
        """Says before the first run what will be sent, where a person must know."""

    def run_started(self, outline: RunOutline) -> None:
        repeat = f", repeat {outline.number} of {outline.of}" if outline.of > 1 else ""
        link = outline.link
        ends = [_with_port(outline.near, link.near), *([_with_port(outline.far, link.far)] if outline.far else [])]
        if not self.compact:
            title = Text.assemble((" – ".join(ends), "bold"), f"  run {outline.run}{repeat}")
            self._console.print(title, soft_wrap=True)

    def happened(self, events: Sequence[Event]) -> None:
        """Keeps when something was done on purpose, for charts."""
        self.marks += [event.at_s for event in events if event.name == EVENT]

    def see_device(self, samples: Sequence[Sample]) -> None:
        """Keeps how busy the device is, for charts."""
        busy = [one.value for one in samples if one.source == DEVICE and one.quantity == "device-cpu"]
        if busy:
            self.device_cpu.append(max(busy))

    def device_charts(self) -> list[Chart]:
        """What the device itself told; nothing where it was not asked."""
        return [Chart("CPU of the device", self.device_cpu, format_share)] if self.device_cpu else []

    def limit_of(self, quantity: str, direction: str = "") -> ChartLimit | None:
        """What a plan asks of a figure, for charts; None where it asks nothing, or both a minimum and a maximum."""
        for limit in self._request.limits:
            about = limit.labels.get("direction", direction) == direction
            if limit.quantity == quantity and about and (limit.minimum is None) != (limit.maximum is None):
                return ChartLimit(limit.minimum or limit.maximum or 0.0, at_least=limit.minimum is not None)
        return None

    def notice(self, text: str) -> None:
        self._shown_notices.add(text)
        show_notice(self._console, text)

    def record(self, record: RunRecord) -> None:
        """One finished run, whole or broken: its summary follows what was shown of it."""
        self._stop_moving()
        self.records.append(record)
        show_run(self._console, record, self._show, self._shown_notices)
        self._console.file.flush()

    def close(self) -> None:
        """All runs are taken, or one of them broke off."""
        self._stop_moving()
        if len(self.records) > 1:
            show_repeats(self._console, self.records)

    def _start_status(self, words: str) -> Status | None:
        """A line that changes, on a terminal."""
        self._stop_moving()
        if not self._console.is_terminal:
            return None
        status = self._console.status(words, refresh_per_second=_REFRESHES_PER_S)
        status.start()
        self._moving = status
        return status

    def with_charts(self, words: Text) -> RenderableType:
        """What a line that changes says, with charts below it, unless rows alone are wanted."""
        return Charted(words, lambda: [*self.status_charts(), *self.device_charts()]) if self.charted else words

    def status_charts(self) -> list[Chart]:
        """The charts below a line that changes; none by default."""
        return []

    def _stop_moving(self) -> None:
        if self._moving:
            self._moving.stop()
            self._moving = None


class IntervalShown(Protocol):
    """What every row is: an interval of a direction."""

    @property
    def direction(self) -> str: ...

    @property
    def start_s(self) -> float: ...

    @property
    def end_s(self) -> float: ...


RowT = TypeVar("RowT", bound=IntervalShown)
ShownT = TypeVar("ShownT", contravariant=True)


class Rows(Protocol[ShownT]):
    """How the intervals of a kind of traffic are shown; rows sort by `order`."""

    def order(self, row: ShownT) -> tuple[object, ...]: ...

    def table(self, rows: Sequence[ShownT]) -> PlainTable: ...

    def line(self, row: ShownT) -> str: ...


class RowsView(RunView, Generic[RowT]):
    """A run whose intervals fill a growing table on a terminal, and are plain lines elsewhere."""

    def __init__(self, console: Console, show: ShowRun, request: TestRequest) -> None:
        super().__init__(console, show, request)
        self._style: Rows[RowT] | None = None
        self._join: Callable[[Sequence[Sample]], Iterable[RowT]] = lambda _: ()
        self.rows: list[RowT] = []

    def start_rows(self, style: Rows[RowT], join: Callable[[Sequence[Sample]], Iterable[RowT]]) -> None:
        """A trial begins; `join` makes rows of its samples, which are shown like this."""
        self._stop_moving()
        self._join = join
        self._style, self.rows, self.device_cpu, self.marks = style, [], [], []
        if self._console.is_terminal:
            self._moving = Live(
                console=self._console, auto_refresh=False, vertical_overflow="crop", transient=self.compact
            )
            self._moving.start()

    def samples(self, samples: Sequence[Sample]) -> None:
        self.see_device(samples)
        for row in self._join(samples):
            self.show_row(row)

    def show_row(self, row: RowT) -> None:
        """Another interval is whole."""
        if not self._style:
            return
        self.rows.append(row)
        if isinstance(self._moving, Live):
            self.rows.sort(key=self._style.order)
            height = max(self._console.height - _LINES_BESIDE_ROWS, 3)
            self._moving.update(self.newest(self._style, height), refresh=True)
        else:
            self._console.print(self._style.line(row), soft_wrap=True)

    def live_charts(self) -> list[Chart]:
        """What is drawn above the rows: of each direction, with what was done in mid-test, and of the device."""
        drawn: list[Chart] = []
        for direction in dict.fromkeys(row.direction for row in self.rows):
            rows = self.rows_of(direction)
            marks = [at for at, row in enumerate(rows) if any(row.start_s <= mark < row.end_s for mark in self.marks)]
            drawn += [replace(chart, marks=marks) for chart in self.charts_of(direction, rows)]
        return drawn + self.device_charts()

    def rows_of(self, direction: str) -> list[RowT]:
        """The rows of a direction that are drawn."""
        return [row for row in self.rows if row.direction == direction]

    def charts_of(self, direction: str, rows: Sequence[RowT]) -> Iterable[Chart]:
        """The charts of a direction; none by default."""
        return ()

    def newest(self, style: Rows[RowT], height: int) -> RenderableType:
        """The charts, and as many rows below them as there is room for; no charts where there is little."""
        drawn = self.live_charts() if self.charted else []
        room = height - chart_lines(len(drawn))
        if not drawn or room < _MIN_ROWS:
            return self._last_rows(style, height)
        return Group(charts(drawn, self._console.width), self._last_rows(style, room))

    def _last_rows(self, style: Rows[RowT], height: int) -> RenderableType:
        """The last rows, as many as there is room for."""
        table = style.table(self.rows[-height:])
        hidden = len(self.rows) - height
        return Group(Text(f"{hidden} earlier rows", style="dim"), table) if hidden > 0 else table


def show_run(console: Console, record: RunRecord, show: ShowRun, shown_notices: Collection[str] = ()) -> None:
    """What was decided first, then what the run comes to, its notices, and where it is."""
    show_fault(console, record)
    if record.findings:
        show_findings(console, record.findings)
    show(console, record)
    show_events(console, record)
    show_device_words(console, record)
    for notice in record.notices:
        if notice not in shown_notices:
            show_notice(console, notice)
    console.print(Text(f"recorded as run {record.id}", style="dim"))


def show_notice(console: Console, text: str) -> None:
    """Something that a person at the bench should know."""
    print_hanging(console, Text("note ", "bold yellow"), text)


def show_fault(console: Console, record: RunRecord) -> None:
    """Why a run broke off or is invalid, and what of it was recorded; nothing for a complete one."""
    if record.state not in ("broken", "invalid"):
        return
    why = record.fault.message if record.fault else "unknown reason"
    console.print(Text.assemble((f"{record.state.upper()} ", "bold red"), why), soft_wrap=True)
    if record.state == "broken":
        complete = sum(1 for trial in record.trials if trial.result)
        unfinished = [block.at_s for trial in record.trials if not trial.result for block in trial.samples]
        seen_s = max((max(moments) for moments in unfinished), default=0.0)
        beside = f", and {format_duration(seen_s)} of an unfinished one" if seen_s else ""
        console.print(f"recorded of it: {counted(complete, 'complete trial')}{beside}")


def show_findings(console: Console, findings: Sequence[Finding]) -> None:
    """The verdict of the limits that a test sets itself, then each of them."""
    console.print()
    console.print(Text.assemble(verdict_text(verdict_of(findings)), f"  {_met(findings)}"))
    list_findings(console, findings)


def list_findings(console: Console, findings: Sequence[Finding]) -> int:
    """Each of some findings; those that meet their limits only where they are few. Returns how many were left out."""
    accepted = sum(finding.verdict == "ACCEPT" for finding in findings)
    left_out = accepted if accepted > MAX_ACCEPTED else 0
    for finding in findings:
        if finding.verdict != "ACCEPT" or not left_out:
            show_finding(console, finding)
    return left_out


def list_and_count_findings(console: Console, findings: Sequence[Finding]) -> None:
    """The same, with a line for those that were left out."""
    if left_out := list_findings(console, findings):
        console.print(Text.assemble("  ", verdict_text("ACCEPT"), f" {left_out} figures meet their limits"))


def _met(findings: Sequence[Finding]) -> str:
    accepted = sum(finding.verdict == "ACCEPT" for finding in findings)
    return f"{accepted} of {len(findings)} limits are met" if len(findings) > 1 else ""


def show_finding(console: Console, finding: Finding) -> None:
    """One finding: verdict, where, reason; then what to do next."""
    where = f"{finding.where}: " if finding.where else ""
    print_hanging(console, Text.assemble("  ", verdict_text(finding.verdict), " "), f"{where}{finding.reason}")
    if finding.advice:
        print_hanging(console, Text(f"{'':9}next: ", "bold"), finding.advice)


def show_repeats(console: Console, records: Sequence[RunRecord]) -> None:
    """What several repeats come to: the figures that stand for a run, each with its spread."""
    wide = console.width >= _WIDE
    columns = ("repeats", "trimmed mean", *(["median"] if wide else []), "min", "max", "spread")
    table = plain_table(("figure", "of"), columns, gap=2 if wide else 1)
    too_few = False
    for (quantity, of), by_group in summaries_of({"": records}, headline_figures).items():
        summary, unit = by_group[""], QUANTITIES[quantity].unit
        too_few = too_few or not summary.dropped
        medians = (summary.median,) if wide else ()
        values = (summary.mean, *medians, min(summary.values), max(summary.values))
        table.add_row(
            QUANTITIES[quantity].name,
            of or DASH,
            str(len(summary.values)),
            *(format_quantity(value, unit) for value in values),
            format_share(summary.spread),
        )
    if not table.row_count:
        return
    console.print()
    console.print(table)
    few = "; too few repeats to trim: plain means" if too_few else ""
    console.print(Text(f"spread is (max − min) / median{few}", style="dim"))
