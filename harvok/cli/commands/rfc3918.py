"""`harvok rfc3918`: the tests of a device that forwards multicast."""

from dataclasses import dataclass
from typing import Annotated

import typer

from harvok.cli.bundles import (
    FRAME_IP,
    LabelOptions,
    ManyPorts,
    RecordOptions,
    RepeatOptions,
    bundled,
    request_of,
)
from harvok.cli.measure import measure
from harvok.cli.options import SEARCH, WHAT, RigFileArgument, chosen, percent_option, time_option
from harvok.core.procedures.rfc3918 import GROUP_TESTS, MAX_GROUPS, GroupTest
from harvok.errors import UsageError

app = typer.Typer(add_completion=False)

Tests = Annotated[
    list[str] | None,
    typer.Argument(metavar="[TEST]...", help=f"{', '.join(GROUP_TESTS)}, or all.", show_default="throughput"),
]


@dataclass(frozen=True, slots=True)
class GroupOptions(ManyPorts):
    """The groups, beside which ports and frames, and how trials are taken."""

    groups: Annotated[
        int, typer.Option(min=1, max=MAX_GROUPS, rich_help_panel=WHAT, help="Groups that the frames go to, in turn.")
    ] = 10
    multicast_share: Annotated[float, percent_option("Share of multicast frames in mixed traffic.", WHAT, "50%")] = 0.5
    leave: Annotated[
        float, time_option(0.5, 600, "How long to wait for the end of groups that were left.", SEARCH, "10s")
    ] = 10.0
    max_groups: Annotated[
        int, typer.Option(min=1, max=MAX_GROUPS, rich_help_panel=SEARCH, help="Groups to try at most, in capacity.")
    ] = MAX_GROUPS


@app.command(epilog="Exit codes: 0 measured, 2 wrong usage, 4 could not measure or broken off.")
@bundled
def rfc3918(
    rig: RigFileArgument,
    multicasting: GroupOptions,
    labelling: LabelOptions,
    repeating: RepeatOptions,
    keeping: RecordOptions,
    tests: Tests = None,
) -> None:
    """Benchmark multicast from one port to others: RFC 3918.

    throughput to all ports at once, mixed with unicast, loss with more
    and more groups (scaled), the delay of joining and leaving, and how
    many groups are kept (capacity, three ports). Groups are joined with
    IGMP version 2 or MLD version 1, as a host behind each port would.
    """
    from harvok.core.mixes import frame_sizes
    from harvok.rigs.rig_files import read_rig
    from harvok.runner.request import RigPlace

    if not 0 < multicasting.multicast_share < 1:
        raise typer.BadParameter("mixed traffic has a share between 0 and 100 %", param_hint="'--multicast-share'")
    if multicasting.ip_version == "none":
        raise UsageError("groups are joined with IP", "Use --ip-version 4 or 6.")
    file = read_rig(rig)
    ports = tuple(multicasting.port or file.port_names)
    test = GroupTest(
        tests=chosen(tests or ["throughput"], GROUP_TESTS, "test"),
        sizes=frame_sizes(multicasting.frame_size or [], FRAME_IP[multicasting.ip_version]),
        settings=multicasting.settings(file, ports),
        ports=ports,
        groups=multicasting.groups,
        share=multicasting.multicast_share,
        leave_s=multicasting.leave,
        max_groups=multicasting.max_groups,
    )
    measure(request_of(RigPlace(file), test, keeping, labelling, repeating), keeping)
