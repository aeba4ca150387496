"""`harvok sweep`: what settings, loads, delay and loss do to a link or a device, point by point, against a baseline."""

import contextlib
import sys
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Literal

import typer

from harvok.cli.options import JsonOption, LogbookOption, attributes, duration, typed_command
from harvok.cli.plots import Plot, check_plot
from harvok.cli.station_options import (
    KEEP,
    WHAT,
    Direction,
    Interface,
    Local,
    Name,
    Note,
    OnlyIpVersion,
    Rated,
    Token,
    Wait,
    With,
    stations_settings,
)
from harvok.core.ends import DirectionChoice
from harvok.core.sweeps.axes import Axis, axes_of, parse_axes, parse_axis
from harvok.errors import UsageError

if TYPE_CHECKING:
    from harvok.core.procedures.tcp import TcpTest
    from harvok.core.procedures.udp import UdpTest
    from harvok.core.sweeps.axes import Point
    from harvok.runner.frames import FrameRequest
    from harvok.runner.keeping import Label
    from harvok.runner.sweeps import SweepRequest

app = typer.Typer(add_completion=False)

_USUAL_SHARE, _USUAL_SIZE = 0.5, "1518"
_FRAMES_PAUSE_S = 1.0

Target = Annotated[str, typer.Argument(metavar="TARGET", help="A station, for flows; or a rig file, for frames.")]
_WHAT_VARIES = (
    f"What to vary, once or twice. TCP: {', '.join(axes_of('tcp'))}. UDP: {', '.join(axes_of('udp'))}. "
    f"Frames: {', '.join(axes_of('load'))}. On a path with an impairment: delay, loss, variation and its other keys, "
    "for one way with send. or receive. before them. Ranges: 10%..100%/10, 64k..4M*2."
)
Over = Annotated[
    list[str],
    typer.Option(
        rich_help_panel=WHAT,
        metavar="NAME=VALUE,VALUE,…",
        help=_WHAT_VARIES,
    ),
]
Set = Annotated[
    list[str] | None,
    typer.Option("--set", rich_help_panel=WHAT, metavar="NAME=VALUE", help="Hold this at every point. Repeatable."),
]
Flows = Annotated[Literal["tcp", "udp"], typer.Option(rich_help_panel=WHAT, help="What to send to a station.")]
Search = Annotated[
    bool,
    typer.Option(
        "--search", rich_help_panel=WHAT, help="At every point search the highest load without loss: UDP, and frames."
    ),
]
Duration = Annotated[
    float, typer.Option(rich_help_panel=WHAT, parser=duration(0.5, 3600), metavar="TIME", help="Of each trial.")
]
Repeats = Annotated[
    int, typer.Option(rich_help_panel=WHAT, min=1, max=100, help="Runs of each point, and of each baseline.")
]
OrderOption = Annotated[
    Literal["interleaved", "random"],
    typer.Option(rich_help_panel=WHAT, help="Every point once in each round; in the order given, or drawn anew."),
]
Seed = Annotated[int, typer.Option(rich_help_panel=WHAT, min=0, help="Of the random order.")]
Series = Annotated[
    str | None,
    typer.Option(
        rich_help_panel=KEEP, metavar="NAME", show_default="its time", help="What all series of the sweep begin with."
    ),
]
Resume = Annotated[
    bool, typer.Option("--resume", rich_help_panel=KEEP, help="Go on with the sweep of this --series that broke off.")
]


@app.command(epilog="Exit codes: 0 measured, 2 wrong usage, 4 could not measure or broken off.")
def sweep(
    target: Target,
    over: Over,
    logbook: LogbookOption,
    set_: Set = None,
    by: Flows = "tcp",
    search: Search = False,
    direction: Direction = "send",
    duration: Duration = "5s",  # type: ignore[assignment]
    repeats: Repeats = 3,
    order: OrderOption = "interleaved",
    seed: Seed = 1,
    rated: Rated = None,
    series: Series = None,
    resume: Resume = False,
    plot: Plot = None,
    token: Token = None,
    local: Local = None,
    interface: Interface = None,
    ip_version: OnlyIpVersion = None,
    with_: With = None,
    note: Note = "",
    wait: Wait = "0s",  # type: ignore[assignment]
    name: Name = None,
    json: JsonOption = False,
) -> None:
    """Vary one or two things, against a baseline.

    The baseline is measured first and last; between them every point in
    its turn, so that drift does not pass for a trend. Says where gain or
    harm begins, which setting to take, and what arithmetic expects.
    """
    from harvok.clock import SYSTEM
    from harvok.runner.flows import FlowRequest
    from harvok.runner.keeping import Label
    from harvok.runner.sweeps import SweepRequest

    check_plot(plot)
    if resume and series is None:
        raise typer.BadParameter("say which sweep: --series NAME", param_hint="'--resume'")
    on_rig = target.endswith(".toml") or Path(target).is_file()
    kind = "load" if on_rig else by
    axes, fixed = parse_axes(over, kind), tuple(_fixed(set_ or [], kind))
    label = Label(series or f"sweep-{SYSTEM.utc():%Y%m%d-%H%M%S}", attributes(with_ or []), note)
    if on_rig:
        base = _on_rig(Path(target), direction, duration, search, logbook, label, wait)
        request = SweepRequest(base, axes, fixed, repeats, order, seed, resume)
    else:
        flows = FlowRequest(
            stations=stations_settings(target, token, local, interface, ip_version, name, rated),
            test=_tcp(direction, duration, search) if by == "tcp" else _udp(direction, duration, search, axes, fixed),
            logbook=logbook,
            command=typed_command(sys.argv),
            label=label,
            wait_s=wait,
        )
        request = SweepRequest(flows, axes, fixed, repeats, order, seed, resume)
    _measure(request, plot, json)


