"""Runs a command across a rig that is built for it."""

import sys
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import typer

from harvok.cli.options import typed_command

if TYPE_CHECKING:
    from harvok.core.models.rig import RigFile
    from harvok.runner.request import RigPlace


def model_or_across(command: str, place: str, logbook: str, wait_s: float) -> "RigPlace | None":
    """The simulated rig that was named instead of a station; None for a station. Runs the command that was typed once
    more across any other rig, and ends with its exit code. Raises RigFileError, and what run_across_rig does."""
    if not place.endswith(".toml"):
        return None
    from harvok.rigs.rig_files import read_rig
    from harvok.runner.request import RigPlace

    file = read_rig(Path(place))
    if file.kind == "simulated":
        return RigPlace(file)
    words = list(sys.argv[sys.argv.index(command) :])
    words.remove(place)
    for at in [at for at, word in enumerate(words) if word.partition("=")[0] == "--logbook"][::-1]:
        del words[at : at + (1 if "=" in words[at] else 2)]
    raise typer.Exit(run_across_rig(file, words, logbook, wait_s))


def run_across_rig(file: "RigFile", words: Sequence[str], logbook: str, wait_s: float) -> int:
    """Runs a command, without its station, across the device of a rig; returns its exit code. Raises UsageError,
    PortError and NearEndError."""
    from harvok.cli.render.console import print_note
    from harvok.clock import SYSTEM
    from harvok.core.models.rig import SimulatedRig
    from harvok.errors import UsageError
    from harvok.runner.across import AcrossRequest, run_across

    if isinstance(file, SimulatedRig):
        raise UsageError(f"{file.name} is a model: nothing crosses it", "Take a virtual gateway, or a rig of ports.")
    request = AcrossRequest(tuple(words), logbook, tuple(typed_command(sys.argv)), wait_s)
    return run_across(file, request, print_note, SYSTEM)
