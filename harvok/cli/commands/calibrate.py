"""`harvok calibrate`: what this tester itself can do, so that a device is not blamed for it."""

from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from harvok.cli.bundles import (
    FRAME_IP,
    AccessOptions,
    FrameOptions,
    LabelOptions,
    RecordOptions,
    RepeatOptions,
    StationOptions,
    bundled,
    request_of,
)
from harvok.cli.measure import measure
from harvok.cli.options import DAY_S, PATH, SEARCH, WHAT, time_option
from harvok.core.trials.app import MAX_USERS
from harvok.errors import UsageError

if TYPE_CHECKING:
    from harvok.runner.request import TestRequest

app = typer.Typer(add_completion=False)

_PAUSE_S, _RAMP_S = 0.5, 1.0
_SHORTEST_S = 1.0


@dataclass(frozen=True, slots=True)
class UsersOptions:
    """Of application traffic."""

    mix: Annotated[
        str | None,
        typer.Option(
            rich_help_panel=WHAT,
            metavar="MIX",
            help="Calibrate application traffic with a station that a lead joins to this host: users of this mix are "
            "doubled until no more is moved.",
        ),
    ] = None
    max_users: Annotated[
        int, typer.Option(rich_help_panel=SEARCH, min=1, max=MAX_USERS, help="Of --mix: how many users are tried.")
    ] = 4096
    local: Annotated[
        str | None,
        typer.Option(rich_help_panel=PATH, metavar="ADDRESS", help="Of --mix: local address to measure from."),
    ] = None
    name: Annotated[
        str | None,
        typer.Option(rich_help_panel=PATH, show_default="this host's name", help="Of --mix: name of this end."),
    ] = None


@app.command(epilog="Exit codes: 0 measured, 2 wrong usage, 4 could not measure or broken off.")
@bundled
def calibrate(
    place: Annotated[str, typer.Argument(metavar="RIG|STATION", help="A rig file; with --mix a station.")],
    frames: FrameOptions,
    users: UsersOptions,
    access: AccessOptions,
    labelling: LabelOptions,
    repeating: RepeatOptions,
    keeping: RecordOptions,
    duration: Annotated[float, time_option(1, DAY_S, "Length of the trial that confirms.", SEARCH, "10s")] = 10.0,
) -> None:
    """Measure what this tester itself can do.

    Of frames on a rig: join the two ports of a ports rig with a lead
    first; a virtual rig does so by itself. Of application traffic with
    a station (--mix): join the two hosts with a lead. Kept in the
    logbook: later results of the same tester are held against it.
    """
    if users.mix is None:
        request = _of_frames(place, frames, duration, labelling, repeating, keeping)
    else:
        request = _of_users(place, users, users.mix, duration, access, labelling, repeating, keeping)
    measure(request, keeping)


def _of_frames(
    place: str,
    frames: FrameOptions,
    duration_s: float,
    labelling: LabelOptions,
    repeating: RepeatOptions,
    keeping: RecordOptions,
) -> "TestRequest":
    """The ports of a rig. Raises RigFileError."""
    from harvok.core.frame_streams import frame_streams
    from harvok.core.mixes import frame_sizes
    from harvok.core.procedures.calibrate import CalibrationTest
    from harvok.core.procedures.frames import FrameSettings, short_trial_s
    from harvok.rigs.rig_files import read_rig
    from harvok.runner.benches.frames import back_to_back_rig
    from harvok.runner.request import RigPlace

    file = back_to_back_rig(read_rig(Path(place)))
    named = frame_streams(frames.stream or [], frames.direction, file.port_names)
    if named.frames_of:
        raise UsageError("a calibration sends plain frames", "Leave out what stands behind the ports of a stream.")
    settings = FrameSettings(
        line_bps=file.rated,
        streams=named.streams,
        ip_version=FRAME_IP[frames.ip_version],
        full_s=duration_s,
        short_s=short_trial_s(duration_s),
        pause_s=_PAUSE_S,
    )
    test = CalibrationTest(frame_sizes(frames.frame_size or [], settings.ip_version), settings)
    return request_of(RigPlace(file), test, keeping, labelling, repeating)


def _of_users(
    place: str,
    users: UsersOptions,
    mix: str,
    duration_s: float,
    access: AccessOptions,
    labelling: LabelOptions,
    repeating: RepeatOptions,
    keeping: RecordOptions,
) -> "TestRequest":
    """This host and a station. Raises UsageError for a rig, and MixError."""
    from harvok.core.ends import SEND
    from harvok.core.procedures.app_calibration import AppCalibrationTest
    from harvok.core.trials.app import AppTrial, Level
    from harvok.rigs.mix_files import read_mix

    if place.endswith(".toml"):
        raise UsageError(
            "application traffic is calibrated with a station, not with a rig",
            "Join both hosts with a lead, and give the station's address.",
        )
    level = Level(max(duration_s, _SHORTEST_S), _RAMP_S, 1)
    test = AppCalibrationTest(AppTrial(read_mix(mix).build(), (SEND,), (level,)), users.max_users)
    reaching = StationOptions(access.token_file, access.code, access.plain, users.local, name=users.name)
    return request_of(reaching.settings(place), test, keeping, labelling, repeating)