def _fixed(texts: Sequence[str], kind: str) -> "Point":
    axes = [parse_axis(text, kind, least=1) for text in texts]
    several = next((axis.name for axis in axes if len(axis.values) > 1), None)
    if several:
        raise UsageError(f"--set {several} has several values", "To vary it, use --over.")
    return tuple(axis.values[0] for axis in axes)


def _tcp(direction: DirectionChoice, duration_s: float, search: bool) -> "TcpTest":
    from harvok.core.procedures.tcp import TcpTest
    from harvok.core.trials.tcp import SocketOptions, TcpTrial

    if search:
        raise UsageError("TCP finds its rate by itself", "Use --search with --by udp, or with a rig.")
    interval_s = min(1.0, duration_s)
    return TcpTest(direction, TcpTrial((), 1, duration_s, None, interval_s, interval_s / 10, SocketOptions()))


def _udp(
    direction: DirectionChoice, duration_s: float, search: bool, axes: tuple[Axis, ...], fixed: "Point"
) -> "UdpTest":
    from harvok.core.procedures.udp import UdpTest
    from harvok.core.trials.udp import UdpTrial
    from harvok.core.udp.services import ServiceSpec

    loads = [s.number for axis in axes for s in axis.values if axis.name == "load"]
    loads += [setting.number for setting in fixed if setting.name == "load"]
    if not loads:
        raise UsageError("UDP needs a load", "Vary it, --over load=10M..100M/10, or hold one: --set load=50M.")
    trial = UdpTrial((), (), duration_s, min(1.0, duration_s))
    spec = ServiceSpec(max(load or 0.0 for load in loads), int(_USUAL_SIZE))
    return UdpTest(direction, trial, (spec,), "search" if search else "load")


def _on_rig(
    path: Path, direction: DirectionChoice, duration_s: float, search: bool, logbook: str, label: "Label", wait_s: float
) -> "FrameRequest":
    from harvok.cli.commands.rfc2544 import DIRECTIONS
    from harvok.core.mixes import frame_size
    from harvok.core.procedures.frames import FrameSettings
    from harvok.core.procedures.load import LoadTest
    from harvok.core.procedures.rfc2544 import FrameTest
    from harvok.rigs.files import read_rig
    from harvok.runner.frames import FrameRequest

    if direction == "each":
        raise UsageError("frames go one way, or both at once", "Use --direction send, receive or both.")
    rig = read_rig(path)
    settings = FrameSettings(
        rig.rated,
        DIRECTIONS[direction],
        full_s=duration_s,
        short_s=min(max(duration_s / 10, 0.2), 2.0),
        pause_s=_FRAMES_PAUSE_S,
    )
    sizes = (frame_size(_USUAL_SIZE),)
    searched = FrameTest(("throughput", "latency"), sizes, settings, stream_s=duration_s)
    test = searched if search else LoadTest((_USUAL_SHARE,), sizes, settings)
    return FrameRequest(rig, test, logbook, typed_command(sys.argv), label, wait_s=wait_s)


def _measure(request: "SweepRequest", plot: Path | None, json: bool) -> None:
    from harvok.cli.render.console import stderr, stdout
    from harvok.cli.render.sweep import SweepView, show_readings
    from harvok.runner.sweeps import check_same_sweep, run_sweep

    if request.resume:
        check_same_sweep(request, but="--resume")
    view = SweepView(stderr() if json else stdout(), request.test.kind)
    with contextlib.closing(view):
        readings = run_sweep(request, view, view.record, view.point)
    show_readings(request.name, readings, plot, json)
