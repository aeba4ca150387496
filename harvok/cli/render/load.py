"""What a device did at each load, as a table for each frame size and direction."""

from rich.console import Console
from rich.table import Table
from rich.text import Text

from harvok.cli.render.frames import show_fault
from harvok.cli.render.words import DASH, direction_words, maybe
from harvok.core.figures import find
from harvok.core.models.run import RunRecord
from harvok.core.procedures.load import LoadTest
from harvok.core.units import format_duration, format_frame_rate, format_rate, format_share

_COLUMNS = (
    ("offered-load", "offered, frames/s", format_frame_rate),
    ("forwarding-rate", "forwarded, frames/s", format_frame_rate),
    ("forwarding-rate-l2", "forwarded, L2", format_rate),
    ("frame-loss", "loss", format_share),
    ("latency-min", "least delay", format_duration),
    ("latency-median", "typical", format_duration),
    ("latency-p999", "99.9 %", format_duration),
)


def show_load_run(console: Console, record: RunRecord) -> None:
    """Prints what one run comes to."""
    assert isinstance(record.test, LoadTest)
    show_fault(console, record)
    for size in record.test.sizes:
        for direction in record.test.settings.directions:
            console.print()
            console.print(_table(record, size.name, direction))
    settings = record.test.settings
    held = "at each load, one after another without a pause" if record.test.continuous else "at each load"
    remark = f"{settings.full_s:g} s {held}; rates of one direction; delay from first bit in to first bit out"
    console.print(Text(remark, style="dim"))
    console.print(Text(f"kept as run {record.id}", style="dim"))


def _table(record: RunRecord, size: str, direction: str) -> Table:
    table = Table(box=None, padding=(0, 2, 0, 0), header_style="bold")
    table.add_column(f"{size} B, {direction_words(direction)}", justify="right", min_width=16)
    for _, heading, _ in _COLUMNS:
        table.add_column(heading, justify="right")
    found = [f for f in record.figures if f.labels.get("frame-size") == size and f.labels.get("direction") == direction]
    for load in dict.fromkeys(figure.labels["load"] for figure in found):
        cells = (maybe(find(found, quantity, load=load), show) for quantity, _, show in _COLUMNS)
        table.add_row(load, *cells)
    if not found:
        table.add_row(*[DASH] * (len(_COLUMNS) + 1))
    return table
