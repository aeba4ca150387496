"""What the documents say of a word."""

from collections.abc import Sequence

from rich.console import Console
from rich.text import Text

from harvok.cli.render.console import print_hanging
from harvok.runner.explain import Explained


def show_explained(console: Console, found: Sequence[Explained]) -> None:
    """Each entry: the word and where it stands, then what is said of it."""
    for number, entry in enumerate(found):
        if number:
            console.print()
        console.print(Text.assemble((entry.word, "bold"), (f"  {entry.where}", "dim")), soft_wrap=True)
        for name, said in entry.said:
            print_hanging(console, Text(f"  {name}: ", "dim"), said)
