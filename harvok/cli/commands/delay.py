"""`harvok delay`: two-way delay to a reflector or any host, idle and under load."""

import contextlib
import sys
from typing import Annotated, Literal

import typer

from harvok.cli.options import JsonOption, LogbookOption, attributes, duration, rate, size, typed_command
from harvok.cli.station_options import (
    PATH,
    WHAT,
    Dscp,
    Interface,
    Local,
    Name,
    Note,
    OnlyIpVersion,
    Rated,
    Repeat,
    Series,
    Token,
    Wait,
    With,
    stations_settings,
)
from harvok.core.procedures.delay import DelayTest, Load
from harvok.core.trials.delay import DelayTrial

app = typer.Typer(add_completion=False)

Loads = Literal["none", "send", "receive", "each"]

Target = Annotated[
    str, typer.Argument(metavar="TARGET", help="A host, or with --load a station: host, host:port or [IPv6]:port.")
]
Packets = Annotated[int, typer.Option(rich_help_panel=WHAT, min=2, max=1_000_000, help="How many to send.")]
Gap = Annotated[
    float,
    typer.Option(rich_help_panel=WHAT, parser=duration(0.0005, 60), metavar="TIME", help="From packet to packet."),
]
Payload = Annotated[
    int, typer.Option(rich_help_panel=WHAT, parser=size(44, 9000), metavar="SIZE", help="UDP payload of each packet.")
]
UnderLoad = Annotated[
    Loads, typer.Option(rich_help_panel=WHAT, help="Measure idle, then again while the link is filled in a direction.")
]
LoadBy = Annotated[
    Literal["tcp", "udp"], typer.Option(rich_help_panel=WHAT, help="What fills the link: four TCP flows, or UDP.")
]
LoadRate = Annotated[
    float | None,
    typer.Option(rich_help_panel=WHAT, parser=rate(), metavar="RATE", help="Load of UDP, in Ethernet frames (L2)."),
]
By = Annotated[
    Literal["stamp", "echo"] | None,
    typer.Option(rich_help_panel=PATH, show_default="what answers", help="STAMP reflector, or ICMP echo, only."),
]
Port = Annotated[
    int | None,
    typer.Option(
        rich_help_panel=PATH,
        min=1,
        max=65535,
        show_default="26472, then 862",
        help="UDP port of the reflector.",
    ),
]
StampKey = Annotated[
    str | None,
    typer.Option(
        rich_help_panel=PATH,
        envvar="HARVOK_STAMP_KEY",
        metavar="KEY",
        help="Seal packets with this key (authenticated STAMP).",
    ),
]


@app.command(epilog="Exit codes: 0 measured, 2 wrong usage, 4 could not measure or broken off.")
def delay(
    target: Target,
    logbook: LogbookOption,
    packets: Packets = 100,
    gap: Gap = "100ms",  # type: ignore[assignment]
    payload: Payload = "44",  # type: ignore[assignment]
    load: UnderLoad = "none",
    load_by: LoadBy = "tcp",
    load_rate: LoadRate = None,
    rated: Rated = None,
    dscp: Dscp = None,
    by: By = None,
    port: Port = None,
    stamp_key: StampKey = None,
    token: Token = None,
    local: Local = None,
    interface: Interface = None,
    ip_version: OnlyIpVersion = None,
    repeat: Repeat = 1,
    series: Series = None,
    with_: With = None,
    note: Note = "",
    wait: Wait = "0s",  # type: ignore[assignment]
    name: Name = None,
    json: JsonOption = False,
) -> None:
    """Measure two-way delay, its variation, loss and reordering.

    Asks a STAMP reflector (RFC 8762): that of a station, of a router, or
    one of TWAMP Light; where none answers, ICMP echo. With --load it
    measures idle first and then while a test fills the link: the
    difference is what users of a busy link feel.
    """
    from harvok.rigs.reflected import LoadSettings
    from harvok.runner.delay import DelayRequest, run_delay
    from harvok.runner.keeping import Label

    if load != "none" and load_by == "udp" and load_rate is None:
        raise typer.BadParameter("say how much UDP is to fill the link, such as 900M", param_hint="'--load-rate'")
    if by == "echo" and (port is not None or stamp_key is not None):
        raise typer.BadParameter("ICMP echo has neither port nor key", param_hint="'--by'")
    loads = _loads(load, load_by)
    trial = DelayTrial(packets, gap, payload, dscp)
    request = DelayRequest(
        stations=stations_settings(target, token, local, interface, ip_version, name, rated, stamp_key, bool(loads)),
        test=DelayTest(trial, loads, load_rate),
        logbook=logbook,
        command=typed_command(sys.argv),
        port=port,
        by=by,
        load=LoadSettings(load_rate),
        label=Label(series, attributes(with_ or []), note),
        repeat=repeat,
        wait_s=wait,
    )
    from harvok.cli.render.console import stderr, stdout
    from harvok.cli.render.delay import DelayView
    from harvok.cli.render.records import RecordsOnly

    view = RecordsOnly(stdout(), stderr()) if json else DelayView(stdout())
    with contextlib.closing(view):
        run_delay(request, view, view.record)


def _loads(load: Loads, by: Literal["tcp", "udp"]) -> tuple[Load, ...]:
    ways: dict[Loads, tuple[Load, ...]] = {
        "none": (),
        "send": ("tcp-send",) if by == "tcp" else ("udp-send",),
        "receive": ("tcp-receive",) if by == "tcp" else ("udp-receive",),
        "each": ("tcp-send", "tcp-receive") if by == "tcp" else ("udp-send", "udp-receive"),
    }
    return ways[load]
