"""`harvok explain`: what a word means that Harvok prints."""

from typing import Annotated

import typer

from harvok.cli import completing
from harvok.cli.options import JsonOption, print_json

app = typer.Typer(add_completion=False)


@app.command(epilog="Exit codes: 0 found, 2 nothing is written of it.")
def explain(
    word: Annotated[
        list[str],
        typer.Argument(
            metavar="WORD…",
            autocompletion=completing.words,
            help="A figure, a limiter, a reference of an error, a term, a key.",
        ),
    ],
    json: JsonOption = False,
) -> None:
    """Explain a word that Harvok prints, from its own documents.

    Such as goodput-settled, tester-limit, receive window, ceiling,
    frame_port or not-paired.
    """
    from harvok.runner.explain import explain as look_up

    found = look_up(" ".join(word))
    if json:
        print_json(found)
        return
    from harvok.cli.render.console import stdout
    from harvok.cli.render.explain import show_explained

    show_explained(stdout(), found)
