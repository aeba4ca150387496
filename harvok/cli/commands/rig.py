"""`harvok rig`: files that say what is wired to what."""

import contextlib
from pathlib import Path
from typing import Annotated, Literal

import typer

from harvok.cli import completing
from harvok.cli.options import PASSES_ON, JsonOption, LogbookOption, Overwrite, WaitForOther, name_of_now, rate

app = typer.Typer(add_completion=False, no_args_is_help=True, help="Write, check and show rig files.")

RigPath = Annotated[Path, typer.Argument(metavar="RIG", autocompletion=completing.rigs, help="The rig file.")]


@app.command()
def new(
    file: RigPath,
    name: Annotated[str, typer.Option(prompt="Name of the device", help="What to call the device.")],
    rated: Annotated[
        float,
        typer.Option(parser=rate(), prompt="Rated speed, such as 1G", metavar="RATE", help="Rated speed of the ports."),
    ],
    kind: Annotated[
        Literal["simulated", "ports", "remote", "virtual"],
        typer.Option(
            help="simulated: a model, nothing is sent; ports: interfaces of this host; remote: one here, one that a "
            "station lends; virtual: made of this host's kernel."
        ),
    ] = "simulated",
    device: Annotated[
        Literal["wire", "switch", "router"], typer.Option(help="What is between the ports; not for simulated rigs.")
    ] = "switch",
    port1: Annotated[str | None, typer.Option(metavar="INTERFACE", help="The first port.")] = None,
    port2: Annotated[str | None, typer.Option(metavar="INTERFACE", help="The second port.")] = None,
    station: Annotated[str | None, typer.Option(help="The station that lends the second port of a remote rig.")] = None,
    overwrite: Overwrite = False,
) -> None:
    """Write a commented rig file, to be filled in."""
    from harvok.cli.files import check_free, writing
    from harvok.rigs.template import rig_text

    check_free(file, overwrite)
    ports = ("", "")
    if kind in ("ports", "remote"):
        ports = port1 or typer.prompt("Interface of port 1"), port2 or typer.prompt("Interface of port 2")
    if kind == "remote":
        station = station or typer.prompt("Station that lends port 2")
    text = rig_text(kind, name, rated, device, ports, station or "")
    with writing(file) as out:
        out.write(text)
    typer.echo(f"written: {file}; `harvok rig show {file}` checks it")


@app.command(
    "try",
    context_settings=PASSES_ON,
    epilog="Exit codes: those of the command; 4 where virtual hosts cannot be made.",
)
def try_(
    file: RigPath,
    command: Annotated[
        list[str],
        typer.Argument(
            metavar="COMMAND…", help="app, tcp, udp, delay or sweep with its options and no station; or run PLAN."
        ),
    ],
    logbook: LogbookOption,
    wait: WaitForOther = 0.0,
) -> None:
    """Run a test across a device, between two hosts made of this one.

    The rig file names a virtual gateway with its features, or two ports
    of this host with a device between them, each of which is lent to a
    namespace of its own meanwhile. Everything is put back afterwards.
    Options of this command come first.
    Example: harvok rig try gateway.toml app --mix web --users 200
    """
    from harvok.cli.across import run_across_rig
    from harvok.rigs.rig_files import read_rig

    raise typer.Exit(run_across_rig(read_rig(file), command, logbook, wait))


@app.command(
    "vary",
    context_settings=PASSES_ON,
    epilog="Exit codes: 0 measured, 2 wrong usage, 4 could not measure or broken off.",
)
def vary(
    file: RigPath,
    command: Annotated[
        list[str],
        typer.Argument(metavar="COMMAND…", help="app, rfc9411, tcp, udp or delay with its options and no station."),
    ],
    features: Annotated[
        list[str],
        typer.Option(
            metavar="FEATURE,…",
            help="What to switch on: of a virtual gateway stateful, nat, rules=1000, table=10000, block=23. May be "
            "repeated.",
        ),
    ],
    logbook: LogbookOption,
    switch: Annotated[
        str | None,
        typer.Option(
            metavar="COMMAND",
            help="For a rig of ports: what switches the device; run with the features as further words, or none.",
        ),
    ] = None,
    repeats: Annotated[int, typer.Option(min=1, max=100, help="Runs with each, and without.")] = 3,
    series: Annotated[
        str | None, typer.Option(metavar="NAME", show_default="from the time", help="Series that the runs belong to.")
    ] = None,
    json: JsonOption = False,
    wait: WaitForOther = 0.0,
) -> None:
    """Measure what each feature of a device costs.

    The same test in rounds: across the device as it is, then with each of
    the --features on. Shows every main figure beside that without them.
    Options of this command come first.
    Example: harvok rig vary gateway.toml --features stateful --features stateful,rules=1000 app --mix web
    """
    import sys

    from harvok.cli.options import typed_command
    from harvok.cli.render.console import print_note, stderr, stdout
    from harvok.cli.render.features import FeatureView, show_costs
    from harvok.core.models.comparison import encode_costs
    from harvok.core.models.rig import SimulatedRig
    from harvok.errors import UsageError
    from harvok.rigs.rig_files import read_rig
    from harvok.runner.across import AcrossRequest
    from harvok.runner.feature_costs import FeatureRequest, measure_features

    rig = read_rig(file)
    if isinstance(rig, SimulatedRig):
        raise UsageError(f"{rig.name} is a model without features", "Take a virtual gateway, or a rig of ports.")
    request = FeatureRequest(
        rig,
        tuple(tuple(text.replace(",", " ").split()) for text in features),
        AcrossRequest(tuple(command), logbook, tuple(typed_command(sys.argv)), wait),
        series or name_of_now("features"),
        repeats,
        _words(switch or ""),
    )
    view = FeatureView(stderr())
    with contextlib.closing(view):
        costs = measure_features(request, view.run, print_note)
    if json:
        typer.echo(encode_costs(request.name, costs))
    else:
        show_costs(stdout(), request.name, costs)


def _words(command: str) -> tuple[str, ...]:
    """A command as a shell reads it. Raises BadParameter."""
    import shlex

    try:
        return tuple(shlex.split(command))
    except ValueError as error:
        raise typer.BadParameter(f"'{command}' is no command: {error}", param_hint="'--switch'") from error


@app.command()
def show(file: RigPath, json: JsonOption = False) -> None:
    """Check a rig file, and draw who is wired to what.

    Interfaces of a ports rig are looked at as well; exits with 4 when
    one of them cannot be used.
    """
    from harvok.rigs.frame_rigs import problems_of
    from harvok.rigs.rig_files import read_rig

    rig = read_rig(file)
    problems = problems_of(rig)
    if json:
        typer.echo(rig.model_dump_json(indent=2))
        raise typer.Exit(4 if problems else 0)
    from harvok.cli.render.console import stdout
    from harvok.cli.render.rig import show_rig

    show_rig(stdout(), rig, problems)
    raise typer.Exit(4 if problems else 0)
