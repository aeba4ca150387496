"""`harvok udp`: sends numbered datagrams to and from a station, at a rate, in steps, or searching the highest."""

import contextlib
import sys
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from harvok.cli.options import JsonOption, LogbookOption, attributes, duration, percent, rate, size, typed_command
from harvok.cli.plots import Plot, check_plot, draw_last_ramp
from harvok.cli.station_options import (
    DAY_S,
    SOCKETS,
    WHAT,
    Direction,
    Dscp,
    Interface,
    Interval,
    Local,
    Name,
    Note,
    OnlyIpVersion,
    Pause,
    Rated,
    Repeat,
    Series,
    SocketBuffer,
    Station,
    Token,
    Wait,
    With,
    stations_settings,
)
from harvok.core.procedures.udp import UdpTest
from harvok.core.trials.udp import Method, UdpTrial
from harvok.core.udp.services import ServiceSpec
from harvok.errors import UsageError

if TYPE_CHECKING:
    from harvok.runner.flows import FlowRequest

app = typer.Typer(add_completion=False)

_USUAL_FRAME_BYTES = 1518
_FINEST = 1e-4
_SMALLEST_PAYLOAD, _LARGEST_PAYLOAD = 18, 65_487

Rate = Annotated[
    float | None,
    typer.Option(
        rich_help_panel=WHAT,
        parser=rate(),
        metavar="RATE",
        help="Load in each direction, counted in Ethernet frames (L2); with --search the most to try.",
    ),
]
Steps = Annotated[
    str | None,
    typer.Option(
        rich_help_panel=WHAT,
        metavar="RATE,RATE,…",
        help="One trial at each of these loads, in this order; or a range FIRST..LAST/COUNT, downwards as well.",
    ),
]
Continuous = Annotated[
    bool,
    typer.Option(
        "--continuous",
        rich_help_panel=WHAT,
        help="All --steps in one trial without a pause: what queues up at one load is carried over to the next.",
    ),
]
Search = Annotated[
    bool, typer.Option("--search", rich_help_panel=WHAT, help="Search the highest load that arrives whole.")
]
Services = Annotated[
    Path | None,
    typer.Option(
        rich_help_panel=WHAT,
        metavar="FILE",
        help="Step several services up, then run all at once (ITU-T Y.1564); the guide shows such a file.",
    ),
]
FrameSize = Annotated[
    int | None,
    typer.Option(
        rich_help_panel=WHAT,
        min=64,
        max=65_535,
        show_default="1518",
        help="Ethernet frame in bytes, header and FCS included, as in RFC 2544.",
    ),
]
Payload = Annotated[
    int | None,
    typer.Option(
        rich_help_panel=WHAT,
        parser=size(_SMALLEST_PAYLOAD, _LARGEST_PAYLOAD),
        metavar="SIZE",
        help="UDP payload, instead of a frame size.",
    ),
]
Flows = Annotated[int, typer.Option(rich_help_panel=WHAT, min=1, max=64, help="Flows in each direction.")]
Duration = Annotated[
    float,
    typer.Option(rich_help_panel=WHAT, parser=duration(0.5, DAY_S), metavar="TIME", help="Length of each trial."),
]
Resolution = Annotated[
    float, typer.Option(rich_help_panel=WHAT, parser=percent, metavar="PERCENT", help="How finely --search looks.")
]
LossTolerance = Annotated[
    float,
    typer.Option(rich_help_panel=WHAT, parser=percent, metavar="PERCENT", help="Loss that --search still lets pass."),
]
Sending = Annotated[
    Method,
    typer.Option(
        rich_help_panel=SOCKETS,
        help="plain: a call for each datagram; segmented: batches that kernel or card cut; auto: as the load asks.",
    ),
]
Group = Annotated[
    str | None,
    typer.Option(rich_help_panel=SOCKETS, metavar="ADDRESS", help="Send to this multicast group; the station joins."),
]
Hops = Annotated[
    int, typer.Option(rich_help_panel=SOCKETS, min=1, max=255, help="Routers that multicast may cross, and one more.")
]


