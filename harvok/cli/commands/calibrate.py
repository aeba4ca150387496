"""`harvok calibrate`: what this tester itself can do on a rig, so that a device is not blamed for it."""

import sys
from typing import Annotated

import typer

from harvok.cli.commands.rfc2544 import (
    DIRECTIONS,
    IP_VERSIONS,
    DirectionOption,
    IpVersionOption,
    RigPath,
    Sizes,
    Wait,
    frame_sizes,
    measure,
)
from harvok.cli.options import JsonOption, LogbookOption, duration, typed_command

app = typer.Typer(add_completion=False)

_DAY_S = 86400.0
TrialTime = Annotated[
    float,
    typer.Option("--duration", parser=duration(1, _DAY_S), metavar="TIME", help="Length of the trial that confirms."),
]


@app.command(epilog="Exit codes: 0 measured, 2 wrong usage, 4 could not measure or broken off.")
def calibrate(
    rig: RigPath,
    logbook: LogbookOption,
    frame_size: Sizes = None,
    direction: DirectionOption = "send",
    ip_version: IpVersionOption = "4",
    trial_time: TrialTime = "10s",  # type: ignore[assignment]
    wait: Wait = "0s",  # type: ignore[assignment]
    json: JsonOption = False,
) -> None:
    """Measure what this tester itself can do on a rig.

    Join the two ports of a ports rig with a lead first; a virtual rig
    does so by itself. Kept in the logbook: later results on the same
    ports are held against it.
    """
    from harvok.core.procedures.calibrate import CalibrationTest
    from harvok.core.procedures.frames import FrameSettings
    from harvok.rigs.files import read_rig
    from harvok.runner.frames import FrameRequest, back_to_back_rig

    file = back_to_back_rig(read_rig(rig))
    settings = FrameSettings(
        line_bps=file.rated,
        directions=DIRECTIONS[direction],
        ip_version=IP_VERSIONS[ip_version],
        full_s=trial_time,
        short_s=max(trial_time / 10, 0.5),
        pause_s=0.5,
    )
    test = CalibrationTest(frame_sizes(frame_size, settings.ip_version), settings)
    measure(FrameRequest(file, test, logbook, typed_command(sys.argv), wait_s=wait), json, plots=None)
