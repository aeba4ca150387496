"""What the check of an emulator comes to."""

from rich.console import Console

from harvok.cli.render.tables import plain_table
from harvok.cli.render.words import direction_words, maybe
from harvok.core.figures import find
from harvok.core.labels import size_text
from harvok.core.models.run import RunRecord
from harvok.core.quantities import heading_of
from harvok.core.units import format_duration, format_share

_DELAYS = ("latency-min", "latency-median", "latency-mean", "latency-p999")


def show_emulator(console: Console, record: RunRecord) -> None:
    """Delays and losses by frame size. What was set stands in the findings."""
    table = plain_table(("frame", "direction"), [*(f"delay, {heading_of(key)}" for key in _DELAYS), "loss"])
    for sent in (figure for figure in record.figures if figure.quantity == "frames-sent"):
        delays = [find(record.figures, quantity, **sent.labels) for quantity in _DELAYS]
        loss = find(record.figures, "frame-loss", **sent.labels)
        table.add_row(
            size_text(sent.labels["frame-size"]),
            direction_words(sent.labels["direction"]),
            *(maybe(delay, format_duration) for delay in delays),
            maybe(loss, format_share),
        )
    console.print()
    console.print(table)
