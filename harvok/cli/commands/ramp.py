"""`harvok ramp`: raises or lowers a load of frames through a range, and shows loss and delay over it."""

import sys
from typing import Annotated

import typer

from harvok.cli.commands.rfc2544 import (
    DIRECTIONS,
    IP_VERSIONS,
    SEARCH,
    WHAT,
    Burst,
    DirectionOption,
    IpVersionOption,
    Note,
    Pairs,
    Repeat,
    RigPath,
    Series,
    Wait,
    With,
    frame_sizes,
    measure,
)
from harvok.cli.options import JsonOption, LogbookOption, attributes, duration, typed_command
from harvok.cli.plots import Plot, check_plot, draw_last_ramp
from harvok.core.procedures.frames import FrameSettings
from harvok.core.procedures.load import LoadTest
from harvok.core.sweeps.axes import parse_loads
from harvok.core.trials.frames import MAX_STEPS

app = typer.Typer(add_completion=False)

_USUAL = "10%..100%/10"

Loads = Annotated[
    str,
    typer.Option(
        rich_help_panel=WHAT,
        metavar="LOADS",
        help="Of line rate, in this order: 20%,50%,90%, or a range FIRST..LAST/COUNT; downwards as well.",
    ),
]
Sizes = Annotated[
    list[str] | None,
    typer.Option(
        "--frame-size", metavar="SIZE", rich_help_panel=WHAT, show_default="64 and 1518", help="As for rfc2544."
    ),
]
Hold = Annotated[
    float,
    typer.Option(rich_help_panel=SEARCH, parser=duration(0.5, 86400), metavar="TIME", help="How long at each load."),
]
Continuous = Annotated[
    bool,
    typer.Option(
        "--continuous",
        rich_help_panel=SEARCH,
        help="All loads in one trial, without a pause between: what queues up at one load is carried over to the next.",
    ),
]
Pause = Annotated[
    float,
    typer.Option(
        parser=duration(0, 600), metavar="TIME", rich_help_panel=SEARCH, help="After each trial, for frames in flight."
    ),
]


@app.command(epilog="Exit codes: 0 measured, 2 wrong usage, 4 could not measure or broken off.")
def ramp(
    rig: RigPath,
    logbook: LogbookOption,
    loads: Loads = _USUAL,
    frame_size: Sizes = None,
    direction: DirectionOption = "send",
    ip_version: IpVersionOption = "4",
    address_pairs: Pairs = 1,
    burst: Burst = 1,
    hold: Hold = "5s",  # type: ignore[assignment]
    continuous: Continuous = False,
    trial_pause: Pause = "1s",  # type: ignore[assignment]
    repeat: Repeat = 1,
    series: Series = None,
    with_: With = None,
    note: Note = "",
    plot: Plot = None,
    wait: Wait = "0s",  # type: ignore[assignment]
    json: JsonOption = False,
) -> None:
    """Take a device through a range of loads in one go.

    Says at each load what was forwarded, what was lost and how long
    frames took, and draws both over the load. For UDP between hosts:
    `harvok udp STATION --steps 100M..900M/9 --plot FILE`.
    """
    from harvok.rigs.files import read_rig
    from harvok.runner.frames import FrameRequest
    from harvok.runner.keeping import Label

    check_plot(plot)
    shares = parse_loads(loads, "load")
    if continuous and len(shares) > MAX_STEPS:
        raise typer.BadParameter(f"{MAX_STEPS} loads at most fit one trial", param_hint="'--loads'")
    file = read_rig(rig)
    settings = FrameSettings(
        line_bps=file.rated,
        directions=DIRECTIONS[direction],
        ip_version=IP_VERSIONS[ip_version],
        address_pairs=address_pairs,
        burst_frames=burst,
        full_s=hold,
        pause_s=trial_pause,
    )
    request = FrameRequest(
        rig=file,
        test=LoadTest(shares, frame_sizes(frame_size or ["64", "1518"], settings.ip_version), settings, continuous),
        logbook=logbook,
        command=typed_command(sys.argv),
        label=Label(series, attributes(with_ or []), note),
        repeat=repeat,
        wait_s=wait,
    )
    draw_last_ramp(measure(request, json, None), plot)
