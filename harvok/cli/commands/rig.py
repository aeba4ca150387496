"""`harvok rig`: files that say what is wired to what."""

from pathlib import Path
from typing import Annotated

import typer

from harvok.cli.options import JsonOption, rate

app = typer.Typer(add_completion=False, no_args_is_help=True, help="Write, check and show rig files.")

RigPath = Annotated[Path, typer.Argument(metavar="RIG", help="The rig file.")]


@app.command()
def new(
    file: RigPath,
    name: Annotated[str, typer.Option(prompt="Name of the device", help="What to call the device.")],
    rated: Annotated[
        float, typer.Option(parser=rate(), prompt="Rated speed, such as 1G", metavar="RATE", help="Speed of its ports.")
    ],
    overwrite: Annotated[bool, typer.Option("--overwrite", help="Replace a file that is there.")] = False,
) -> None:
    """Write a commented file for a simulated rig, to be filled in."""
    from harvok.cli.files import writing
    from harvok.errors import UsageError
    from harvok.rigs.template import rig_text

    if file.exists() and not overwrite:
        raise UsageError(f"{file} is there already", "Give another name, or --overwrite.")
    text = rig_text(name, rated)
    with writing(file) as out:
        out.write(text)
    typer.echo(f"written: {file}; `harvok rig show {file}` checks it")


@app.command()
def show(file: RigPath, json: JsonOption = False) -> None:
    """Check a rig file, and draw who is wired to what."""
    from harvok.rigs.files import read_rig

    rig = read_rig(file)
    if json:
        typer.echo(rig.model_dump_json(indent=2))
        return
    from harvok.cli.render.console import stdout
    from harvok.cli.render.rig import show_rig

    show_rig(stdout(), rig)
