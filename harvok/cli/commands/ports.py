"""`harvok ports`: the interfaces of this host; watching one; two of them against each other."""

import sys
from typing import TYPE_CHECKING, Annotated, Literal

import typer

from harvok.cli.options import JsonOption, LogbookOption, attributes, duration, rate, typed_command
from harvok.cli.station_options import KEEP, WHAT, Note, Repeat, Series, With
from harvok.core.procedures.link import LinkTest
from harvok.core.trials.link import LinkTrial

if TYPE_CHECKING:
    from harvok.core.wire.lldp import Neighbour
    from harvok.host.ports import PortFacts

app = typer.Typer(add_completion=False)

_NEIGHBOUR_KINDS = ("physical", "veth")

Port = Annotated[str, typer.Argument(metavar="PORT", help="An interface of this host, as `harvok ports` names it.")]
Rated = Annotated[
    float | None,
    typer.Option(rich_help_panel=WHAT, parser=rate(), metavar="RATE", help="The speed that it should come up at."),
]


@app.callback(invoke_without_command=True)
def ports(
    context: typer.Context,
    neighbours: Annotated[
        float | None,
        typer.Option(
            parser=duration(1, 600), metavar="TIME", help="Listen this long for LLDP, which comes every 30 s as a rule."
        ),
    ] = None,
    json: JsonOption = False,
) -> None:
    """Show all interfaces of this host, and what may hold one down.

    State, negotiated and highest speed, MTU, driver, slot, addresses,
    errors and drops; and who is at the other end, where that is told.
    """
    if context.invoked_subcommand:
        return
    from harvok.host.ports import all_ports, remarks_on

    found = all_ports()
    heard = _neighbours(found, neighbours) if neighbours else {}
    if json:
        from dataclasses import asdict

        from pydantic_core import to_json

        whole = [
            {
                **asdict(port),
                "remarks": remarks_on(port),
                "neighbour": asdict(heard[port.name]) if port.name in heard else None,
            }
            for port in found
        ]
        typer.echo(to_json(whole, indent=2).decode())
        return
    from harvok.cli.render.console import stdout
    from harvok.cli.render.ports import show_ports

    show_ports(stdout(), found, heard)


def _neighbours(found: "list[PortFacts]", for_s: float) -> "dict[str, Neighbour]":
    """Listens on every port that has a link."""
    from harvok.host.neighbours import hear_neighbours

    up = [port.name for port in found if port.state == "up" and port.kind in _NEIGHBOUR_KINDS]
    return hear_neighbours(up, for_s) if up else {}


@app.command(epilog="Exit codes: 0 ACCEPT, or nothing was rated; 1 REJECT; 2 wrong usage; 3 RETEST; 4 no such port.")
def watch(
    port: Port,
    logbook: LogbookOption,
    rated: Rated = None,
    link_ups: Annotated[
        int | None,
        typer.Option(rich_help_panel=WHAT, min=1, help="End after this many.", show_default="until Ctrl-C"),
    ] = None,
    least: Annotated[
        int, typer.Option(rich_help_panel=WHAT, min=1, help="Fewer link-ups than this are too few for a verdict.")
    ] = 5,
    duration: Annotated[
        float | None,
        typer.Option(rich_help_panel=WHAT, parser=duration(0.5, 86400), metavar="TIME", help="End after this long."),
    ] = None,
    series: Series = None,
    with_: With = None,
    note: Note = "",
    json: JsonOption = False,
) -> None:
    """Follow a port while leads are plugged, coiled and uncoiled.

    Keeps every speed that it negotiates, with its time, as one run, and
    says ACCEPT only when it came up at the rated speed every time. Ctrl-C
    ends it.
    """
    from harvok.cli.render.console import stderr, stdout
    from harvok.cli.render.link import LinkView
    from harvok.cli.render.records import RecordsOnly
    from harvok.cli.verdicts import exit_code_of
    from harvok.runner.keeping import Label
    from harvok.runner.ports import WatchRequest
    from harvok.runner.ports import watch as follow

    request = WatchRequest(
        LinkTest(LinkTrial(port, link_ups, duration), rated, least),
        logbook,
        typed_command(sys.argv),
        Label(series, attributes(with_ or []), note),
    )
    view = RecordsOnly(stdout(), stderr()) if json else LinkView(stdout())
    follow(request, view, view.event if isinstance(view, LinkView) else lambda _: None, view.record)
    raise typer.Exit(exit_code_of([finding for record in view.records for finding in record.findings]))


@app.command(epilog="Exit codes: 0 measured, 2 wrong usage, 4 could not measure or broken off.")
def pair(
    port: Port,
    other: Annotated[str, typer.Argument(metavar="OTHER", help="The port at the other end of the lead or switch.")],
    logbook: LogbookOption,
    direction: Annotated[
        Literal["send", "receive", "each", "both"],
        typer.Option(rich_help_panel=WHAT, help="send: from PORT to OTHER; each: one after the other."),
    ] = "each",
    flows: Annotated[int, typer.Option(rich_help_panel=WHAT, min=1, max=64, help="TCP connections each way.")] = 1,
    duration: Annotated[
        float,
        typer.Option(rich_help_panel=WHAT, parser=duration(0.5, 86400), metavar="TIME", help="How long each way."),
    ] = "10s",  # type: ignore[assignment]
    rated: Rated = None,
    repeat: Repeat = 1,
    series: Series = None,
    with_: With = None,
    note: Note = "",
    wait: Annotated[
        float,
        typer.Option(rich_help_panel=KEEP, parser=duration(0, 86400), metavar="TIME", help="For another test to end."),
    ] = "0s",  # type: ignore[assignment]
    json: JsonOption = False,
) -> None:
    """Measure TCP from one port of this host to another.

    A lead or a switch joins them. Each is moved into a network namespace
    of its own meanwhile, so that the traffic really takes the lead, and
    put back with its addresses afterwards, also when the test is killed.
    Needs root.
    """
    from harvok.cli.render.console import stderr
    from harvok.runner.ports import PairRequest
    from harvok.runner.ports import pair as run_pair

    attributes(with_ or [])  # refused here, before anything is moved
    words = ["--direction", direction, "--flows", str(flows), "--duration", f"{duration}s", "--repeat", str(repeat)]
    words += ["--rated", f"{rated:.0f}"] if rated else []
    words += ["--series", series] if series else []
    words += [word for pair_ in with_ or [] for word in ("--with", pair_)]
    words += ["--note", note] if note else []
    request = PairRequest((port, other), words, logbook, typed_command(sys.argv), json, wait)
    code = run_pair(request, lambda text: stderr().print(f"note {text}", markup=False))
    if not json:
        stderr().print(f"{port} and {other} are back as they were", style="dim")
    raise typer.Exit(code)
