"""`harvok calibrate`: what this tester itself can do on a rig, so that a device is not blamed for it."""

from typing import Annotated

import typer

from harvok.cli.bundles import FRAME_IP, FrameOptions, LabelOptions, RecordOptions, RepeatOptions, bundled, request_of
from harvok.cli.measure import measure
from harvok.cli.options import DAY_S, SEARCH, RigFileArgument, time_option

app = typer.Typer(add_completion=False)

_PAUSE_S = 0.5


@app.command(epilog="Exit codes: 0 measured, 2 wrong usage, 4 could not measure or broken off.")
@bundled
def calibrate(
    rig: RigFileArgument,
    frames: FrameOptions,
    labelling: LabelOptions,
    repeating: RepeatOptions,
    keeping: RecordOptions,
    duration: Annotated[float, time_option(1, DAY_S, "Length of the trial that confirms.", SEARCH, "10s")] = 10.0,
) -> None:
    """Measure what this tester itself can do on a rig.

    Join the two ports of a ports rig with a lead first; a virtual rig
    does so by itself. Kept in the logbook: later results on the same
    ports are held against it.
    """
    from harvok.core.ends import frame_streams
    from harvok.core.mixes import frame_sizes
    from harvok.core.procedures.calibrate import CalibrationTest
    from harvok.core.procedures.frames import FrameSettings, short_trial_s
    from harvok.rigs.files import read_rig
    from harvok.runner.benches.frames import back_to_back_rig
    from harvok.runner.request import RigPlace

    file = back_to_back_rig(read_rig(rig))
    settings = FrameSettings(
        line_bps=file.rated,
        streams=frame_streams(frames.stream or [], frames.direction),
        ip_version=FRAME_IP[frames.ip_version],
        full_s=duration,
        short_s=short_trial_s(duration),
        pause_s=_PAUSE_S,
    )
    test = CalibrationTest(frame_sizes(frames.frame_size or [], settings.ip_version), settings)
    measure(request_of(RigPlace(file), test, keeping, labelling, repeating), keeping.json)
