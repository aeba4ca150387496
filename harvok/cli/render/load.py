"""What a device did at each load, as a table for each frame size and direction."""

from rich.console import Console
from rich.text import Text

from harvok.cli.render.tables import PlainTable, plain_table
from harvok.cli.render.words import DASH, direction_words, figure_cell
from harvok.core.figures import Figure, find
from harvok.core.labels import size_text
from harvok.core.models.run import RunRecord
from harvok.core.procedures.latency import latency_definition, lateness_words, stamps_of
from harvok.core.quantities import heading_of

_SHOWN = (
    "offered-load", "forwarding-rate", "forwarding-rate-l2", "frame-loss", "latency-min", "latency-median",
    "latency-p999",
)  # fmt: skip


def show_held_loads(console: Console, record: RunRecord) -> None:
    """What one run comes to."""
    test = record.test
    for size in test.sizes:
        for direction in (stream.name for stream in test.settings.streams):
            labels = {"frame-size": size.name, "direction": direction}
            console.print()
            console.print(_table(labels, [f for f in record.figures if labels.items() <= f.labels.items()]))
    held = "at each load, one after another without a pause" if test.continuous else "at each load"
    delay = f"delay {latency_definition(stamps_of(record.trials), record.rig.kind == 'simulated')}"
    late = lateness_words(record.trials)
    remark = f"{test.settings.full_s:g} s {held}; rates of one direction; {delay}{f'; {late}' if late else ''}"
    console.print(Text(remark, style="dim"))


def _table(labels: dict[str, str], figures: list[Figure]) -> PlainTable:
    title = f"{size_text(labels['frame-size'])}, {direction_words(labels['direction'])}"
    table = plain_table((title,), map(heading_of, _SHOWN))
    for load in dict.fromkeys(figure.labels["load"] for figure in figures):
        table.add_row(load, *(figure_cell(quantity, find(figures, quantity, load=load)) for quantity in _SHOWN))
    if not figures:
        table.add_row(*[DASH] * (len(_SHOWN) + 1))
    return table
