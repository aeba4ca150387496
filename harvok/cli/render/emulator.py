"""What the check of an emulator comes to."""

from rich.console import Console
from rich.table import Table
from rich.text import Text

from harvok.cli.render.tcp import show_broken
from harvok.cli.render.words import direction_words, maybe, verdict_text
from harvok.core.figures import find
from harvok.core.judgement.compare import worst_verdict
from harvok.core.models.run import RunRecord
from harvok.core.units import format_duration, format_share

_DELAYS = {"least": "latency-min", "typical": "latency-median", "mean": "latency-mean", "99.9 %": "latency-p999"}


def show_emulator_run(console: Console, record: RunRecord) -> None:
    """Delays and losses by frame size, then what was set beside what was measured."""
    if record.state in ("broken", "invalid"):
        show_broken(console, record)
    table = Table(box=None, padding=(0, 2, 0, 0), header_style="bold")
    table.add_column("frame", justify="right")
    table.add_column("direction")
    for heading in (*_DELAYS, "loss"):
        table.add_column(f"delay, {heading}" if heading != "loss" else heading, justify="right", no_wrap=True)
    for sent in (figure for figure in record.figures if figure.quantity == "frames-sent"):
        delays = [find(record.figures, quantity, **sent.labels) for quantity in _DELAYS.values()]
        loss = find(record.figures, "frame-loss", **sent.labels)
        table.add_row(
            f"{sent.labels['frame-size']} B",
            direction_words(sent.labels["direction"]),
            *(maybe(delay, format_duration) for delay in delays),
            maybe(loss, format_share),
        )
    console.print(table)
    console.print()
    if record.findings:
        console.print(Text.assemble(verdict_text(worst_verdict(record.findings)), " for the emulator"))
    for finding in record.findings:
        console.print(
            Text.assemble(verdict_text(finding.verdict), f"  {finding.where}: {finding.reason}"), soft_wrap=True
        )
        if finding.advice:
            console.print(Text(f"        {finding.advice}", style="dim"), soft_wrap=True)
    console.print(Text(f"kept as run {record.id}", style="dim"))
