"""Options of the commands that talk to a station: how it is reached, and how the runs are kept and labelled."""

import sys
from typing import TYPE_CHECKING, Annotated, Literal

import typer

from harvok.cli.options import duration, rate, size
from harvok.core.ends import DirectionChoice
from harvok.core.ethernet import IpVersion
from harvok.errors import UsageError

if TYPE_CHECKING:
    from harvok.rigs.stations import StationsSettings

DAY_S = 86400.0
IP_VERSIONS: dict[str | None, IpVersion | None] = {None: None, "4": 4, "6": 6}

WHAT, SOCKETS, PATH, KEEP = "What to measure", "Sockets, at both ends", "Reaching the station", "Runs and their labels"

Station = Annotated[str, typer.Argument(metavar="STATION", help="host, host:port or [IPv6 address]:port")]
Token = Annotated[
    str | None,
    typer.Option(
        rich_help_panel=PATH, envvar="HARVOK_TOKEN", help="The token that the station printed; asked for if not given."
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
Direction = Annotated[
    DirectionChoice,
    typer.Option(rich_help_panel=WHAT, help="send: here to there; each: one after the other; both: at the same time."),
]
Interval = Annotated[
    float,
    typer.Option(rich_help_panel=WHAT, parser=duration(0.1, 60), metavar="TIME", help="Length of a row of the report."),
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
Dscp = Annotated[
    int | None, typer.Option(rich_help_panel=SOCKETS, min=0, max=63, help="Differentiated services code point.")
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
        parser=duration(0, DAY_S),
        metavar="TIME",
        help="Wait this long for a busy station or host.",
    ),
]
Name = Annotated[
    str | None, typer.Option(rich_help_panel=PATH, show_default="this host's name", help="What to call this end.")
]


def stations_settings(
    station: str,
    token: str | None,
    local: str | None,
    interface: str | None,
    ip_version: str | None,
    name: str | None,
    rated_bps: float | None = None,
    stamp_key: str | None = None,
    needs_token: bool = True,
) -> "StationsSettings":
    """Both ends, as these options name them; asks for the token where it is needed and missing. Raises UsageError."""
    from harvok.rigs.stations import StationsSettings
    from harvok.traffic.sockets import Source

    return StationsSettings(
        station,
        (token or ask_token()) if needs_token else "",
        Source(local, interface),
        IP_VERSIONS[ip_version],
        name,
        rated_bps,
        stamp_key.encode() if stamp_key else None,
    )


def ask_token() -> str:
    """Asks the person at the keyboard; a script has nobody to ask. Raises UsageError."""
    if not sys.stdin.isatty():
        raise UsageError("no token was given", "Set HARVOK_TOKEN, or give --token, to what `harvok station` printed.")
    return str(typer.prompt("Token that the station printed", hide_input=True))
