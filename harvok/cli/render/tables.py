"""The one look of our tables: no lines, a bold head, names to the left and numbers to the right.

Where a terminal is too narrow, headings and names go on in the next line: between words, and never between a number and
its unit. Numbers and words are never broken or cut; a table that does not fit at all runs over.
"""

import re
from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from rich.console import Console, ConsoleOptions, RenderResult
from rich.measure import Measurement
from rich.text import Text

Cell = str | Text

_UNIT = r"(?:%|(?:[GMkmµn]?(?:b/s|B/s|B|s)|frames/s)(?:/\w+)?)(?!\w)"
_PIECE = re.compile(rf"[-+±<]?\d[\d.]*(?: \d{{3}}\b)*(?: ± [\d.]+)?(?: {_UNIT})?[),;:]*(?!\S)|\S+")
"""What stays together: a number with its unit, or a word."""


@dataclass(frozen=True, slots=True)
class _Column:
    heading: str
    number: bool


class PlainTable:
    """A table that Rich prints, a live view too. Columns of numbers stand to the right, and their cells are whole."""

    def __init__(self, gap: int) -> None:
        self._gap = gap
        self._columns: list[_Column] = []
        self._rows: list[Sequence[Cell]] = []
        self.footer = ""

    def add_column(self, heading: str, number: bool = False) -> None:
        self._columns.append(_Column(heading, number))

    def add_row(self, *cells: Cell) -> None:
        """A row; cells that are left out at its end are empty."""
        self._rows.append(cells)

    @property
    def row_count(self) -> int:
        return len(self._rows)

    def __rich_console__(self, console: Console, options: ConsoleOptions) -> RenderResult:
        widths = self._widths(options.max_width)
        yield from self._lines([column.heading for column in self._columns], widths, "bold")
        for row in self._rows:
            yield from self._lines(row, widths, "")
        if self.footer:
            yield Text(self.footer, style="dim")

    def __rich_measure__(self, console: Console, options: ConsoleOptions) -> Measurement:
        minimum = sum(self._narrowest(number) + self._gap for number in range(len(self._columns)))
        return Measurement(min(minimum, options.max_width), options.max_width)

    def _cells(self, number: int) -> list[Cell]:
        return [row[number] for row in self._rows if number < len(row)]

    def _natural(self, number: int) -> int:
        texts = [self._columns[number].heading, *map(str, self._cells(number))]
        return max(map(len, texts))

    def _narrowest(self, number: int) -> int:
        """The width below which something would break that must not."""
        column = self._columns[number]
        whole = [len(str(cell)) for cell in self._cells(number) if column.number or isinstance(cell, Text)]
        texts = [column.heading, *(cell for cell in self._cells(number) if not column.number and isinstance(cell, str))]
        pieces = [len(piece) for text in texts for piece in _PIECE.findall(text)]
        return max([*whole, *pieces], default=0)

    def _widths(self, available: int) -> list[int]:
        """As wide as each column would like to be, less where there is no room, the one with the most to spare
        first."""
        widths = [self._natural(number) for number in range(len(self._columns))]
        spare = [width - self._narrowest(number) for number, width in enumerate(widths)]
        excess = sum(widths) + self._gap * (len(widths) - 1) - available
        while excess > 0 and (most := max(spare, default=0)) > 0:
            number = spare.index(most)
            widths[number], spare[number], excess = widths[number] - 1, most - 1, excess - 1
        return widths

    def _lines(self, cells: Sequence[Cell], widths: Sequence[int], style: str) -> Iterable[Text]:
        """One row as lines of text."""
        broken = [_broken(cell, width) for cell, width in zip(cells, widths, strict=False)]
        for number in range(max(map(len, broken), default=0)):
            line = Text(style=style, no_wrap=True, overflow="ignore", end="\n")
            for column, width, lines in zip(self._columns, widths, broken, strict=False):
                piece = lines[number] if number < len(lines) else Text()
                padding = " " * (width - len(piece))
                line = line.append_text(Text(padding) + piece if column.number else piece + Text(padding))
                line.append(" " * self._gap)
            line.rstrip()
            yield line


def _broken(cell: Cell, width: int) -> list[Text]:
    """A cell as lines of at most a width, broken between pieces."""
    if isinstance(cell, Text) or len(cell) <= width:
        return [cell if isinstance(cell, Text) else Text(cell)]
    lines = [""]
    for piece in _PIECE.findall(cell):
        longer = f"{lines[-1]} {piece}".lstrip()
        if len(longer) <= width or not lines[-1]:
            lines[-1] = longer
        else:
            lines.append(piece)
    return [Text(line) for line in lines]


def plain_table(names: Iterable[str] = (), numbers: Iterable[str] = (), gap: int = 2) -> PlainTable:
    """A table with columns of text and, after them, columns of numbers; `gap` blanks between two."""
    table = PlainTable(gap)
    for heading in names:
        table.add_column(heading)
    for heading in numbers:
        table.add_column(heading, number=True)
    return table


def show_titled(console: Console, tables: Iterable[tuple[str, PlainTable]]) -> None:
    """A numbered title and a table for each trial that has rows."""
    for number, (title, table) in enumerate(((title, table) for title, table in tables if table.row_count), 1):
        console.print()
        console.print(Text.assemble((f"trial {number}", "bold"), f": {title}"))
        console.print(table)
