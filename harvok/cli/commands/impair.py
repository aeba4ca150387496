"""`harvok impair`: puts delay, loss and their like on a path on purpose."""

from typing import Annotated

import typer

from harvok.cli.options import JsonOption, duration

app = typer.Typer(add_completion=False, no_args_is_help=True, help="Put delay, loss and their like on a path.")

What = Annotated[str, typer.Argument(metavar="IMPAIRMENT", help="The name of one that ships, or a file.")]
Seed = Annotated[int | None, typer.Option(min=0, help="Same seed, same fate of the same sequence of frames.")]


@app.command("list")
def list_impairments(json: JsonOption = False) -> None:
    """Show the impairments that ship, with their figures and reasons."""
    from harvok.rigs.impairment_files import shipped

    files = shipped()
    if json:
        from pydantic_core import to_json

        typer.echo(to_json([file.model_dump(exclude_defaults=True) for file in files], indent=2).decode())
        return
    from harvok.cli.render.console import stdout
    from harvok.cli.render.impair import show_impairments

    show_impairments(stdout(), files)


@app.command()
def describe(impairment: What) -> None:
    """Say in words what an impairment does; checks a file."""
    from harvok.cli.render.console import stdout
    from harvok.cli.render.impair import show_impairment
    from harvok.rigs.impairment_files import read_impairment

    show_impairment(stdout(), read_impairment(impairment))


@app.command(epilog="Exit codes: 0 ended as asked, 2 wrong usage, 4 the ports cannot be used.")
def start(
    port: Annotated[str, typer.Argument(metavar="PORT", help="An interface of this host.")],
    other: Annotated[str, typer.Argument(metavar="OTHER", help="The interface at the other side.")],
    impairment: What,
    for_: Annotated[
        float | None,
        typer.Option("--for", parser=duration(0.5, 7 * 86400), metavar="TIME", show_default="until Ctrl-C"),
    ] = None,
    seed: Seed = None,
    json: JsonOption = False,
) -> None:
    """Join two ports by a bridge that impairs the path between them.

    `send` is from PORT to OTHER. Shows every second what it really does,
    and at the end what it did. Needs the right to open packet sockets.
    """
    from harvok.cli.render.console import stdout
    from harvok.cli.render.impair import ImpairView, report_as_json
    from harvok.rigs.impairment_files import read_impairment
    from harvok.runner.impair import ImpairRequest, impair

    file = read_impairment(impairment)
    if seed is not None:
        file = file.model_copy(update={"seed": seed})
    request = ImpairRequest((port, other), file, for_)
    if json:
        impair(request, lambda report: typer.echo(report_as_json(report)))
        return
    view = ImpairView(stdout(), request.ports)
    view.begin(file)
    try:
        last = impair(request, view.report)
    finally:
        view.close()
    view.sum_up(last)


@app.command()
def show(json: JsonOption = False) -> None:
    """Show what the impairment that runs on this host does just now."""
    _ask("show", None, json)


@app.command()
def change(impairment: What, seed: Seed = None, json: JsonOption = False) -> None:
    """Let the impairment that runs on this host do something else from now on."""
    from harvok.rigs.impairment_files import read_impairment

    file = read_impairment(impairment)
    _ask("change", file.model_copy(update={"seed": seed}) if seed is not None else file, json)


@app.command()
def stop(json: JsonOption = False) -> None:
    """End the impairment that runs on this host."""
    _ask("stop", None, json)


@app.command("kernel")
def put_on_kernel(
    port: Annotated[str, typer.Argument(metavar="PORT", help="An interface of this host.")],
    impairment: Annotated[
        str | None, typer.Argument(metavar="[IMPAIRMENT]", help="The name of one that ships, or a file.")
    ] = None,
    clear: Annotated[bool, typer.Option("--clear", help="Take it off again.")] = False,
) -> None:
    """Let the kernel impair what one interface sends (netem), or clear it.

    For hosts whose kernel has netem. It stays until it is cleared.
    """
    from harvok.host.netem import put_on, take_off
    from harvok.rigs.impairment_files import read_impairment

    if clear == (impairment is not None):
        raise typer.BadParameter("name an impairment, or give --clear", param_hint="'IMPAIRMENT'")
    if impairment is None:
        take_off(port)
        typer.echo(f"{port} is clear")
        return
    file = read_impairment(impairment)
    if file.schedule:
        raise typer.BadParameter("the kernel keeps no schedule: use `harvok impair start`", param_hint="'IMPAIRMENT'")
    put_on(port, file.plan().stages[0].send)
    typer.echo(f"{port} sends with '{file.name}' until: harvok impair kernel {port} --clear")


def _ask(do: str, file: object, json: bool) -> None:
    from harvok.cli.render.console import stdout
    from harvok.cli.render.impair import show_answer
    from harvok.runner.impair import ask

    told = ask(do, file)  # type: ignore[arg-type]
    if json:
        from pydantic_core import to_json

        typer.echo(to_json(told, indent=2).decode())
    else:
        show_answer(stdout(), do, told)
