"""`harvok mix`: mixes of applications, as users of a network behave."""

from pathlib import Path
from typing import Annotated

import typer

from harvok.cli import completing
from harvok.cli.options import JsonOption, Overwrite, print_json
from harvok.core.trials.app import MAX_USERS

app = typer.Typer(add_completion=False, no_args_is_help=True, help="Write, check and show mixes of applications.")

MixArgument = Annotated[
    str, typer.Argument(metavar="MIX", autocompletion=completing.mixes, help="The name of one that ships, or a file.")
]


@app.command("list")
def list_mixes(json: JsonOption = False) -> None:
    """Show the mixes that ship."""
    from harvok.rigs.mix_files import shipped

    mixes = shipped()
    if json:
        print_json([mix.model_dump(exclude_defaults=True, by_alias=True) for mix in mixes])
        return
    from harvok.cli.render.console import stdout
    from harvok.cli.render.mix import show_mixes

    show_mixes(stdout(), mixes)


@app.command()
def show(mix: MixArgument, json: JsonOption = False) -> None:
    """Show what the users of a mix do."""
    from harvok.rigs.mix_files import read_mix

    found = read_mix(mix)
    if json:
        typer.echo(found.model_dump_json(indent=2, exclude_defaults=True, by_alias=True))
        return
    from harvok.cli.render.console import stdout
    from harvok.cli.render.mix import show_mix

    show_mix(stdout(), found)


@app.command()
def check(
    mix: MixArgument,
    users: Annotated[int, typer.Option(min=1, max=MAX_USERS, help="How many users there would be.")] = 64,
    json: JsonOption = False,
) -> None:
    """Check a mix; say what its users would ask of a path at most."""
    from harvok.core.app.demand import demands
    from harvok.rigs.mix_files import read_mix

    found = read_mix(mix)
    asked = demands(found.build(), users)
    if json:
        print_json({"mix": found.name, "users": users, "applications": asked})
        return
    from harvok.cli.render.console import stdout
    from harvok.cli.render.mix import show_demands

    show_demands(stdout(), found.name, users, asked)


@app.command()
def new(
    file: Annotated[Path, typer.Argument(metavar="FILE", help="The file to write.")],
    from_: Annotated[str, typer.Option("--from", metavar="MIX", help="The mix that ships to begin with.")] = "web",
    overwrite: Overwrite = False,
) -> None:
    """Write a mix with comments, to be changed."""
    from harvok.cli.files import check_free, writing
    from harvok.rigs.mix_files import mix_text

    check_free(file, overwrite)
    text = mix_text(from_)
    with writing(file) as out:
        out.write(text)
    typer.echo(f"written: {file}; `harvok mix check {file}` checks it")
