"""`harvok rfc9411`: the highest rates and numbers of application traffic that a device carries."""

from dataclasses import dataclass
from typing import Annotated

import typer

from harvok.cli.across import model_or_across
from harvok.cli.bundles import LabelOptions, RecordOptions, RepeatOptions, StationOptions, bundled, request_of
from harvok.cli.measure import draw_last, measure
from harvok.cli.options import (
    DAY_S,
    SEARCH,
    WHAT,
    Picture,
    Rated,
    StationOrRig,
    check_picture,
    check_resolution,
    chosen,
    percent_option,
    rate_option,
    size,
    time_option,
)
from harvok.core.procedures.rfc9411 import CASES, Rfc9411Test
from harvok.core.trials.app import MAX_ARRIVALS_PER_S, MAX_BODY_BYTES, MAX_USERS, WebProtocol

app = typer.Typer(add_completion=False)

Cases = Annotated[
    list[str] | None,
    typer.Argument(metavar="[CASE]...", help=f"{', '.join(CASES)}, or all.", show_default="connections throughput"),
]
_MAX_OBJECTS = 32


@dataclass(frozen=True, slots=True)
class CaseOptions:
    """What is searched, and how."""

    object: Annotated[
        list[int] | None,
        typer.Option(
            rich_help_panel=WHAT,
            parser=size(1, MAX_BODY_BYTES),
            metavar="SIZE",
            show_default="RFC 9411's",
            help="Object that is fetched. Repeatable.",
        ),
    ] = None
    tls: Annotated[
        bool, typer.Option("--tls", rich_help_panel=WHAT, help="Over TLS: the standard's HTTPS cases (§7.6 to §7.9).")
    ] = False
    protocol: Annotated[
        WebProtocol, typer.Option(rich_help_panel=WHAT, help="What objects are fetched by: RFC 9112, or RFC 9113.")
    ] = "http/1.1"
    mix: Annotated[str, typer.Option(rich_help_panel=WHAT, metavar="MIX", help="Of the case mix: what users do.")] = (
        "observatory"
    )
    users: Annotated[
        int, typer.Option(rich_help_panel=WHAT, min=1, max=MAX_USERS, help="Of the case mix: how many there are.")
    ] = 64
    max_connections_per_s: Annotated[
        float, typer.Option(rich_help_panel=SEARCH, min=1, max=MAX_ARRIVALS_PER_S, help="Highest rate to try.")
    ] = 20_000.0
    max_throughput: Annotated[float, rate_option("Highest throughput to try.", SEARCH)] = 10e9
    max_connections: Annotated[
        int, typer.Option(rich_help_panel=SEARCH, min=1, max=MAX_USERS, help="Most concurrent connections to try.")
    ] = 20_000
    resolution: Annotated[float, percent_option("Resolution of each search, of its maximum.", SEARCH, "1%")] = 0.01
    hold: Annotated[float, time_option(1, DAY_S, "How long each load is sustained.", SEARCH, "30s")] = 30.0
    ramp: Annotated[float, time_option(0, DAY_S, "Time to reach each load.", SEARCH, "5s")] = 5.0
    timeout: Annotated[float, time_option(0.1, 600, "What has no answer after this has failed.", SEARCH, "10s")] = 10.0


@app.command(epilog="Exit codes: 0 measured, 2 wrong usage, 4 could not measure or broken off.")
@bundled
def rfc9411(
    place: StationOrRig,
    options: CaseOptions,
    reaching: StationOptions,
    labelling: LabelOptions,
    repeating: RepeatOptions,
    keeping: RecordOptions,
    cases: Cases = None,
    rated: Rated = None,
    plot: Picture = None,
) -> None:
    """Search what a device carries of application traffic: RFC 9411's cases.

    connections: highest rate of new connections, one object each.
    throughput: highest rate of objects, ten on each connection.
    latency: times at half of that. concurrent: most connections held.
    mix: a mix of applications. A load passes when no more than 0.001 %
    of its transactions fail. Loads that the tester does not hold count
    for nothing.
    """
    from harvok.rigs.mix_files import read_mix

    check_picture(plot)
    check_resolution(options.resolution)
    sizes = tuple(options.object or ())
    if len(sizes) > _MAX_OBJECTS:
        raise typer.BadParameter(f"{_MAX_OBJECTS} objects at most", param_hint="'--object'")
    test = Rfc9411Test(
        chosen(cases or ["connections", "throughput"], CASES, "case"),
        read_mix(options.mix).build(),
        options.users,
        sizes,
        options.max_connections_per_s,
        options.max_throughput,
        options.max_connections,
        options.resolution,
        options.hold,
        options.ramp,
        options.timeout,
        options.tls,
        options.protocol,
    )
    model = model_or_across("rfc9411", place, keeping.logbook, repeating.wait)
    where = model or reaching.settings(place, rated)
    draw_last(measure(request_of(where, test, keeping, labelling, repeating), keeping), plot)
