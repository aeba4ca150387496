"""The consoles. Rich respects NO_COLOR and leaves control characters away where there is no terminal."""

import re
from collections.abc import Iterable
from typing import Any

from rich.console import Console, ConsoleOptions, RenderableType
from rich.segment import Segment
from rich.table import Table
from rich.text import Text

_PLAIN_WIDTH = 132  # where there is no terminal to ask, wide enough for every table of ours

_CONTROL = re.compile(r"[\x00-\x09\x0b-\x1f\x7f-\x9f\u200e\u200f\u202a-\u202e\u2066-\u2069]")
"""Control characters of C0 and C1 but the end of a line, and those that turn the direction of writing."""


class Screen(Console):
    """Breaks long lines between words on a terminal, which would break them anywhere; elsewhere a line stays one."""

    def render(self, renderable: RenderableType, options: ConsoleOptions | None = None) -> Iterable[Segment]:
        """Everything that is shown comes through here, and nothing that moves the cursor gets by but what Rich adds
        itself: names and texts may come from a station, a record or a neighbour's LLDP."""
        for segment in super().render(renderable, options):
            if segment.control or not _CONTROL.search(segment.text):
                yield segment
            else:
                yield Segment(_CONTROL.sub("", segment.text), segment.style)

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


def headed(head: str, style: str, body: str) -> Text:
    """A word in a style of its own, and a sentence after it."""
    return Text.assemble((head, style), " ", body)


def print_note(text: str) -> None:
    """Something that was done and that nobody asked for, on standard error."""
    stderr().print(headed("note", "bold yellow", text), soft_wrap=True)


def stdout() -> Console:
    """Standard output: results."""
    return _console(stderr=False)


def stderr() -> Console:
    """Standard error: errors, notices, and progress when standard output carries JSON."""
    return _console(stderr=True)


def _console(stderr: bool) -> Console:
    console = Screen(stderr=stderr, highlight=False, markup=False, emoji=False)  # a name in brackets is a name
    if not console.is_terminal:
        console.width = max(console.width, _PLAIN_WIDTH)
    return console
