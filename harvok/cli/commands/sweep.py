"""`harvok sweep`: what a setting does to TCP goodput, point by point, against a baseline."""

import contextlib
import sys
from pathlib import Path
from typing import Annotated, Literal

import typer

from harvok.cli.options import JsonOption, LogbookOption, attributes, duration, typed_command
from harvok.cli.station_options import (
    IP_VERSIONS,
    KEEP,
    WHAT,
    Interface,
    Local,
    Name,
    Note,
    OnlyIpVersion,
    Rated,
    Station,
    Token,
    Wait,
    With,
    ask_token,
)
from harvok.core.ends import DirectionChoice
from harvok.core.procedures.tcp import TcpTest
from harvok.core.trial import SocketOptions, TcpTrial

app = typer.Typer(add_completion=False)


@app.command(epilog="Exit codes: 0 measured, 2 wrong usage, 4 could not measure or broken off.")
def sweep(
    station: Station,
    over: Annotated[
        list[str],
        typer.Option(
            rich_help_panel=WHAT,
            metavar="NAME=VALUE,VALUE,…",
            help="What to vary: socket-buffer, flows, mss, congestion-control, dscp, pacing. Once, or twice.",
        ),
    ],
    logbook: LogbookOption,
    series: Annotated[
        str,
        typer.Option(rich_help_panel=KEEP, metavar="NAME", help="What all series of the sweep begin with."),
    ] = "sweep",
    token: Token = None,
    direction: Annotated[DirectionChoice, typer.Option(rich_help_panel=WHAT, help="As for `harvok tcp`.")] = "send",
    duration: Annotated[
        float, typer.Option(rich_help_panel=WHAT, parser=duration(0.5, 3600), metavar="TIME", help="Of each run.")
    ] = "5s",  # type: ignore[assignment]
    repeats: Annotated[
        int, typer.Option(rich_help_panel=WHAT, min=1, max=100, help="Runs of each point, and of each baseline.")
    ] = 3,
    order: Annotated[
        Literal["interleaved", "random"],
        typer.Option(rich_help_panel=WHAT, help="Every point once in each round; in the order given, or drawn anew."),
    ] = "interleaved",
    seed: Annotated[int, typer.Option(rich_help_panel=WHAT, min=0, help="Of the random order.")] = 1,
    plot: Annotated[
        Path | None, typer.Option(rich_help_panel=KEEP, metavar="FILE", help="Draw the curve there, as PNG or SVG.")
    ] = None,
    rated: Rated = None,
    local: Local = None,
    interface: Interface = None,
    ip_version: OnlyIpVersion = None,
    with_: With = None,
    note: Note = "",
    wait: Wait = "0s",  # type: ignore[assignment]
    name: Name = None,
    json: JsonOption = False,
) -> None:
    """Vary one or two settings of a TCP test, against a baseline.

    The baseline is measured first and last; between them every point in
    its turn, so that drift does not pass for a trend. Says where the knee
    is, what to recommend, and what arithmetic expects.
    """
    from harvok.cli.render.console import stderr, stdout
    from harvok.cli.render.sweep import SweepView, readings_as_json, show_sweep
    from harvok.errors import UsageError
    from harvok.rigs.stations import StationsSettings
    from harvok.runner.flows import FlowRequest
    from harvok.runner.keeping import Label
    from harvok.runner.sweeps import SweepRequest, parse_axis, run_sweep
    from harvok.traffic.sockets import Source

    axes = tuple(parse_axis(text) for text in over)
    if len(axes) > 2 or len({axis.name for axis in axes}) < len(axes):
        raise UsageError("a sweep varies one or two different settings", "Give --over once or twice.")
    if plot is not None and plot.suffix not in (".png", ".svg"):
        raise UsageError(f"{plot} is neither .png nor .svg", "Name the picture with one of these endings.")
    if plot is not None and not plot.absolute().parent.is_dir():
        raise UsageError(f"there is no folder {plot.parent}", "Make it first, or draw elsewhere.")
    interval_s = min(1.0, duration)
    trial = TcpTrial((), 1, duration, None, interval_s, interval_s / 10, SocketOptions())
    source, version = Source(local, interface), IP_VERSIONS[ip_version]
    base = FlowRequest(
        stations=StationsSettings(station, token or ask_token(), source, version, name, rated),
        test=TcpTest(direction, trial),
        logbook=logbook,
        command=typed_command(sys.argv),
        label=Label(series, attributes(with_ or []), note),
        wait_s=wait,
    )
    request = SweepRequest(base, axes, repeats, order, seed)
    console = stdout()
    view = SweepView(stderr() if json else console)
    with contextlib.closing(view):
        readings = run_sweep(request, view, view.record, view.point)
    if json:
        typer.echo(readings_as_json(request.name, readings))
    else:
        show_sweep(console, request.name, readings)
    if plot is not None and readings:
        from harvok.reports.sweep import draw_sweep

        draw_sweep(readings, request.name, plot)
        if not json:
            console.print(f"drawn in {plot}", soft_wrap=True)
