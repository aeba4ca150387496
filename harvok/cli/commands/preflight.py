"""`harvok preflight`: looks at everything that could spoil a test, in seconds, before it is run."""

import sys
from pathlib import Path
from typing import TYPE_CHECKING

import typer

from harvok.cli.bundles import RecordOptions, StationOptions, bundled
from harvok.cli.options import Rated, StationOrRig

if TYPE_CHECKING:
    from collections.abc import Iterator

    from harvok.core.models.preflight import Check

app = typer.Typer(add_completion=False)


@app.command(epilog="Exit codes: 0 nothing stands in the way (warnings may), 2 wrong usage, 4 a reason to stop.")
@bundled
def preflight(
    place: StationOrRig,
    reaching: StationOptions,
    keeping: RecordOptions,
    rated: Rated = None,
) -> None:
    """Check everything that could spoil a test before running it.

    Name and route, interfaces and their speed, control and data ports,
    path MTU, clocks, CPU, other traffic, socket buffers, and whether
    these hosts have ever filled such a link. Of a rig: its ports, what
    may hold them down, and the tester's calibration. Each finding is ok,
    a warning or a reason to stop, with what to do about it.
    """
    from dataclasses import asdict

    from harvok.cli.render.console import stdout
    from harvok.cli.render.preflight import CheckView

    checks = _of_a_rig(place, keeping) if place.endswith(".toml") else _of_a_station(place, reaching, keeping, rated)
    if keeping.json:
        from pydantic_core import to_json

        found = list(checks)
        sys.stdout.write(to_json([asdict(check) for check in found], indent=2).decode() + "\n")
    else:
        view = CheckView(stdout())
        found = [view.show(check) for check in checks]
        view.sum_up(found)
    raise typer.Exit(4 if any(check.outcome == "stop" for check in found) else 0)


def _of_a_rig(place: str, keeping: RecordOptions) -> "Iterator[Check]":
    from harvok.rigs.rig_files import read_rig
    from harvok.runner.preflight_ports import preflight_ports

    return preflight_ports(read_rig(Path(place)), keeping.logbook)


def _of_a_station(
    station: str, reaching: StationOptions, keeping: RecordOptions, rated: float | None
) -> "Iterator[Check]":
    from harvok.runner.preflight import PreflightRequest
    from harvok.runner.preflight import preflight as run_checks

    return run_checks(PreflightRequest(reaching.settings(station, rated), keeping.logbook))
