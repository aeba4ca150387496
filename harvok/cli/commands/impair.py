"""`harvok impair`: puts delay, loss and their like on a path on purpose."""

from dataclasses import dataclass
from typing import Annotated

import typer

from harvok.cli import completing
from harvok.cli.bundles import LabelOptions, RecordOptions, bundled, request_of
from harvok.cli.measure import leave_with_verdict, measure
from harvok.cli.options import (
    DAY_S,
    PASSES_ON,
    JsonOption,
    LogbookOption,
    RigFileArgument,
    WaitForOther,
    duration,
    print_json,
    time_option,
)
from harvok.core.ends import TwoPortDirection

app = typer.Typer(add_completion=False, no_args_is_help=True, help="Put delay, loss and their like on a path.")

Port = Annotated[
    str, typer.Argument(metavar="PORT", autocompletion=completing.interfaces, help="An interface of this host.")
]
What = Annotated[
    str,
    typer.Argument(
        metavar="IMPAIRMENT", autocompletion=completing.impairments, help="The name of one that ships, or a file."
    ),
]
Seed = Annotated[int | None, typer.Option(min=0, help="Seed: the same one treats the same sequence of frames alike.")]


@app.command("list")
def list_impairments(json: JsonOption = False) -> None:
    """Show the impairments that ship, with their figures and reasons."""
    from harvok.rigs.impairment_files import shipped

    files = shipped()
    if json:
        print_json([file.model_dump(exclude_defaults=True) for file in files])
        return
    from harvok.cli.render.console import stdout
    from harvok.cli.render.impair import show_impairments

    show_impairments(stdout(), files)


@app.command()
def describe(impairment: What) -> None:
    """Describe an impairment in words, and check its file."""
    from harvok.cli.render.console import stdout
    from harvok.cli.render.impair import show_impairment
    from harvok.rigs.impairment_files import read_impairment

    show_impairment(stdout(), read_impairment(impairment))


