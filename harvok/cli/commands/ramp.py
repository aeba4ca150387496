"""`harvok ramp`: raises or lowers a load of frames through a range, and shows loss and delay over it."""

from typing import Annotated

import typer

from harvok.cli.bundles import (
    FRAME_IP,
    FrameOptions,
    FrameVariety,
    LabelOptions,
    RecordOptions,
    RepeatOptions,
    TrialPause,
    bundled,
    request_of,
)
from harvok.cli.measure import draw_last, measure
from harvok.cli.options import DAY_S, SEARCH, WHAT, Picture, RigFileArgument, check_picture, time_option

app = typer.Typer(add_completion=False)

Loads = Annotated[
    str,
    typer.Option(
        rich_help_panel=WHAT,
        metavar="LOADS",
        help="Shares of line rate, in this order: 20%,50%,90%, or a range FIRST..LAST/COUNT; downwards as well.",
    ),
]
Hold = Annotated[float, time_option(0.5, DAY_S, "How long to hold each load.", SEARCH, "5s")]
Continuous = Annotated[
    bool,
    typer.Option(
        "--continuous",
        rich_help_panel=SEARCH,
        help="Take all loads in one trial, without a pause: what queues up at one load is carried over to the next.",
    ),
]


@app.command(epilog="Exit codes: 0 measured, 2 wrong usage, 4 could not measure or broken off.")
@bundled
def ramp(
    rig: RigFileArgument,
    frames: FrameOptions,
    variety: FrameVariety,
    labelling: LabelOptions,
    repeating: RepeatOptions,
    keeping: RecordOptions,
    loads: Loads = "10%..100%/10",
    hold: Hold = 5.0,
    continuous: Continuous = False,
    trial_pause: TrialPause = 1.0,
    plot: Picture = None,
) -> None:
    """Measure a device over a range of loads.

    Shows at each load what was forwarded, what was lost and how long
    frames took, and draws both over the load. For UDP between hosts:
    `harvok udp STATION --steps 100M..900M/9 --plot FILE`.
    """
    from harvok.core.frame_streams import frame_streams
    from harvok.core.kinds.frames import RAMP_SIZES
    from harvok.core.mixes import frame_sizes
    from harvok.core.procedures.frames import FrameSettings
    from harvok.core.procedures.load import LoadTest
    from harvok.core.sweeps.axes import FRAME_AXES, parse_loads
    from harvok.core.trials.frames import MAX_STEPS
    from harvok.rigs.rig_files import read_rig
    from harvok.runner.request import RigPlace

    check_picture(plot)
    shares = parse_loads(loads, FRAME_AXES)
    if continuous and len(shares) > MAX_STEPS:
        raise typer.BadParameter(f"{MAX_STEPS} loads at most fit one trial", param_hint="'--loads'")
    file = read_rig(rig)
    named = frame_streams(frames.stream or [], frames.direction, file.port_names)
    settings = FrameSettings(
        line_bps=file.rated,
        streams=named.streams,
        frames_of=named.frames_of,
        ip_version=FRAME_IP[frames.ip_version],
        address_pairs=variety.address_pairs,
        burst_frames=variety.burst,
        full_s=hold,
        pause_s=trial_pause,
    )
    sizes = frame_sizes(frames.frame_size or [], settings.ip_version, RAMP_SIZES)
    test = LoadTest(shares, sizes, settings, continuous)
    draw_last(measure(request_of(RigPlace(file), test, keeping, labelling, repeating), keeping), plot)
