"""TCP: intervals while a test runs, and what a run comes to: settled goodput, its share of the ceiling, the limiter."""

from collections.abc import Callable, Iterator, Sequence

from rich.console import Console
from rich.padding import Padding
from rich.text import Text

from harvok.cli.render.charts import Chart, ChartLimit
from harvok.cli.render.run_view import RowsView
from harvok.cli.render.tables import PlainTable, plain_table, show_titled
from harvok.cli.render.words import DASH, direction_words, maybe, span_words
from harvok.core.figures import Figure, find
from harvok.core.models.run import RunRecord
from harvok.core.observer import RunOutline
from harvok.core.samples import replayed
from harvok.core.tcp.reading import Reading
from harvok.core.tcp.rows import IntervalRow, RowJoiner
from harvok.core.trials.any import Trial
from harvok.core.trials.tcp import TcpOutcome
from harvok.core.units import (
    format_byte_rate,
    format_duration,
    format_rate,
    format_share,
    format_size,
    format_size_briefly,
    format_times_briefly,
)


class TcpRows:
    """How the intervals of TCP are shown: one row for each interval and direction, in a table that fits 80 columns."""

    def order(self, row: IntervalRow) -> tuple[object, ...]:
        return (row.index, row.direction != "send")

    def table(self, rows: Sequence[IntervalRow]) -> PlainTable:
        columns = ("goodput", "ceiling", "resent", "cwnd", "RTT min/mean", "CPU near/far")
        table = plain_table(("   at", "direction"), columns, gap=1)
        for row in rows:
            table.add_row(
                f"{row.end_s:5.1f}",
                direction_words(row.direction),
                format_rate(row.goodput_bps),
                maybe(row.ceiling_share, format_share),
                maybe(row.retransmitted_bytes, format_size_briefly),
                maybe(row.cwnd_bytes, format_size_briefly),
                _pair(row.rtt_min_s, row.rtt_mean_s, format_times_briefly),
                _pair(row.core_near, row.core_far, lambda near, far: f"{near * 100:.0f}/{far * 100:.0f} %"),
            )
        return table

    def line(self, row: IntervalRow) -> str:
        """An interval as one line of words, for logs and pipes."""
        parts = [f"{span_words(row.start_s, row.end_s)}, {row.direction}: goodput {format_rate(row.goodput_bps)}"]
        if row.ceiling_share is not None:
            parts.append(f"{format_share(row.ceiling_share)} of the ceiling")
        if row.retransmitted_bytes is not None:
            parts.append(f"retransmitted {format_size(row.retransmitted_bytes)}")
        if row.cwnd_bytes:
            parts.append(f"congestion window {format_size(row.cwnd_bytes)}")
        if row.rtt_min_s and row.rtt_mean_s:
            parts.append(f"RTT min {format_duration(row.rtt_min_s)}, mean {format_duration(row.rtt_mean_s)}")
        if row.core_near is not None and row.core_far is not None:
            parts.append(f"busiest core near {format_share(row.core_near)}, far {format_share(row.core_far)}")
        return "; ".join(parts)


class TcpView(RowsView[IntervalRow]):
    """TCP while it runs."""

    def run_started(self, outline: RunOutline) -> None:
        super().run_started(outline)
        self._outline = outline

    def trial_started(self, number: int, trial: Trial) -> None:
        self.start_rows(TcpRows(), RowJoiner(self._outline.link, self._outline.ip_version).add)

    def charts_of(self, direction: str, rows: Sequence[IntervalRow]) -> Iterator[Chart]:
        """Goodput against the ceiling, and RTT."""
        shares = [row.goodput_bps / row.ceiling_share for row in rows if row.ceiling_share]
        ceiling = shares[-1] if shares else None
        asked = self.limit_of("goodput-settled", direction) or self.limit_of("goodput-mean", direction)
        share = self.limit_of("ceiling-share", direction)
        if asked is None and share and ceiling:
            asked = ChartLimit(share.value * ceiling, share.at_least)
        yield Chart(f"goodput, {direction}", [row.goodput_bps for row in rows], format_rate, ceiling, limit=asked)
        longest = self.limit_of("rtt-mean", direction)
        yield Chart(f"RTT, {direction}", [row.rtt_mean_s for row in rows], format_duration, limit=longest)


