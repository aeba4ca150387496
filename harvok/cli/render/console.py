"""The consoles. Rich respects NO_COLOR and leaves control characters away where there is no terminal."""

from typing import Any

from rich.console import Console
from rich.table import Table
from rich.text import Text

_PLAIN_WIDTH = 132  # where there is no terminal to ask, wide enough for every table of ours


class Screen(Console):
    """Breaks long lines between words on a terminal, which would break them anywhere; elsewhere a line stays one."""

    def print(self, *things: Any, soft_wrap: bool | None = None, **options: Any) -> None:
        super().print(*things, soft_wrap=soft_wrap and not self.is_terminal, **options)


def print_hanging(console: Console, head: Text, body: str) -> None:
    """A head and a sentence after it, whose further lines on a terminal begin below its first word."""
    if console.is_terminal:
        lines = Table.grid()
        lines.add_row(head, Text(body))
        console.print(lines)
    else:
        console.print(Text.assemble(head, body), soft_wrap=True)


def stdout() -> Console:
    """Standard output: results."""
    return _console(stderr=False)


def stderr() -> Console:
    """Standard error: errors, notices, and progress when standard output carries JSON."""
    return _console(stderr=True)


def _console(stderr: bool) -> Console:
    console = Screen(stderr=stderr, highlight=False)
    if not console.is_terminal:
        console.width = max(console.width, _PLAIN_WIDTH)
    return console
