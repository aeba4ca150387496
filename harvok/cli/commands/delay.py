"""`harvok delay`: two-way delay to a reflector or any host, idle and under load."""

from dataclasses import dataclass
from pathlib import Path
from typing import Annotated, Literal

import typer

from harvok.cli.bundles import (
    LabelOptions,
    RecordOptions,
    RepeatOptions,
    SentOptions,
    StationOptions,
    bundled,
    request_of,
    secret_of,
)
from harvok.cli.measure import measure
from harvok.cli.options import PATH, WHAT, Dscp, Rated, rate_option, size, time_option
from harvok.core.procedures.delay import DelayTest, LoadWay, loads_of
from harvok.core.trials.delay import DelayTrial

app = typer.Typer(add_completion=False)

Target = Annotated[
    str, typer.Argument(metavar="TARGET", help="A host, or with --load a station: host, host:port or [IPv6]:port.")
]


@dataclass(frozen=True, slots=True)
class ProbeOptions:
    """Which packets are sent."""

    packets: Annotated[
        int, typer.Option(rich_help_panel=WHAT, min=2, max=1_000_000, help="Number of packets to send.")
    ] = 100
    gap: Annotated[float, time_option(0.0005, 60, "Time from packet to packet.", WHAT, default="100ms")] = 0.1
    payload: Annotated[
        int,
        typer.Option(rich_help_panel=WHAT, parser=size(44, 9000), metavar="SIZE", help="UDP payload of each packet."),
    ] = 44
    dscp: Dscp = None


@dataclass(frozen=True, slots=True)
class UnderLoad:
    """What fills the link meanwhile."""

    load: Annotated[
        LoadWay,
        typer.Option(rich_help_panel=WHAT, help="Measure idle, then again while the link is filled in a direction."),
    ] = "none"
    load_by: Annotated[
        Literal["tcp", "udp"], typer.Option(rich_help_panel=WHAT, help="Fill the link with four TCP flows, or UDP.")
    ] = "tcp"
    load_rate: Annotated[float | None, rate_option("Load of UDP, in Ethernet frames (L2).", WHAT)] = None


@dataclass(frozen=True, slots=True)
class ReflectorOptions:
    """What is to answer."""

    by: Annotated[
        Literal["stamp", "echo"] | None,
        typer.Option(rich_help_panel=PATH, show_default="what answers", help="Only a STAMP reflector, or ICMP echo."),
    ] = None
    port: Annotated[
        int | None,
        typer.Option(
            rich_help_panel=PATH, min=1, max=65535, show_default="26472, then 862", help="UDP port of the reflector."
        ),
    ] = None
    stamp_key_file: Annotated[
        Path | None,
        typer.Option(
            rich_help_panel=PATH,
            metavar="FILE",
            help="File with the key of authenticated STAMP; else HARVOK_STAMP_KEY, else packets without a key.",
        ),
    ] = None


@app.command(epilog="Exit codes: 0 measured, 2 wrong usage, 4 could not measure or broken off.")
@bundled
def delay(
    target: Target,
    probing: ProbeOptions,
    under_load: UnderLoad,
    reflecting: ReflectorOptions,
    reaching: StationOptions,
    sending: SentOptions,
    labelling: LabelOptions,
    repeating: RepeatOptions,
    keeping: RecordOptions,
    rated: Rated = None,
) -> None:
    """Measure two-way delay, its variation, loss and reordering.

    Sends to a STAMP reflector (RFC 8762): that of a station, of a router,
    or one of TWAMP Light; where none answers, ICMP echo. With --load it
    measures idle first and then while a test fills the link: the
    difference is what users of a busy link feel.
    """
    from harvok.rigs.reflected import LoadSettings
    from harvok.runner.request import ReflectorPlace

    if under_load.load != "none" and under_load.load_by == "udp" and under_load.load_rate is None:
        raise typer.BadParameter("say how much UDP is to fill the link, such as 900M", param_hint="'--load-rate'")
    if reflecting.by == "echo" and (reflecting.port is not None or reflecting.stamp_key_file is not None):
        raise typer.BadParameter("ICMP echo has neither port nor key", param_hint="'--by'")
    loads = loads_of(under_load.load, under_load.load_by)
    test = DelayTest(
        DelayTrial(probing.packets, probing.gap, probing.payload, probing.dscp), loads, under_load.load_rate
    )
    key = None if reflecting.by == "echo" else secret_of("HARVOK_STAMP_KEY", reflecting.stamp_key_file)
    stations = reaching.settings(target, rated, key, needs_token=bool(loads))
    place = ReflectorPlace(stations, reflecting.port, reflecting.by, LoadSettings(under_load.load_rate))
    sent = sending.sent(reaching, repeating)
    measure(request_of(place, test, keeping, labelling, repeating, sent), keeping)
