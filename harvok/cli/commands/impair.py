"""`harvok impair`: puts delay, loss and their like on a path on purpose."""

from pathlib import Path
from typing import Annotated, Literal

import typer

from harvok.cli.options import JsonOption, LogbookOption, duration
from harvok.core.ends import Direction

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


@app.command(
    "try",
    context_settings={"allow_extra_args": True, "ignore_unknown_options": True, "allow_interspersed_args": False},
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
    wait: Annotated[
        float, typer.Option(parser=duration(0, 86400), metavar="TIME", help="For another test to end.")
    ] = "0s",  # type: ignore[assignment]
) -> None:
    """Run a test across an impairment, between two virtual hosts.

    Both are made of this host's kernel, joined by the bridge, and gone
    afterwards: what delay or loss does to TCP is seen without a bench. A
    sweep may vary the impairment. Options of this command come first.
    Example: harvok impair try clean sweep --over delay=0,5ms,20ms
    """
    import sys

    from harvok.cli.options import typed_command
    from harvok.cli.render.console import stderr
    from harvok.cli.render.impair import report_table
    from harvok.rigs.impairment_files import read_impairment
    from harvok.runner.impaired_run import ImpairedRunRequest, run_across

    file = read_impairment(impairment)
    request = ImpairedRunRequest(file, tuple(command), logbook, tuple(typed_command(sys.argv)), wait)
    console = stderr()
    code, report = run_across(request, lambda text: console.print(f"note {text}", markup=False))
    if report:
        console.print(report_table(report, None))
    raise typer.Exit(code)


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


@app.command(epilog="Exit codes: 0 ACCEPT, 1 REJECT, 2 wrong usage, 3 RETEST, 4 could not measure.")
def check(
    rig: Annotated[
        Path, typer.Argument(metavar="RIG", help="The rig file: the box between two ports, or a virtual one.")
    ],
    logbook: LogbookOption,
    impairment: Annotated[
        str | None,
        typer.Argument(metavar="[IMPAIRMENT]", help="What the box is set to; a virtual rig knows its own."),
    ] = None,
    frame_size: Annotated[
        list[str] | None, typer.Option(metavar="SIZE", help="Bytes with FCS. Repeatable.", show_default="RFC 2544's")
    ] = None,
    load: Annotated[float, typer.Option(min=1, max=1e7, help="Frames a second.")] = 1000.0,
    duration: Annotated[float, typer.Option(parser=duration(1, 3600), metavar="TIME", help="Of each trial.")] = "10s",  # type: ignore[assignment]
    trial_pause: Annotated[
        float, typer.Option(parser=duration(0, 60), metavar="TIME", help="After each trial, for frames in flight.")
    ] = "2s",  # type: ignore[assignment]
    tolerance: Annotated[
        float, typer.Option(parser=duration(1e-6, 1), metavar="TIME", help="How far off a delay may be.")
    ] = "100us",  # type: ignore[assignment]
    direction: Annotated[Literal["send", "receive", "both"], typer.Option(help="Which ways to check.")] = "both",
    series: Annotated[str | None, typer.Option(metavar="NAME", help="The series of the run.")] = None,
    json: JsonOption = False,
) -> None:
    """Check that an emulator delays and loses what it is set to.

    Frames of every size go through the box, ours or anybody's, and what
    was set stands beside what was measured, with a verdict.
    """
    import contextlib
    import sys

    from harvok.cli.commands.rfc2544 import frame_sizes
    from harvok.cli.options import typed_command
    from harvok.cli.render.console import stderr, stdout
    from harvok.cli.render.emulator import show_emulator_run
    from harvok.cli.render.frame_view import FramesView
    from harvok.cli.render.records import RecordsOnly
    from harvok.cli.verdicts import exit_code_of
    from harvok.core.models.rig import SimulatedRig, VirtualRig
    from harvok.core.procedures.emulator import EmulatorTest
    from harvok.core.procedures.frames import FrameSettings
    from harvok.errors import UsageError
    from harvok.rigs.files import read_rig
    from harvok.rigs.impairment_files import read_impairment
    from harvok.runner.frames import FrameRequest, run_frames
    from harvok.runner.keeping import Label

    file = read_rig(rig)
    if isinstance(file, SimulatedRig):
        raise UsageError("a simulated rig has no emulator to check", "Name a rig of ports, or a virtual one.")
    name = impairment or (file.impairment if isinstance(file, VirtualRig) else None)
    if name is None:
        raise typer.BadParameter("say what the box is set to", param_hint="'IMPAIRMENT'")
    ways: tuple[Direction, ...] = ("send", "receive") if direction == "both" else (direction,)
    settings = FrameSettings(file.rated, ways, full_s=duration, short_s=min(duration, 1.0), pause_s=trial_pause)
    test = EmulatorTest(
        read_impairment(name).plan().stages[0], frame_sizes(frame_size or [], settings.ip_version), settings, load
    )
    request = FrameRequest(file, test, logbook, typed_command(sys.argv), Label(series), tolerance_s=tolerance)
    view = (
        RecordsOnly(stdout(), stderr()) if json else FramesView(stdout(), test, show_emulator_run, virtual_time=False)
    )
    with contextlib.closing(view):
        run_frames(request, view, view.record)
    raise typer.Exit(exit_code_of([finding for record in view.records for finding in record.findings]))


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

    told = ask(do, file)  # type: ignore[arg-type]
    if json:
        from pydantic_core import to_json

        typer.echo(to_json(told, indent=2).decode())
    else:
        show_answer(stdout(), do, told)