@app.command(
    epilog="Exit codes: 0 measured, or all services ACCEPT; 1 REJECT; 2 wrong usage; 3 RETEST; 4 could not measure."
)
def udp(
    station: Station,
    logbook: LogbookOption,
    token: Token = None,
    direction: Direction = "each",
    rate: Rate = None,
    steps: Steps = None,
    continuous: Continuous = False,
    search: Search = False,
    services: Services = None,
    frame_size: FrameSize = None,
    payload: Payload = None,
    flows: Flows = 1,
    duration: Duration = "10s",  # type: ignore[assignment]
    rated: Rated = None,
    interval: Interval = "1s",  # type: ignore[assignment]
    resolution: Resolution = "1%",  # type: ignore[assignment]
    loss_tolerance: LossTolerance = "0",  # type: ignore[assignment]
    method: Sending = "auto",
    dscp: Dscp = None,
    socket_buffer: SocketBuffer = None,
    group: Group = None,
    hops: Hops = 1,
    local: Local = None,
    interface: Interface = None,
    ip_version: OnlyIpVersion = None,
    repeat: Repeat = 1,
    pause: Pause = "0s",  # type: ignore[assignment]
    series: Series = None,
    with_: With = None,
    note: Note = "",
    wait: Wait = "0s",  # type: ignore[assignment]
    name: Name = None,
    plot: Plot = None,
    json: JsonOption = False,
) -> None:
    """Send numbered UDP datagrams to and from a station.

    Tells rates, loss and how long its gaps were, duplicates, reordering,
    jitter, delay variation and one-way delay. Datagrams that the receiving
    host itself dropped are told apart from those lost on the path, and a
    load that this host could not send is called that.
    """
    from harvok.runner.flows import FlowRequest
    from harvok.runner.keeping import Label
    from harvok.runner.services import read_services

    check_plot(plot)
    if plot is not None and steps is None:
        raise typer.BadParameter("loss and delay over load need --steps", param_hint="'--plot'")
    if continuous and steps is None:
        raise typer.BadParameter("without a pause between what? Give --steps", param_hint="'--continuous'")
    if frame_size is not None and payload is not None:
        raise typer.BadParameter("give either a frame size or a payload", param_hint="'--payload'")
    if group is not None and direction != "send":
        raise typer.BadParameter("a station sends nothing to a group: use --direction send", param_hint="'--group'")
    trial = UdpTrial((), (), duration, min(interval, duration), method, socket_buffer, group, hops)
    if frame_size is None and payload is None:
        frame_size = _USUAL_FRAME_BYTES
    if sum(asked is not None for asked in (steps, services)) + search > 1:
        raise typer.BadParameter("give one of --steps, --search and --services", param_hint="'--search'")
    if services is not None:
        test = UdpTest(direction, trial, read_services(services), "services", together_s=duration * 2)
    else:
        pattern = ServiceSpec(0.0, frame_size, payload, flows=flows, dscp=dscp)
        test = _test(
            UdpTest(direction, trial, (pattern,), continuous=continuous),
            rate,
            steps,
            search,
            resolution,
            loss_tolerance,
        )
    request = FlowRequest(
        stations=stations_settings(station, token, local, interface, ip_version, name, rated),
        test=test,
        logbook=logbook,
        command=typed_command(sys.argv),
        label=Label(series, attributes(with_ or []), note),
        repeat=repeat,
        pause_s=pause,
        wait_s=wait,
    )
    _measure(request, plot, json)


def _measure(request: "FlowRequest", plot: Path | None, json: bool) -> None:
    """Runs the request, shows and draws it, and leaves with the verdict's exit code."""
    from harvok.cli.render.console import stderr, stdout
    from harvok.cli.render.records import RecordsOnly
    from harvok.cli.render.udp_view import UdpView
    from harvok.cli.verdicts import exit_code_of
    from harvok.runner.flows import run_flows

    view = RecordsOnly(stdout(), stderr()) if json else UdpView(stdout())
    with contextlib.closing(view):
        run_flows(request, view, view.record)
    draw_last_ramp(view.records, plot)
    raise typer.Exit(exit_code_of([finding for record in view.records for finding in record.findings]))


def _test(
    pattern: UdpTest, rate_bps: float | None, steps: str | None, search: bool, resolution: float, tolerance: float
) -> UdpTest:
    """The pattern at what was asked for: loads in steps, a search, or one load. Raises BadParameter."""
    (spec,) = pattern.services
    if steps is not None:
        rates = _rates(steps)
        shares = tuple(one / max(rates) for one in rates)
        at_max = (replace(spec, rate_bps=max(rates)),)
        return replace(pattern, services=at_max, mode="steps", shares=shares)
    if rate_bps is None:
        raise typer.BadParameter("say how much to send, such as 100M", param_hint="'--rate'")
    test = replace(pattern, services=(replace(spec, rate_bps=rate_bps),))
    if search:
        return replace(test, mode="search", resolution=max(resolution, _FINEST), loss_tolerance=tolerance)
    return test


def _rates(text: str) -> tuple[float, ...]:
    """Reads rates with commas between them, or a range. Raises BadParameter."""
    from harvok.core.sweeps.axes import parse_loads

    try:
        return parse_loads(text, "udp")
    except UsageError as error:
        raise typer.BadParameter(error.message, param_hint="'--steps'") from error
