"""What features of a device cost, while it is measured and afterwards."""

from collections.abc import Iterator, Sequence

from rich.console import Console
from rich.text import Text

from harvok.cli.render.compare import change_cells
from harvok.cli.render.status import StatusLine
from harvok.cli.render.tables import PlainTable, plain_table
from harvok.cli.render.words import DASH, FORMATS
from harvok.core.figures import FigureKey
from harvok.core.judgement.compare import Comparison
from harvok.core.judgement.sample import Series
from harvok.core.labels import label_text
from harvok.core.limiter import Limiter
from harvok.core.quantities import QUANTITIES


class FeatureView:
    """A line for what is measured next. To be closed at the end."""

    def __init__(self, console: Console) -> None:
        self._console, self._status = console, StatusLine(console)

    def run(self, number: int, of: int, what: str) -> None:
        """The next run."""
        text = f"run {number} of {of}: {what}"
        self._status.show(text)
        if not self._console.is_terminal:
            self._console.print(text, soft_wrap=True)

    def close(self) -> None:
        self._status.close()


def show_costs(console: Console, name: str, costs: Sequence[Comparison]) -> None:
    """Every main figure: without features, and with each; then what limited."""
    every = (costs[0].before, *(one.after for one in costs))
    console.print(_costs(name, costs))
    for series in every:
        limiters = sorted({limiter.name for limiter in _limiters(series)})
        if limiters:
            console.print(f"{_part(series, name)}: limited by {', '.join(limiters)}", soft_wrap=True)
        if series.left_out:
            console.print(f"left out of {series.name}: {', '.join(series.left_out)}", soft_wrap=True)
    if any(limiter.blame == "tester" for series in every for limiter in _limiters(series)) or any(
        row.by_tester for one in costs for row in one.rows
    ):
        console.print("The tester limited some of these runs: a feature may cost less, or more, than they show.")
    console.print(Text(f"recorded as the series {name}.…", style="dim"))


def _costs(name: str, costs: Sequence[Comparison]) -> PlainTable:
    table = plain_table(("", "of", "features"), ("mean", "change", "95 % interval"))
    for key in _main_keys(costs[0]):
        found = [(one, row) for one in costs for row in one.rows if row.key == key]
        first = found[0][1]
        meaning = QUANTITIES[first.quantity]
        show = FORMATS[meaning.unit]
        table.add_row(meaning.name, label_text(first.labels), "none", show(first.before.mean), DASH, DASH)
        for one, row in found:
            table.add_row("", "", _part(one.after, name), show(row.after.mean), *change_cells(row))
    return table


def _main_keys(found: Comparison) -> Iterator[FigureKey]:
    main = found.before.runs[0].default
    for row in found.rows:
        if (main is None or row.key in main) and QUANTITIES[row.quantity].rank != "detail":
            yield row.key


def _limiters(series: Series) -> Iterator[Limiter]:
    for run in series.runs:
        yield from run.limiters.values()


def _part(series: Series, name: str) -> str:
    return series.name.removeprefix(f"{name}.")
