"""`harvok sweep`: what settings, loads, delay and loss do to a link or a device, point by point, against a baseline."""

import contextlib
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Literal

import typer

from harvok.cli.bundles import LabelOptions, RecordOptions, RepeatOptions, StationOptions, Watched, bundled, request_of
from harvok.cli.options import DAY_S, RUNS, WHAT, Direction, Picture, Rated, check_picture, name_of_now, time_option
from harvok.core.ends import PORT_STREAMS
from harvok.core.sweeps.axes import FRAME_AXES, TCP_AXES, UDP_AXES, Axis, AxisSet, parse_axes, parse_axis
from harvok.errors import UsageError

if TYPE_CHECKING:
    from harvok.core.procedure import Test
    from harvok.core.procedures.udp import AnyUdpTest
    from harvok.core.sweeps.axes import Point
    from harvok.runner.request import Place
    from harvok.runner.sweeps import SweepRequest

app = typer.Typer(add_completion=False)

_USUAL_SHARE, _USUAL_SIZE = 0.5, "1518"
_FRAMES_PAUSE_S = 1.0

Target = Annotated[str, typer.Argument(metavar="TARGET", help="A station, for flows; or a rig file, for frames.")]
_WHAT_VARIES = (
    f"What to vary, once or twice. TCP: {', '.join(TCP_AXES.kinds)}. UDP: {', '.join(UDP_AXES.kinds)}. "
    f"Frames: {', '.join(FRAME_AXES.kinds)}. On a path with an impairment: delay, loss, variation and its other keys, "
    "for one way with send. or receive. before them. Ranges: 10%..100%/10, 64k..4M*2."
)
Over = Annotated[list[str], typer.Option(rich_help_panel=WHAT, metavar="NAME=VALUE,VALUE,…", help=_WHAT_VARIES)]


@dataclass(frozen=True, slots=True)
class SweepOptions:
    """What is measured at each point, and in which order points are taken."""

    set_: Annotated[
        list[str] | None,
        typer.Option(
            "--set", rich_help_panel=WHAT, metavar="NAME=VALUE", help="Hold this setting at every point. Repeatable."
        ),
    ] = None
    by: Annotated[Literal["tcp", "udp"], typer.Option(rich_help_panel=WHAT, help="Traffic to send to a station.")] = (
        "tcp"
    )
    search: Annotated[
        bool,
        typer.Option(
            "--search",
            rich_help_panel=WHAT,
            help="Search the highest load without loss at each point: UDP, and frames.",
        ),
    ] = False
    direction: Direction = "send"
    duration: Annotated[float, time_option(0.5, 3600, "Length of each trial.", WHAT, "5s")] = 5.0
    repeats: Annotated[
        int, typer.Option(rich_help_panel=WHAT, min=1, max=100, help="Runs of each point, and of each baseline.")
    ] = 3
    order: Annotated[
        Literal["interleaved", "random"],
        typer.Option(
            rich_help_panel=WHAT, help="Order of the points in each round: as given, or drawn anew for each round."
        ),
    ] = "interleaved"
    seed: Annotated[int, typer.Option(rich_help_panel=WHAT, min=0, help="Seed of the random order.")] = 1


@app.command(epilog="Exit codes: 0 measured, 2 wrong usage, 4 could not measure or broken off.")
@bundled
def sweep(
    target: Target,
    over: Over,
    sweeping: SweepOptions,
    reaching: StationOptions,
    labelling: LabelOptions,
    keeping: RecordOptions,
    rated: Rated = None,
    resume: Annotated[
        bool, typer.Option("--resume", rich_help_panel=RUNS, help="Continue the sweep of this --series that broke off.")
    ] = False,
    plot: Picture = None,
    device: Watched = None,
    wait: Annotated[float, time_option(0, DAY_S, "Wait up to this long for a busy station or host.", RUNS, "0s")] = 0.0,
) -> None:
    """Vary one or two parameters and compare with a baseline.

    The baseline is measured first and last; between them every point in
    its turn, so that drift does not pass for a trend. Shows where gain or
    harm begins, which setting to use, and what arithmetic expects.
    """
    from dataclasses import replace

    from harvok.rigs.rig_files import read_rig
    from harvok.runner.request import RigPlace
    from harvok.runner.sweeps import SweepRequest

    check_picture(plot)
    if resume and labelling.series is None:
        raise typer.BadParameter("say which sweep: --series NAME", param_hint="'--resume'")
    on_rig = target.endswith(".toml") or Path(target).is_file()
    axis_set = FRAME_AXES if on_rig else TCP_AXES if sweeping.by == "tcp" else UDP_AXES
    axes, fixed = parse_axes(over, axis_set), tuple(_fixed(sweeping.set_ or [], axis_set))
    if on_rig:
        rig = read_rig(Path(target))
        place: Place = RigPlace(rig)
        test = _on_rig(rig.rated, sweeping)
    else:
        test = _tcp(sweeping) if sweeping.by == "tcp" else _udp(sweeping, axes, fixed)
        place = reaching.settings(target, rated)
    labelling = replace(labelling, series=labelling.series or name_of_now("sweep"))
    base = request_of(place, test, keeping, labelling, RepeatOptions(wait=wait, device=device))
    request = SweepRequest(base, axes, fixed, sweeping.repeats, sweeping.order, sweeping.seed, resume)
    _measure(request, plot, keeping.json)


