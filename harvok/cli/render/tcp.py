"""The end of a TCP run, and a run from the logbook: the settled figure, its share of the ceiling, the limiter."""

from rich.console import Console
from rich.padding import Padding
from rich.table import Table
from rich.text import Text

from harvok.cli.render.words import direction_words, maybe
from harvok.core.figures import Figure, find
from harvok.core.measures.statistics import summarise
from harvok.core.models.run import RunRecord
from harvok.core.tcp.reading import Reading
from harvok.core.units import format_byte_rate, format_duration, format_rate, format_share


def show_run(console: Console, record: RunRecord) -> None:
    """Prints what one run comes to."""
    if record.state == "broken":
        show_broken(console, record)
    for reading in record.readings:
        _show_direction(console, record, reading)
    for notice in record.notices:
        console.print(Text.assemble(("note ", "bold yellow"), notice), soft_wrap=True)
    console.print(Text(f"kept as run {record.id}", style="dim"))


def show_broken(console: Console, record: RunRecord) -> None:
    """Says why a run broke off, and what of it was kept."""
    intervals = sum(len(t.intervals) for t in record.trials)
    whole = sum(1 for t in record.trials if t.result)
    why = record.fault.message if record.fault else "unknown reason"
    console.print(Text.assemble(("BROKEN ", "bold red"), why), soft_wrap=True)
    console.print(f"kept of it: {whole} whole trials and {intervals} interval reports of unfinished ones")


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
    for line in (_settling(figures, reading), _transport(figures), _cores(figures)):
        if line:
            console.print(_indented(line))
    limiter = reading.limiter
    console.print(_indented(Text.assemble(("limiter: ", "bold"), limiter.name, f" – {limiter.evidence}")))
    console.print(_indented(Text.assemble(("next: ", "bold"), limiter.advice)))


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
    least, mean = find(figures, "rtt-min"), find(figures, "rtt-mean")
    if least is not None and mean is not None:
        parts.append(f"RTT least {format_duration(least)}, mean {format_duration(mean)}")
    fairness = find(figures, "fairness")
    if fairness is not None:
        parts.append(f"fairness among flows {format_share(fairness)}")
    return "; ".join(parts)


def _cores(figures: list[Figure]) -> str:
    near, far = find(figures, "busiest-core-near"), find(figures, "busiest-core-far")
    if near is None and far is None:
        return ""
    return f"busiest core: near end {maybe(near, format_share)}, far end {maybe(far, format_share)}"


def show_repeats(console: Console, records: list[RunRecord]) -> None:
    """What several repeats come to: the trimmed mean of the settled goodput, with its spread."""
    table = Table(box=None, padding=(0, 2, 0, 0), header_style="bold")
    table.add_column("direction")
    for heading in ("repeats", "trimmed mean", "median", "spread", "95 % interval"):
        table.add_column(heading, justify="right")
    for direction in ("send", "receive"):
        found = [find(r.figures, "goodput-settled", direction=direction) for r in records]
        values = [value for value in found if value is not None]
        if not values:
            continue
        summary = summarise(values)
        interval = summary.interval()
        few = "" if summary.dropped else " (too few to trim)"
        table.add_row(
            direction_words(direction),
            str(len(values)),
            f"{format_rate(summary.mean)}{few}",
            format_rate(summary.median),
            format_share(summary.spread),
            f"{format_rate(interval.low)} to {format_rate(interval.high)}" if len(values) > 1 else "–",
        )
    console.print()
    console.print(table)
