"""Small charts of braille dots, for a terminal: the newest value to the right."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass

from rich.table import Table
from rich.text import Text

_BLANK = 0x2800  # Unicode, block Braille Patterns
_DOTS = ((0x01, 0x08), (0x02, 0x10), (0x04, 0x20), (0x40, 0x80))
"""The bit of each dot of a cell, four rows of two."""
_HEIGHT = 4
_GAP = 3
_WIDEST = 6


@dataclass(frozen=True, slots=True)
class Chart:
    """A title, a value for each moment, None where there is none, and how a value is shown."""

    title: str
    values: Sequence[float | None]
    show: Callable[[float], str]


def braille(values: Sequence[float | None], width: int, height: int, top: float) -> list[str]:
    """Values as lines of characters, from 0 at the bottom to `top`; two values a character. Neighbours are joined."""
    rows, newest = 4 * height, _stretched(values, 2 * width)
    cells = [[_BLANK] * width for _ in range(height)]
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
    each = min(max(dots // max(len(values), 1), 1), _WIDEST)
    return [value for value in values[-dots // each :] for _ in range(each)]


def charts(ones: Sequence[Chart], width: int) -> Table:
    """Charts side by side, two in a row, each with its newest value and its largest."""
    each = max((width - _GAP) // 2, 20)
    grid = Table.grid(padding=(0, _GAP, 0, 0))
    for number in range(0, len(ones), 2):
        grid.add_row(*(_drawn(chart, each) for chart in ones[number : number + 2]))
    return grid


def _drawn(chart: Chart, width: int) -> Text:
    seen = [value for value in chart.values if value is not None]
    top, newest = max(seen, default=0.0), chart.values[-1] if chart.values else None
    now = "–" if newest is None else chart.show(newest)
    head = Text.assemble((chart.title, "bold"), f" {now}, max {chart.show(top)}" if seen else " –")
    head.truncate(width)
    return Text("\n").join([head, *(Text(line) for line in braille(chart.values, width, _HEIGHT, top))])
