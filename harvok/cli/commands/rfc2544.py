"""`harvok rfc2544`: the benchmarking tests of RFC 2544 on a rig."""

from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Literal

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
from harvok.cli.measure import measure
from harvok.cli.options import (
    DAY_S,
    RUNS,
    SEARCH,
    WHAT,
    RigFileArgument,
    check_resolution,
    chosen,
    percent_option,
    time_option,
)
from harvok.core.procedures.latency import Form
from harvok.core.procedures.rfc2544 import TEST_NAMES, FrameTest

if TYPE_CHECKING:
    from harvok.core.models.rig import RigFile
    from harvok.core.procedures.frames import FrameSettings

app = typer.Typer(add_completion=False)

Tests = Annotated[
    list[str] | None,
    typer.Argument(metavar="[TEST]...", help=f"{', '.join(TEST_NAMES)}, or all.", show_default="throughput latency"),
]
Plots = Annotated[
    Path | None,
    typer.Option(metavar="FOLDER", rich_help_panel=RUNS, help="Draw the results into this folder, as PNG and SVG."),
]


@dataclass(frozen=True, slots=True)
class SearchOptions:
    """How trials are taken, and how the throughput is searched."""

    duration: Annotated[float, time_option(1, DAY_S, "Length of a trial that counts.", SEARCH, "60s")] = 60.0
    resolution: Annotated[float, percent_option("Resolution of a search, of line rate.", SEARCH, "0.1%")] = 0.001
    search: Annotated[
        Literal["guided", "binary"],
        typer.Option(rich_help_panel=SEARCH, help="guided: short trials steer; binary: plain halving at full length."),
    ] = "guided"
    trial_pause: TrialPause = 7.0
    loss_tolerance: Annotated[
        float, percent_option("Loss at which a trial still passes; 0 is the RFC's throughput.", SEARCH, "0%")
    ] = 0.0
    latency_form: Annotated[
        Form, typer.Option(rich_help_panel=WHAT, help="classic: 20 tagged frames (RFC 2544); modern: 500 (RFC 8219).")
    ] = "modern"
    burst_repeats: Annotated[
        int, typer.Option(min=1, max=1000, rich_help_panel=SEARCH, help="Repeats of back-to-back.")
    ] = 50


@app.command(epilog="Exit codes: 0 measured, 2 wrong usage, 4 could not measure or broken off.")
@bundled
def rfc2544(
    rig: RigFileArgument,
    frames: FrameOptions,
    variety: FrameVariety,
    searching: SearchOptions,
    labelling: LabelOptions,
    repeating: RepeatOptions,
    keeping: RecordOptions,
    tests: Tests = None,
    plots: Plots = None,
) -> None:
    """Benchmark a device between two ports: RFC 2544's tests.

    Throughput is measured for every frame size, since the other tests
    need it. Simulated rigs run in virtual time; ports need root, virtual
    rigs do not. Calibrate first: figures near the tester's own limit are
    marked as such, and get no verdict.
    """
    from harvok.core.mixes import frame_sizes
    from harvok.rigs.rig_files import read_rig
    from harvok.runner.request import RigPlace

    check_resolution(searching.resolution)
    file = read_rig(rig)
    settings = _settings(file, frames, variety, searching)
    test = FrameTest(
        tests=chosen(tests or ["throughput", "latency"], TEST_NAMES, "test"),
        sizes=frame_sizes(frames.frame_size or [], settings.ip_version),
        settings=settings,
        latency_form=searching.latency_form,
        stream_s=2 * settings.full_s,
        burst_repeats=searching.burst_repeats,
        overload_s=settings.full_s,
    )
    records = measure(request_of(RigPlace(file), test, keeping, labelling, repeating), keeping)
    if plots:
        from harvok.cli.render.console import stderr
        from harvok.reports.frames import draw

        drawn = draw(records, plots)
        stderr().print(f"drawn: {', '.join(str(path) for path in drawn)}", soft_wrap=True)


def _settings(rig: "RigFile", frames: FrameOptions, variety: FrameVariety, searching: SearchOptions) -> "FrameSettings":
    from harvok.core.frame_streams import frame_streams
    from harvok.core.procedures.frames import FrameSettings, short_trial_s

    named = frame_streams(frames.stream or [], frames.direction, rig.port_names)
    return FrameSettings(
        line_bps=rig.rated,
        streams=named.streams,
        frames_of=named.frames_of,
        ip_version=FRAME_IP[frames.ip_version],
        address_pairs=variety.address_pairs,
        burst_frames=variety.burst,
        loss_tolerance=searching.loss_tolerance,
        full_s=searching.duration,
        short_s=short_trial_s(searching.duration),
        resolution=searching.resolution,
        guided=searching.search == "guided",
        pause_s=searching.trial_pause,
    )
