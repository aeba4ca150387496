"""`harvok ports`: the interfaces of this host; watching one; two of them against each other."""

import sys
from dataclasses import dataclass
from typing import TYPE_CHECKING, Annotated

import typer

from harvok.cli import completing
from harvok.cli.bundles import LabelOptions, RecordOptions, RepeatOptions, bundled, request_of
from harvok.cli.measure import leave_with_verdict, measure
from harvok.cli.options import DAY_S, WHAT, JsonOption, print_json, rate_option, time_option, typed_command
from harvok.core.ends import DirectionChoice

if TYPE_CHECKING:
    from harvok.core.wire.lldp import Neighbour
    from harvok.host.ports import PortFacts

app = typer.Typer(add_completion=False)

_NEIGHBOUR_KINDS = ("physical", "veth")

Port = Annotated[
    str,
    typer.Argument(
        metavar="PORT",
        autocompletion=completing.interfaces,
        help="An interface of this host, as `harvok ports` names it.",
    ),
]
Rated = Annotated[float | None, rate_option("Speed that the port should come up at.", WHAT)]


@app.callback(invoke_without_command=True)
def ports(
    context: typer.Context,
    neighbours: Annotated[
        float | None, time_option(1, 600, "Listen this long for LLDP, which is usually sent every 30 s.")
    ] = None,
    json: JsonOption = False,
) -> None:
    """Show all interfaces of this host, and what may hold one down.

    State, negotiated and highest speed, MTU, driver, slot, addresses,
    errors and drops; and who is at the other end, where that is known.
    """
    if context.invoked_subcommand:
        return
    from harvok.host.ports import all_ports, remarks_on

    found = all_ports()
    heard = _neighbours(found, neighbours) if neighbours else {}
    if json:
        from dataclasses import asdict

        whole = [
            {
                **asdict(port),
                "remarks": remarks_on(port),
                "neighbour": asdict(heard[port.name]) if port.name in heard else None,
            }
            for port in found
        ]
        print_json(whole)
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
@bundled
def watch(
    port: Port,
    labelling: LabelOptions,
    keeping: RecordOptions,
    rated: Rated = None,
    link_ups: Annotated[
        int | None,
        typer.Option(rich_help_panel=WHAT, min=1, help="Stop after this many link-ups.", show_default="until Ctrl-C"),
    ] = None,
    min_link_ups: Annotated[
        int, typer.Option(rich_help_panel=WHAT, min=1, help="Number of link-ups needed for a verdict.")
    ] = 5,
    duration: Annotated[float | None, time_option(0.5, DAY_S, "Stop after this long.", WHAT)] = None,
) -> None:
    """Follow a port while leads are plugged, coiled and uncoiled.

    Keeps every speed that it negotiates, with its time, as one run, and
    says ACCEPT only when it came up at the rated speed every time. Ctrl-C
    ends it.
    """
    from harvok.core.procedures.link import LinkTest
    from harvok.core.trials.link import LinkTrial
    from harvok.runner.request import PortPlace

    test = LinkTest(LinkTrial(port, link_ups, duration), rated, min_link_ups)
    leave_with_verdict(measure(request_of(PortPlace(), test, keeping, labelling), keeping))


@dataclass(frozen=True, slots=True)
class PairTest:
    """The TCP test between the two ports."""

    direction: Annotated[
        DirectionChoice,
        typer.Option(rich_help_panel=WHAT, help="send: from PORT to OTHER; each: one after the other."),
    ] = "each"
    flows: Annotated[int, typer.Option(rich_help_panel=WHAT, min=1, max=64, help="TCP connections each way.")] = 1
    duration: Annotated[float, time_option(0.5, DAY_S, "How long to send each way.", WHAT, "10s")] = 10.0
    rated: Rated = None

    def words(self, labelling: LabelOptions, repeating: RepeatOptions) -> list[str]:
        """The options of `harvok tcp` that ask for it."""
        words = ["--direction", self.direction, "--flows", str(self.flows), "--duration", f"{self.duration}s"]
        words += ["--repeat", str(repeating.repeat), "--pause", f"{repeating.pause}s"]
        words += ["--rated", f"{self.rated:.0f}"] if self.rated else []
        words += ["--series", labelling.series] if labelling.series else []
        words += [word for pair_ in labelling.with_ or [] for word in ("--with", pair_)]
        return words + (["--note", labelling.note] if labelling.note else [])


@app.command(epilog="Exit codes: 0 measured, 2 wrong usage, 4 could not measure or broken off.")
@bundled
def pair(
    port: Port,
    other: Annotated[
        str,
        typer.Argument(
            metavar="OTHER",
            autocompletion=completing.interfaces,
            help="The port at the other end of the lead or switch.",
        ),
    ],
    test: PairTest,
    labelling: LabelOptions,
    repeating: RepeatOptions,
    keeping: RecordOptions,
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

    labelling.label()  # refused here, before anything is moved
    words, command = test.words(labelling, repeating), typed_command(sys.argv)
    request = PairRequest((port, other), words, keeping.logbook, command, keeping.json, repeating.wait)
    code = run_pair(request, lambda text: stderr().print(f"note {text}"))
    if not keeping.json:
        stderr().print(f"{port} and {other} are back as they were", style="dim")
    raise typer.Exit(code)