@app.command(epilog="Exit codes: 0 ended as asked, 2 wrong usage, 4 the ports cannot be used.")
def start(
    port: Port,
    other: Annotated[str, typer.Argument(metavar="OTHER", help="The interface at the other side.")],
    impairment: What,
    for_: Annotated[
        float | None,
        typer.Option(
            "--for",
            parser=duration(0.5, 7 * DAY_S),
            metavar="TIME",
            show_default="until Ctrl-C",
            help="How long to impair the path.",
        ),
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


@app.command(
    "try",
    context_settings=PASSES_ON,
    epilog="Exit codes: those of the command; 4 where virtual hosts cannot be made.",
)
def try_(
    impairment: What,
    command: Annotated[
        list[str],
        typer.Argument(
            metavar="COMMAND…", help="tcp, udp, delay or sweep with its options and no station; or run PLAN."
        ),
    ],
    logbook: LogbookOption,
    wait: WaitForOther = 0.0,
) -> None:
    """Run a test across an impairment, between two virtual hosts.

    Both are made of this host's kernel, joined by the bridge, and gone
    afterwards: what delay or loss does to TCP is seen without a bench. A
    sweep may vary the impairment. Options of this command come first.
    Example: harvok impair try clean sweep --over delay=0,5ms,20ms
    """
    import sys

    from harvok.cli.options import typed_command
    from harvok.cli.render.console import print_note, stderr
    from harvok.cli.render.impair import report_table
    from harvok.rigs.impairment_files import read_impairment
    from harvok.runner.across import AcrossRequest
    from harvok.runner.impaired_run import run_impaired

    file = read_impairment(impairment)
    request = AcrossRequest(tuple(command), logbook, tuple(typed_command(sys.argv)), wait)
    code, report = run_impaired(file, request, print_note)
    if report:
        stderr().print(report_table(report, None))
    raise typer.Exit(code)


@app.command()
def show(json: JsonOption = False) -> None:
    """Show what the impairment running on this host is doing."""
    _ask("show", None, json)


@app.command()
def change(impairment: What, seed: Seed = None, json: JsonOption = False) -> None:
    """Change the impairment that is running on this host."""
    from harvok.rigs.impairment_files import read_impairment

    file = read_impairment(impairment)
    _ask("change", file.model_copy(update={"seed": seed}) if seed is not None else file, json)


@app.command()
def stop(json: JsonOption = False) -> None:
    """Stop the impairment running on this host."""
    _ask("stop", None, json)


@dataclass(frozen=True, slots=True)
class CheckOptions:
    """How the emulator is checked."""

    frame_size: Annotated[
        list[str] | None,
        typer.Option(metavar="SIZE", help="Frame size in bytes with FCS. Repeatable.", show_default="RFC 2544's"),
    ] = None
    load: Annotated[float, typer.Option(min=1, max=1e7, help="Load in frames/s.")] = 1000.0
    duration: Annotated[float, time_option(1, 3600, "Length of each trial.", default="10s")] = 10.0
    trial_pause: Annotated[float, time_option(0, 60, "Pause after each trial, for frames in flight.", default="2s")] = (
        2.0
    )
    tolerance: Annotated[float, time_option(1e-6, 1, "How far off a delay may be.", default="100us")] = 100e-6
    direction: Annotated[TwoPortDirection, typer.Option(help="Directions to check.")] = "both"


@app.command(epilog="Exit codes: 0 ACCEPT, 1 REJECT, 2 wrong usage, 3 RETEST, 4 could not measure.")
@bundled
def check(
    rig: RigFileArgument,
    checking: CheckOptions,
    labelling: LabelOptions,
    keeping: RecordOptions,
    impairment: Annotated[
        str | None,
        typer.Argument(metavar="[IMPAIRMENT]", help="What the emulator is set to; a virtual rig knows its own."),
    ] = None,
) -> None:
    """Check that an emulator delays and loses what it is set to.

    Frames of every size go through the emulator, ours or any other, and what
    was set stands beside what was measured, with a verdict.
    """
    from harvok.core.ends import PORT_STREAMS
    from harvok.core.mixes import frame_sizes
    from harvok.core.procedures.emulator import EmulatorTest
    from harvok.core.procedures.frames import FrameSettings, short_trial_s
    from harvok.errors import UsageError
    from harvok.rigs.impairment_files import read_impairment
    from harvok.rigs.rig_files import read_rig
    from harvok.runner.request import RigPlace

    file = read_rig(rig)
    if file.kind == "simulated":
        raise UsageError("a simulated rig has no emulator to check", "Name a rig of ports, or a virtual one.")
    name = impairment or (file.impairment if file.kind == "virtual" else None)
    if name is None:
        raise typer.BadParameter("say what the emulator is set to", param_hint="'IMPAIRMENT'")
    settings = FrameSettings(
        file.rated,
        PORT_STREAMS[checking.direction],
        full_s=checking.duration,
        short_s=short_trial_s(checking.duration),
        pause_s=checking.trial_pause,
    )
    sizes = frame_sizes(checking.frame_size or [], settings.ip_version)
    test = EmulatorTest(read_impairment(name).plan().stages[0], sizes, settings, checking.load, checking.tolerance)
    leave_with_verdict(measure(request_of(RigPlace(file), test, keeping, labelling), keeping))


@app.command("kernel")
def put_on_kernel(
    port: Port,
    impairment: Annotated[
        str | None, typer.Argument(metavar="[IMPAIRMENT]", help="The name of one that ships, or a file.")
    ] = None,
    clear: Annotated[bool, typer.Option("--clear", help="Clear the impairment again.")] = False,
) -> None:
    """Let the kernel impair what one interface sends (netem), or clear it.

    For hosts whose kernel has netem. It stays until it is cleared.
    """
    from harvok.rigs.impairment_files import read_impairment
    from harvok.runner.impair import clear_kernel
    from harvok.runner.impair import put_on_kernel as put_on

    if clear == (impairment is not None):
        raise typer.BadParameter("name an impairment, or give --clear", param_hint="'IMPAIRMENT'")
    if impairment is None:
        clear_kernel(port)
        typer.echo(f"{port} is clear")
        return
    file = read_impairment(impairment)
    put_on(port, file)
    typer.echo(f"{port} sends with '{file.name}' until: harvok impair kernel {port} --clear")


def _ask(do: str, file: object, json: bool) -> None:
    from harvok.cli.render.console import stdout
    from harvok.cli.render.impair import show_answer
    from harvok.runner.impair import ask

    reported = ask(do, file)  # type: ignore[arg-type]
    if json:
        print_json(reported)
    else:
        show_answer(stdout(), do, reported)
