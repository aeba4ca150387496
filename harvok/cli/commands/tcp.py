"""`harvok tcp`: measures TCP goodput between this host and a station."""

import contextlib
import sys
from typing import TYPE_CHECKING, Annotated, Literal

import typer

from harvok.cli.options import JsonOption, LogbookOption, attributes, duration, rate, size, typed_command
from harvok.core.ethernet import IpVersion
from harvok.core.procedures.tcp import DirectionChoice, TcpTest
from harvok.core.trial import SocketOptions, TcpTrial
from harvok.errors import UsageError

if TYPE_CHECKING:
    from harvok.runner.tcp import TcpRequest

app = typer.Typer(add_completion=False)

_DAY_S = 86400.0
_USUAL_DURATION_S = 10.0
_SLOWEST_TICK_S, _FASTEST_TICK_S = 0.1, 0.01
_IP_VERSIONS: dict[str | None, IpVersion | None] = {None: None, "4": 4, "6": 6}

WHAT, SOCKETS, PATH, KEEP = "What to measure", "Sockets, at both ends", "Reaching the station", "Runs and their labels"

Station = Annotated[str, typer.Argument(metavar="STATION", help="host, host:port or [IPv6 address]:port")]
Token = Annotated[
    str | None,
    typer.Option(
        rich_help_panel=PATH, envvar="HARVOK_TOKEN", help="The token that the station printed; asked for if not given."
    ),
]
Direction = Annotated[
    DirectionChoice,
    typer.Option(rich_help_panel=WHAT, help="send: here to there; each: one after the other; both: at the same time."),
]
Flows = Annotated[int, typer.Option(rich_help_panel=WHAT, min=1, max=64, help="TCP connections in each direction.")]
Duration = Annotated[
    float | None,
    typer.Option(
        rich_help_panel=WHAT,
        parser=duration(0.5, _DAY_S),
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
Rated = Annotated[
    float | None,
    typer.Option(
        rich_help_panel=WHAT,
        parser=rate(),
        metavar="RATE",
        help="What the equipment is sold for, such as 1G: sets the ceiling.",
    ),
]
Interval = Annotated[
    float,
    typer.Option(rich_help_panel=WHAT, parser=duration(0.1, 60), metavar="TIME", help="Length of a row of the report."),
]
Settling = Annotated[
    float | None,
    typer.Option(
        rich_help_panel=WHAT,
        parser=duration(0, _DAY_S),
        metavar="TIME",
        show_default="found automatically",
        help="Leave this much of the start out of the settled figure.",
    ),
]
SocketBuffer = Annotated[
    int | None,
    typer.Option(
        rich_help_panel=SOCKETS,
        parser=size(1024, 2**30),
        metavar="SIZE",
        help="Send and receive buffer of every socket.",
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
Dscp = Annotated[
    int | None, typer.Option(rich_help_panel=SOCKETS, min=0, max=63, help="Differentiated services code point.")
]
Pacing = Annotated[
    float | None,
    typer.Option(rich_help_panel=SOCKETS, parser=rate(), metavar="RATE", help="Hold each flow to this rate."),
]
Local = Annotated[
    str | None, typer.Option(rich_help_panel=PATH, metavar="ADDRESS", help="Local address to measure from.")
]
Interface = Annotated[
    str | None, typer.Option(rich_help_panel=PATH, metavar="NAME", help="Local interface to measure through.")
]
OnlyIpVersion = Annotated[
    Literal["4", "6"] | None, typer.Option(rich_help_panel=PATH, help="Only this one, where a name has both.")
]
Repeat = Annotated[int, typer.Option(rich_help_panel=KEEP, min=1, max=1000, help="How many runs to take.")]
Pause = Annotated[
    float, typer.Option(rich_help_panel=KEEP, parser=duration(0, 3600), metavar="TIME", help="Between repeats.")
]
Series = Annotated[
    str | None, typer.Option(rich_help_panel=KEEP, metavar="NAME", help="The series that the runs belong to.")
]
With = Annotated[
    list[str] | None,
    typer.Option(
        "--with", rich_help_panel=KEEP, metavar="KEY=VALUE", help="An attribute, such as length=15. Repeatable."
    ),
]
Note = Annotated[str, typer.Option(rich_help_panel=KEEP, show_default=False, help="A remark, kept with the runs.")]
Wait = Annotated[
    float,
    typer.Option(
        rich_help_panel=PATH,
        parser=duration(0, _DAY_S),
        metavar="TIME",
        help="Wait this long for a busy station or host.",
    ),
]
Name = Annotated[
    str | None, typer.Option(rich_help_panel=PATH, show_default="this host's name", help="What to call this end.")
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
    from harvok.rigs.stations import StationsSettings
    from harvok.runner.keeping import Label
    from harvok.runner.tcp import TcpRequest
    from harvok.traffic.sockets import Source

    options = SocketOptions(socket_buffer, mss, congestion_control, dscp, pacing)
    source, version = Source(local, interface), _IP_VERSIONS[ip_version]
    request = TcpRequest(
        stations=StationsSettings(station, token or ask_token(), source, version, name, rated),
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


def ask_token() -> str:
    """Asks the person at the keyboard; a script has nobody to ask. Raises UsageError."""
    if not sys.stdin.isatty():
        raise UsageError("no token was given", "Set HARVOK_TOKEN, or give --token, to what `harvok station` printed.")
    return str(typer.prompt("Token that the station printed", hide_input=True))


def measure(request: "TcpRequest", json: bool) -> None:
    """Runs the request and shows it: rows on the way and a summary, or the records alone."""
    from harvok.cli.render.console import stderr, stdout
    from harvok.cli.render.live import TestView
    from harvok.cli.render.records import RecordsOnly
    from harvok.runner.tcp import run_tcp

    view = RecordsOnly(stdout(), stderr()) if json else TestView(stdout())
    with contextlib.closing(view):
        run_tcp(request, view, view.record)