def _fixed(texts: Sequence[str], axis_set: AxisSet) -> "Point":
    axes = [parse_axis(text, axis_set, min_values=1) for text in texts]
    several = next((axis.name for axis in axes if len(axis.values) > 1), None)
    if several:
        raise UsageError(f"--set {several} has several values", "To vary it, use --over.")
    return tuple(axis.values[0] for axis in axes)


def _tcp(sweeping: SweepOptions) -> "Test":
    from harvok.core.procedures.tcp import TcpTest
    from harvok.core.trials.tcp import tcp_trial

    if sweeping.search:
        raise UsageError("TCP finds its rate by itself", "Use --search with --by udp, or with a rig.")
    return TcpTest(sweeping.direction, tcp_trial(1, sweeping.duration))


def _udp(sweeping: SweepOptions, axes: tuple[Axis, ...], fixed: "Point") -> "AnyUdpTest":
    from harvok.core.procedures.udp import UdpLoadTest, UdpSearchTest
    from harvok.core.trials.udp import UdpTrial
    from harvok.core.udp.services import ServiceSpec

    loads = [s.number for axis in axes for s in axis.values if axis.name == "load"]
    loads += [setting.number for setting in fixed if setting.name == "load"]
    if not loads:
        raise UsageError("UDP needs a load", "Vary it, --over load=10M..100M/10, or hold one: --set load=50M.")
    trial = UdpTrial((), (), sweeping.duration, min(1.0, sweeping.duration))
    spec = ServiceSpec(max(load or 0.0 for load in loads), int(_USUAL_SIZE))
    return (UdpSearchTest if sweeping.search else UdpLoadTest)(sweeping.direction, trial, (spec,))


def _on_rig(rated_bps: float, sweeping: SweepOptions) -> "Test":
    from harvok.core.mixes import frame_size
    from harvok.core.procedures.frames import FrameSettings, short_trial_s
    from harvok.core.procedures.load import LoadTest
    from harvok.core.procedures.rfc2544 import FrameTest

    if sweeping.direction == "each":
        raise UsageError("frames go one way, or both at once", "Use --direction send, receive or both.")
    settings = FrameSettings(
        rated_bps,
        PORT_STREAMS[sweeping.direction],
        full_s=sweeping.duration,
        short_s=short_trial_s(sweeping.duration),
        pause_s=_FRAMES_PAUSE_S,
    )
    sizes = (frame_size(_USUAL_SIZE),)
    if sweeping.search:
        return FrameTest(("throughput", "latency"), sizes, settings, stream_s=sweeping.duration)
    return LoadTest((_USUAL_SHARE,), sizes, settings)


def _measure(request: "SweepRequest", plot: Path | None, json: bool) -> None:
    from harvok.cli.render.console import stderr, stdout
    from harvok.cli.render.sweep import SweepView, show_readings
    from harvok.runner.sweeps import check_same_sweep, run_sweep

    if request.resume:
        check_same_sweep(request, but="--resume")
    view = SweepView(stderr() if json else stdout(), request.sweeping.figures)
    with contextlib.closing(view):
        readings = run_sweep(request, view, view.record, view.point)
    show_readings(request.name, readings, plot, json)
