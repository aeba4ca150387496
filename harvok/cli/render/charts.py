"""Small charts of braille dots, for a terminal: the newest value to the right."""

from collections.abc import Callable, Collection, Sequence
from dataclasses import dataclass

from rich.console import Console, ConsoleOptions, RenderResult
from rich.table import Table
from rich.text import Text

_BLANK = 0x2800  # Unicode, block Braille Patterns
_DOTS = ((0x01, 0x08), (0x02, 0x10), (0x04, 0x20), (0x40, 0x80))
"""The bit of each dot of a cell, four rows of two."""
_HEIGHT = 4
_GAP = 3
_WIDEST = 6
_DASH, _CLOSE_DASH = 4, 2
_LINES_BESIDE = 2
"""Lines of a terminal that are left free below: for what comes next."""


@dataclass(frozen=True, slots=True)
class ChartLimit:
    """What a value is to keep to: at least, or else at most."""

    value: float
    at_least: bool

    def is_met(self, value: float) -> bool:
        return value >= self.value if self.at_least else value <= self.value


@dataclass(frozen=True, slots=True)
class Chart:
    """A title, a value for each moment, None where there is none, and how a value is shown. `ceiling` is a level that
    is drawn across, `marks` are the numbers of values at which something happened, drawn from top to bottom. A `limit`
    is drawn across as well, in closer dots; a newest value that misses it is coloured, and said to."""

    title: str
    values: Sequence[float | None]
    show: Callable[[float], str]
    ceiling: float | None = None
    marks: Collection[int] = ()
    limit: ChartLimit | None = None


def braille(
    values: Sequence[float | None],
    width: int,
    height: int,
    top: float,
    ceiling: float | None = None,
    marks: Collection[int] = (),
    limit: float | None = None,
) -> list[str]:
    """Values as lines of characters, from 0 at the bottom to `top`; two values a character. Neighbours are joined."""
    rows, newest = 4 * height, _stretched(values, 2 * width)
    cells = [[_BLANK] * width for _ in range(height)]
    for across, dash in ((ceiling, _DASH), (limit, _CLOSE_DASH)):
        if across is not None and top > 0:
            level = rows - 1 - min(int(across / top * rows), rows - 1)
            for column in range(0, 2 * width, dash):
                cells[level // 4][column // 2] |= _DOTS[level % 4][column % 2]
    each = _each(len(values), 2 * width)
    for mark in marks:
        column = 2 * width - (len(values) - mark) * each
        for row in range(0, rows, 2) if column >= 0 else ():
            cells[row // 4][column // 2] |= _DOTS[row % 4][column % 2]
    before: int | None = None
    for column, value in enumerate(newest, 2 * width - len(newest)):
        if value is None:
            before = None
            continue
        row = rows - 1 - min(int(value / top * rows), rows - 1) if top > 0 else rows - 1
        low, high = sorted((row, row if before is None else before))
        for dot in range(low, high + 1):
            cells[dot // 4][column // 2] |= _DOTS[dot % 4][column % 2]
        before = row
    return ["".join(map(chr, line)) for line in cells]


def _stretched(values: Sequence[float | None], dots: int) -> list[float | None]:
    """The newest values, as many as there are dots; each several times where there are few."""
    each = _each(len(values), dots)
    return [value for value in values[-(dots // each) :] for _ in range(each)]


def _each(number: int, dots: int) -> int:
    """How many dots wide each of so many values is drawn."""
    return min(max(dots // max(number, 1), 1), _WIDEST)


def charts(ones: Sequence[Chart], width: int) -> Table:
    """Charts side by side, two in a row, each with its newest value and its largest."""
    each = max((width - _GAP) // 2, 20)
    grid = Table.grid(padding=(0, _GAP, 0, 0))
    for number in range(0, len(ones), 2):
        grid.add_row(*(_drawn(chart, each) for chart in ones[number : number + 2]))
    return grid


def _drawn(chart: Chart, width: int) -> Text:
    seen = [value for value in chart.values if value is not None]
    largest, newest = max(seen, default=0.0), chart.values[-1] if chart.values else None
    limit = chart.limit.value if chart.limit else None
    top = max(largest, chart.ceiling or 0.0, limit or 0.0)
    head = Text.assemble(
        (chart.title, "bold"), " ", _now(chart, newest), f", max {chart.show(largest)}" if seen else ""
    )
    head.truncate(width)
    drawn = braille(chart.values, width, _HEIGHT, top, chart.ceiling, chart.marks, limit)
    return Text("\n").join([head, *(Text(line) for line in drawn)])


def _now(chart: Chart, newest: float | None) -> Text:
    """The newest value, with what the limit makes of it."""
    shown = Text("–" if newest is None else chart.show(newest))
    if chart.limit is None:
        return shown
    missed = newest is not None and not chart.limit.is_met(newest)
    if missed:
        shown.append(" too low" if chart.limit.at_least else " too high")
        shown.stylize("bold red")
    return shown.append(f" ({'min' if chart.limit.at_least else 'max'} {chart.show(chart.limit.value)})")


@dataclass(frozen=True, slots=True)
class Charted:
    """Words with charts below them, where there is room. They are made anew whenever they are drawn, and only then."""

    words: Text
    draw: Callable[[], Sequence[Chart]]

    def __rich_console__(self, console: Console, options: ConsoleOptions) -> RenderResult:
        yield self.words
        drawn, lines = self.draw(), self.words.plain.count("\n") + 1
        if drawn and console.height >= lines + chart_lines(len(drawn)) + _LINES_BESIDE:
            yield charts(drawn, options.max_width)


def chart_lines(number: int) -> int:
    """How many lines so many charts take."""
    return -(-number // 2) * (_HEIGHT + 1)
