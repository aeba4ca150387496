"""A test while it runs: a growing table on a terminal, plain lines elsewhere."""

from collections.abc import Callable

from rich.console import Console, Group, RenderableType
from rich.live import Live
from rich.table import Table
from rich.text import Text

from harvok.cli.render.tcp import show_repeats, show_run
from harvok.cli.render.words import DASH, direction_words, maybe
from harvok.core.models.run import RunRecord
from harvok.core.observer import Observer, RunOutline
from harvok.core.tcp.rows import IntervalRow, RowJoiner
from harvok.core.trials.any import Trial
from harvok.core.trials.tcp import TcpInterval
from harvok.core.units import (
    format_duration,
    format_rate,
    format_share,
    format_size,
    format_size_briefly,
    format_times_briefly,
)

_LINES_BESIDE_ROWS = 8  # title, head and frame of the table, and room for a prompt


class TcpView(Observer):
    """Shows tests while they run, and sums each up; what a terminal showed stays on it. To be closed at the end."""

    def __init__(self, console: Console) -> None:
        self._console = console
        self._live: Live | None = None
        self._outline: RunOutline | None = None
        self._joiner: RowJoiner | None = None
        self._rows: list[IntervalRow] = []
        self._records: list[RunRecord] = []

    def record(self, record: RunRecord) -> None:
        """One finished run, whole or broken: its summary follows its rows."""
        self._end_live()
        self._records.append(record)
        show_run(self._console, record)

    def close(self) -> None:
        """All runs are taken, or one of them broke off."""
        self._end_live()
        if len(self._records) > 1:
            show_repeats(self._console, self._records)

    def run_started(self, outline: RunOutline) -> None:
        self._end_live()
        self._outline, self._rows = outline, []
        self._console.print(self._title(outline))
        if self._console.is_terminal:
            self._live = Live(console=self._console, auto_refresh=False, vertical_overflow="crop")
            self._live.start()

    def trial_started(self, number: int, trial: Trial) -> None:
        assert self._outline
        self._joiner = RowJoiner(self._outline.link, self._outline.ip_version)

    def interval(self, half: TcpInterval) -> None:
        assert self._joiner
        row = self._joiner.add(half)
        if not row:
            return
        self._rows.append(row)
        if self._live:
            self._live.update(self._table(), refresh=True)
        else:
            self._console.print(plain_line(row), soft_wrap=True)

    def notice(self, text: str) -> None:
        self._console.print(Text.assemble(("note ", "bold yellow"), text), soft_wrap=True)

    def _end_live(self) -> None:
        if self._live:
            self._live.stop()
            self._live = None

    def _title(self, outline: RunOutline) -> Text:
        repeat = f", repeat {outline.number} of {outline.of}" if outline.of > 1 else ""
        return Text.assemble((f"{outline.near} – {outline.far}", "bold"), f"  run {outline.run}{repeat}")

    def _table(self) -> RenderableType:
        room = max(self._console.height - _LINES_BESIDE_ROWS, 3)
        self._rows.sort(key=lambda row: (row.index, row.direction != "send"))
        shown = self._rows[-room:]
        table = rows_table(shown)
        hidden = len(self._rows) - len(shown)
        return Group(Text(f"{hidden} earlier rows", style="dim"), table) if hidden else table


def rows_table(rows: list[IntervalRow]) -> Table:
    """Intervals as a table that fits 80 columns: one row per interval and direction."""
    table = Table(box=None, padding=(0, 1, 0, 0), header_style="bold")
    table.add_column("at s", justify="right", no_wrap=True)
    table.add_column("direction", no_wrap=True)
    for heading in ("goodput", "ceiling", "resent", "cwnd", "RTT least/mean", "CPU near/far"):
        table.add_column(heading, justify="right", no_wrap=True)
    for row in rows:
        table.add_row(
            f"{row.end_s:.1f}",
            direction_words(row.direction),
            format_rate(row.goodput_bps),
            maybe(row.ceiling_share, format_share),
            maybe(row.retransmitted_bytes, format_size_briefly),
            maybe(row.cwnd_bytes, format_size_briefly),
            _pair(row.rtt_min_s, row.rtt_mean_s, format_times_briefly),
            _pair(row.core_near, row.core_far, lambda near, far: f"{near * 100:.0f}/{far * 100:.0f} %"),
        )
    return table


def _pair(one: float | None, other: float | None, show: Callable[[float, float], str]) -> str:
    """Two values as shown together, or a dash where one is missing."""
    return DASH if one is None or other is None else show(one, other)


def plain_line(row: IntervalRow) -> str:
    """An interval as one line of words, for logs and pipes."""
    parts = [f"{row.start_s:.1f} to {row.end_s:.1f} s, {row.direction}: goodput {format_rate(row.goodput_bps)}"]
    if row.ceiling_share is not None:
        parts.append(f"{format_share(row.ceiling_share)} of the ceiling")
    if row.retransmitted_bytes is not None:
        parts.append(f"sent again {format_size(row.retransmitted_bytes)}")
    if row.cwnd_bytes:
        parts.append(f"congestion window {format_size(row.cwnd_bytes)}")
    if row.rtt_min_s and row.rtt_mean_s:
        parts.append(f"RTT least {format_duration(row.rtt_min_s)}, mean {format_duration(row.rtt_mean_s)}")
    if row.core_near is not None and row.core_far is not None:
        parts.append(f"busiest core near {format_share(row.core_near)}, far {format_share(row.core_far)}")
    return "; ".join(parts)
