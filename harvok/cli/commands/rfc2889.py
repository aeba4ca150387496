"""`harvok rfc2889`: the tests of a LAN switch with traffic between many of its ports."""

from dataclasses import dataclass
from typing import Annotated

import typer

from harvok.cli.bundles import FRAME_IP, LabelOptions, ManyPorts, RecordOptions, RepeatOptions, bundled, request_of
from harvok.cli.measure import measure
from harvok.cli.options import (
    SEARCH,
    WHAT,
    RigFileArgument,
    chosen,
    size,
)
from harvok.core.procedures.rfc2889 import MAX_ADDRESSES, SWITCH_TESTS, SwitchTest
from harvok.core.procedures.switch_addresses import USUAL_LEARNING_FPS

app = typer.Typer(add_completion=False)

Tests = Annotated[
    list[str] | None,
    typer.Argument(metavar="[TEST]...", help=f"{', '.join(SWITCH_TESTS)}, or all.", show_default="mesh"),
]


@dataclass(frozen=True, slots=True)
class SwitchOptions(ManyPorts):
    """Which ports and frames, how trials are taken, and what addresses and frames that are too long are like."""

    learning_rate: Annotated[
        float,
        typer.Option(min=1, metavar="FPS", rich_help_panel=SEARCH, help="How fast addresses are shown to the switch."),
    ] = USUAL_LEARNING_FPS
    max_addresses: Annotated[
        int, typer.Option(min=2, max=MAX_ADDRESSES, rich_help_panel=SEARCH, help="Addresses to try at most.")
    ] = MAX_ADDRESSES
    oversize: Annotated[
        int | None,
        typer.Option(
            parser=size(1519, 16000),
            metavar="SIZE",
            rich_help_panel=WHAT,
            help="Frames of errored-frames, too long for the device; the tester's ports need an MTU for them.",
        ),
    ] = None


@app.command(epilog="Exit codes: 0 measured, 2 wrong usage, 4 could not measure or broken off.")
@bundled
def rfc2889(
    rig: RigFileArgument,
    switching: SwitchOptions,
    labelling: LabelOptions,
    repeating: RepeatOptions,
    keeping: RecordOptions,
    tests: Tests = None,
) -> None:
    """Benchmark a switch with traffic between many ports: RFC 2889.

    mesh, one-to-many and many-to-one search the throughput, then offer
    line rate; congestion looks for head-of-line blocking; the tests of
    addresses wait until the switch has forgotten, for as long as `aging`
    says in the rig file. A mesh of many ports asks much of one host:
    calibrate first, with --stream all:all.
    """
    from harvok.core.mixes import frame_sizes
    from harvok.rigs.rig_files import read_rig
    from harvok.runner.request import RigPlace

    file = read_rig(rig)
    ports = tuple(switching.port or file.port_names)
    test = SwitchTest(
        tests=chosen(tests or ["mesh"], SWITCH_TESTS, "test"),
        sizes=frame_sizes(switching.frame_size or [], FRAME_IP[switching.ip_version]),
        settings=switching.settings(file, ports),
        ports=ports,
        learning_fps=switching.learning_rate,
        max_addresses=switching.max_addresses,
        oversize_bytes=switching.oversize or 0,
    )
    measure(request_of(RigPlace(file), test, keeping, labelling, repeating), keeping)
