"""A UDP test while it runs: a growing table on a terminal, plain lines elsewhere."""

from collections.abc import Sequence

from rich.console import Console, Group, RenderableType
from rich.live import Live
from rich.table import Table
from rich.text import Text

from harvok.cli.render.udp import show_udp_repeats, show_udp_run
from harvok.cli.render.words import direction_words, maybe
from harvok.core.models.run import RunRecord
from harvok.core.observer import Observer, RunOutline
from harvok.core.trials.any import Trial
from harvok.core.trials.udp import UdpInterval, UdpTrial
from harvok.core.udp.rows import UdpRow, UdpRowJoiner
from harvok.core.units import format_duration, format_rate, format_span

_LINES_BESIDE_ROWS = 8  # title, head and frame of the table, and room for a prompt


class UdpView(Observer):
    """Shows tests while they run, and sums each up; what a terminal showed stays on it. To be closed at the end."""

    def __init__(self, console: Console) -> None:
        self.records: list[RunRecord] = []
        self._console = console
        self._live: Live | None = None
        self._joiner = UdpRowJoiner()
        self._trial: UdpTrial | None = None
        self._rows: list[UdpRow] = []
        self._said: set[str] = set()

    def record(self, record: RunRecord) -> None:
        """One finished run, whole or broken."""
        self._end_live()
        self.records.append(record)
        show_udp_run(self._console, record, self._said)

    def close(self) -> None:
        self._end_live()
        if len(self.records) > 1:
            show_udp_repeats(self._console, self.records)

    def run_started(self, outline: RunOutline) -> None:
        repeat = f", repeat {outline.number} of {outline.of}" if outline.of > 1 else ""
        self._console.print(
            Text.assemble((f"{outline.near} – {outline.far}", "bold"), f"  run {outline.run}{repeat}"), soft_wrap=True
        )

    def trial_started(self, number: int, trial: Trial) -> None:
        if not isinstance(trial, UdpTrial):
            return
        self._end_live()
        self._trial, self._rows, self._joiner = trial, [], UdpRowJoiner()
        ways = " and ".join(direction_words(way) for way in trial.directions)
        self._console.print(Text(f"{trial.about or 'load'}, {ways}, {format_span(trial.duration_s)}", style="dim"))
        if self._console.is_terminal:
            self._live = Live(console=self._console, auto_refresh=False, vertical_overflow="crop")
            self._live.start()

    def datagrams(self, interval: UdpInterval) -> None:
        row = self._joiner.add(interval)
        if not row or not self._trial:
            return
        self._rows.append(row)
        if self._live:
            self._live.update(self._table(), refresh=True)
        else:
            self._console.print(plain_line(row, _name(self._trial, row)), soft_wrap=True)

    def notice(self, text: str) -> None:
        self._said.add(text)
        self._console.print(Text.assemble(("note ", "bold yellow"), text), soft_wrap=True)

    def _end_live(self) -> None:
        if self._live:
            self._live.stop()
            self._live = None

    def _table(self) -> RenderableType:
        assert self._trial
        room = max(self._console.height - _LINES_BESIDE_ROWS, 3)
        self._rows.sort(key=lambda row: (row.index, row.direction != "send", row.service))
        shown = self._rows[-room:]
        table = udp_rows_table(shown, self._trial)
        hidden = len(self._rows) - len(shown)
        return Group(Text(f"{hidden} earlier rows", style="dim"), table) if hidden else table


def _name(trial: UdpTrial, row: UdpRow) -> str:
    return trial.services[row.service].name


def udp_rows_table(rows: Sequence[UdpRow], trial: UdpTrial) -> Table:
    """Intervals as a table that fits 80 columns; rates are of the payload."""
    named = any(service.name for service in trial.services)
    table = Table(box=None, padding=(0, 1, 0, 0), header_style="bold")
    table.add_column("at s", justify="right", no_wrap=True)
    table.add_column("direction", no_wrap=True)
    if named:
        table.add_column("service", no_wrap=True)
    for heading in ("sent", "received", "missing", "gap", "late", "jitter", "variation"):
        table.add_column(heading, justify="right", no_wrap=True)
    for row in rows:
        heard = row.received
        table.add_row(
            f"{row.end_s:.1f}",
            direction_words(row.direction),
            *([_name(trial, row)] if named else []),
            format_rate(row.sent_bps),
            format_rate(row.received_bps),
            str(heard.missing),
            str(heard.longest_run),
            str(heard.reordered),
            maybe(heard.jitter_s, format_duration),
            maybe(row.variation_s, format_duration),
        )
    return table


def plain_line(row: UdpRow, service: str) -> str:
    """An interval as one line of words, for logs and pipes."""
    heard = row.received
    of = f" of {service}" if service else ""
    parts = [
        f"{row.start_s:.1f} to {row.end_s:.1f} s, {row.direction}{of}: payload sent {format_rate(row.sent_bps)}, "
        f"received {format_rate(row.received_bps)}",
        f"missing {heard.missing}" + (f", longest gap {heard.longest_run}" if heard.longest_run else ""),
    ]
    if heard.duplicates:
        parts.append(f"duplicates {heard.duplicates}")
    if heard.reordered:
        parts.append(f"out of order {heard.reordered}")
    if heard.jitter_s is not None:
        parts.append(f"jitter {format_duration(heard.jitter_s)}")
    if row.variation_s is not None:
        parts.append(f"delay variation {format_duration(row.variation_s)}")
    return "; ".join(parts)