def show_tcp_trials(console: Console, record: RunRecord) -> None:
    """Every trial of a run with its intervals."""
    show_titled(console, _trials(record))


def _trials(record: RunRecord) -> Iterator[tuple[str, PlainTable]]:
    """Trials with their intervals, joined as they were while it ran."""
    for trial in record.trials:
        joined = RowJoiner(record.link, record.ip_version).add(replayed(trial.samples))
        rows = sorted(joined, key=TcpRows().order)
        yield " and ".join(map(direction_words, dict.fromkeys(row.direction for row in rows))), TcpRows().table(rows)


def _pair(first: float | None, second: float | None, show: Callable[[float, float], str]) -> str:
    """Two values as shown together, or a dash where one is missing."""
    return DASH if first is None or second is None else show(first, second)


def show_tcp(console: Console, record: RunRecord) -> None:
    """What one run comes to, direction by direction."""
    for reading in record.readings:
        _show_direction(console, record, reading)


def _show_direction(console: Console, record: RunRecord, reading: Reading) -> None:
    figures = [f for f in record.figures if f.labels.get("direction") == reading.direction]
    settled = find(figures, "goodput-settled") or 0.0
    headline = Text.assemble(
        (f"{direction_words(reading.direction):10}", "bold"),
        (format_rate(settled), "bold"),
        f" = {format_byte_rate(settled)}",
        f"  {_of_ceiling(figures, reading)}",
    )
    console.print()
    console.print(headline, soft_wrap=True)
    for line in (_method(record, reading.direction), _settling(figures, reading), _transport(figures), _cores(figures)):
        if line:
            console.print(_indented(line))
    limiter = reading.limiter
    console.print(_indented(Text.assemble(("limiter: ", "bold"), limiter.name, f" – {limiter.evidence}")))
    console.print(_indented(Text.assemble(("next: ", "bold"), limiter.advice)))


def _method(record: RunRecord, direction: str) -> str:
    """How the bytes were taken, where that is not how an application takes them."""
    for trial in record.trials:
        for one in trial.result.directions if isinstance(trial.result, TcpOutcome) else ():
            if one.direction == direction and one.method == "zero-copy":
                return f"zero-copy: the receiver read and compared {format_share(one.compared_share)}"
    return ""


def _indented(text: str | Text) -> Padding:
    return Padding(text, (0, 0, 0, 10), expand=False)


def _of_ceiling(figures: list[Figure], reading: Reading) -> str:
    ceiling = reading.ceiling
    if not ceiling:
        return "settled goodput; no rated speed, so no ceiling"
    share = find(figures, "ceiling-share") or 0.0
    assumed = f", assuming {ceiling.assumed}" if ceiling.assumed else ""
    return (
        f"settled goodput, {format_share(share)} of the ceiling {format_rate(ceiling.goodput_bps)} "
        f"({ceiling.source}, IPv{ceiling.ip_version} packets of {ceiling.packet_bytes} B{assumed})"
    )


def _settling(figures: list[Figure], reading: Reading) -> str:
    mean = format_rate(find(figures, "goodput-mean") or 0.0)
    settling = reading.settling
    if not settling.settled:
        took = "never settled"
    elif not settling.settled_from_s:
        took = "settled from the start"
    else:
        how = "" if settling.automatic else ", as set"
        took = f"settled after {format_duration(settling.settled_from_s)}{how}"
    return f"whole test {mean}; {took}"


def _transport(figures: list[Figure]) -> str:
    parts = []
    again = find(figures, "retransmitted")
    if again is not None:
        parts.append(f"retransmitted {format_share(again)}")
    minimum, mean = find(figures, "rtt-min"), find(figures, "rtt-mean")
    if minimum is not None and mean is not None:
        parts.append(f"RTT min {format_duration(minimum)}, mean {format_duration(mean)}")
    fairness = find(figures, "fairness")
    if fairness is not None:
        parts.append(f"fairness among flows {format_share(fairness)}")
    return "; ".join(parts)


def _cores(figures: list[Figure]) -> str:
    near, far = find(figures, "busiest-core-near"), find(figures, "busiest-core-far")
    if near is None and far is None:
        return ""
    return f"busiest core: near end {maybe(near, format_share)}, far end {maybe(far, format_share)}"
