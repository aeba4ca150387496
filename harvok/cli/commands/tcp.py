"""`harvok tcp`: measures TCP goodput between this host and a station."""

import contextlib
import sys
from typing import TYPE_CHECKING, Annotated

import typer

from harvok.cli.options import JsonOption, LogbookOption, attributes, duration, rate, size, typed_command
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
from harvok.core.ends import DirectionChoice
from harvok.core.procedures.tcp import TcpTest
from harvok.core.trials.tcp import SocketOptions, TcpTrial

if TYPE_CHECKING:
    from harvok.runner.flows import FlowRequest

app = typer.Typer(add_completion=False)

_USUAL_DURATION_S = 10.0
_SLOWEST_TICK_S, _FASTEST_TICK_S = 0.1, 0.01


Flows = Annotated[int, typer.Option(rich_help_panel=WHAT, min=1, max=64, help="TCP connections in each direction.")]
Duration = Annotated[
    float | None,
    typer.Option(
        rich_help_panel=WHAT,
        parser=duration(0.5, DAY_S),
        metavar="TIME",
        show_default="10s",
        help="How long to send in each direction.",
    ),
]
Amount = Annotated[
    int | None,
    typer.Option(
        rich_help_panel=WHAT,
        parser=size(1000, 10**15),
        metavar="SIZE",
        help="Send this much in each direction instead of for a time.",
    ),
]
Settling = Annotated[
    float | None,
    typer.Option(
        rich_help_panel=WHAT,
        parser=duration(0, DAY_S),
        metavar="TIME",
        show_default="found automatically",
        help="Leave this much of the start out of the settled figure.",
    ),
]
Mss = Annotated[
    int | None, typer.Option(rich_help_panel=SOCKETS, min=88, max=65495, help="Largest TCP segment, in bytes.")
]
CongestionControl = Annotated[
    str | None,
    typer.Option(
        rich_help_panel=SOCKETS,
        metavar="NAME",
        help="At both ends; net.ipv4.tcp_available_congestion_control lists them.",
    ),
]
Pacing = Annotated[
    float | None,
    typer.Option(rich_help_panel=SOCKETS, parser=rate(), metavar="RATE", help="Hold each flow to this rate."),
]


@app.command(epilog="Exit codes: 0 measured, 2 wrong usage, 4 could not measure or broken off.")
def tcp(
    station: Station,
    logbook: LogbookOption,
    token: Token = None,
    direction: Direction = "each",
    flows: Flows = 1,
    duration: Duration = None,
    amount: Amount = None,
    rated: Rated = None,
    interval: Interval = "1s",  # type: ignore[assignment]
    settling: Settling = None,
    socket_buffer: SocketBuffer = None,
    mss: Mss = None,
    congestion_control: CongestionControl = None,
    dscp: Dscp = None,
    pacing: Pacing = None,
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
    json: JsonOption = False,
) -> None:
    """Measure TCP goodput to and from a station.

    Sends and receives one after the other unless told otherwise.
    Every run goes into the logbook. The settled figure leaves out
    the start-up phase; the limiter says what kept it from being higher.
    """
    from harvok.runner.flows import FlowRequest
    from harvok.runner.keeping import Label

    options = SocketOptions(socket_buffer, mss, congestion_control, dscp, pacing)
    request = FlowRequest(
        stations=stations_settings(station, token, local, interface, ip_version, name, rated),
        test=_test(direction, flows, duration, amount, interval, settling, options),
        logbook=logbook,
        command=typed_command(sys.argv),
        label=Label(series, attributes(with_ or []), note),
        repeat=repeat,
        pause_s=pause,
        wait_s=wait,
    )
    measure(request, json)


def _test(
    direction: DirectionChoice,
    flows: int,
    duration_s: float | None,
    amount_bytes: int | None,
    interval_s: float,
    settling_s: float | None,
    options: SocketOptions,
) -> TcpTest:
    """The test that was asked for. Raises BadParameter where two options contradict each other."""
    if duration_s is not None and amount_bytes is not None:
        raise typer.BadParameter("give either a duration or an amount", param_hint="'--amount'")
    if amount_bytes is None:
        duration_s = duration_s or _USUAL_DURATION_S
        if settling_s is not None and settling_s >= duration_s:
            raise typer.BadParameter("settling must be shorter than the duration", param_hint="'--settling'")
        interval_s = min(interval_s, duration_s)
    tick_s = max(min(interval_s / 10, _SLOWEST_TICK_S), _FASTEST_TICK_S)
    trial = TcpTrial((), flows, duration_s, amount_bytes, interval_s, tick_s, options)
    return TcpTest(direction, trial, settling_s)


def measure(request: "FlowRequest", json: bool) -> None:
    """Runs the request and shows it: rows on the way and a summary, or the records alone."""
    from harvok.cli.render.console import stderr, stdout
    from harvok.cli.render.live import TcpView
    from harvok.cli.render.records import RecordsOnly
    from harvok.runner.flows import run_flows

    view = RecordsOnly(stdout(), stderr()) if json else TcpView(stdout())
    with contextlib.closing(view):
        run_flows(request, view, view.record)
