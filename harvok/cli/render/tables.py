"""The one look of our tables: no lines, a bold head, names to the left and numbers to the right, nothing broken over
two lines."""

from collections.abc import Iterable

from rich.console import Console
from rich.table import Table
from rich.text import Text


def plain_table(names: Iterable[str] = (), numbers: Iterable[str] = (), gap: int = 2) -> Table:
    """A table with columns of text and, after them, columns of numbers; `gap` blanks between two."""
    table = Table(box=None, padding=(0, gap, 0, 0), header_style="bold")
    for heading in names:
        table.add_column(heading, no_wrap=True)
    for heading in numbers:
        table.add_column(heading, justify="right", no_wrap=True)
    return table


def show_titled(console: Console, tables: Iterable[tuple[str, Table]]) -> None:
    """A numbered title and a table for each trial that has rows."""
    for number, (title, table) in enumerate(((title, table) for title, table in tables if table.row_count), 1):
        console.print()
        console.print(Text.assemble((f"trial {number}", "bold"), f": {title}"))
        console.print(table)
