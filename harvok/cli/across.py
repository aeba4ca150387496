"""Runs a command across a rig that is built for it."""

import sys
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from harvok.cli.options import typed_command

if TYPE_CHECKING:
    from harvok.runner.request import RigPlace


def is_rig(place: str) -> bool:
    """Whether what was named instead of a station is a rig file."""
    return place.endswith(".toml")


def simulated_rig(place: str) -> "RigPlace | None":
    """The simulated rig that was named instead of a station; None for anything else. Raises RigFileError."""
    from harvok.rigs.files import read_rig
    from harvok.runner.request import RigPlace

    file = read_rig(Path(place)) if is_rig(place) else None
    return RigPlace(file) if file and file.kind == "simulated" else None


def run_again_across(command: str, rig: str, logbook: str, wait_s: float) -> int:
    """Runs the command that was typed once more, across the rig that it names; returns its exit code."""
    words = list(sys.argv[sys.argv.index(command) :])
    words.remove(rig)
    for at in [at for at, word in enumerate(words) if word.partition("=")[0] == "--logbook"][::-1]:
        del words[at : at + (1 if "=" in words[at] else 2)]
    return run_across_rig(Path(rig), words, logbook, wait_s)


def run_across_rig(rig: Path, words: Sequence[str], logbook: str, wait_s: float) -> int:
    """Runs a command, without its station, across the device of a rig file; returns its exit code. Raises UsageError,
    RigFileError, PortError and NearEndError."""
    from harvok.cli.render.console import stderr
    from harvok.clock import SYSTEM
    from harvok.core.models.rig import SimulatedRig
    from harvok.errors import UsageError
    from harvok.rigs.files import read_rig
    from harvok.runner.across import AcrossRequest, run_across

    file = read_rig(rig)
    if isinstance(file, SimulatedRig):
        raise UsageError(f"{file.name} is a model: nothing crosses it", "Take a virtual gateway, or a rig of ports.")
    request = AcrossRequest(tuple(words), logbook, tuple(typed_command(sys.argv)), wait_s)
    console = stderr()
    return run_across(file, request, lambda text: console.print(f"note {text}"), SYSTEM)
