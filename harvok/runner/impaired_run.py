"""A test across an impairment between two hosts that are made of this one: cause and effect without a bench."""

import contextlib
import tempfile
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path

from harvok.clock import SYSTEM, Clock
from harvok.core.impairment import ImpairmentReport
from harvok.core.models.impairment import ImpairmentFile
from harvok.errors import UsageError
from harvok.host.namespaces import DEVICE_PORTS, DeviceSpec
from harvok.host.state import IMPAIRMENT_SOCKET
from harvok.rigs.impaired import ImpairedPath
from harvok.rigs.virtual import VirtualDevice
from harvok.runner.impair import ImpairmentControl, only_one
from harvok.runner.lock import one_test_at_a_time
from harvok.runner.namespaced import ADDRESSES, host_namespaces, run_in, station_on

COMMANDS = ("tcp", "udp", "delay", "sweep", "run")
_NAMES = ("dome", "hall")


@dataclass(frozen=True, slots=True)
class ImpairedRunRequest:
    """Everything that `harvok impair try` was asked for. `words` are a command of Harvok's without its station."""

    file: ImpairmentFile
    words: tuple[str, ...]
    logbook: str
    command: tuple[str, ...]
    wait_s: float = 0.0


def run_across(
    request: ImpairedRunRequest, notice: Callable[[str], None], clock: Clock = SYSTEM
) -> tuple[int, ImpairmentReport | None]:
    """Runs the command across the impairment; returns its exit code, and what the bridge did meanwhile.

    Raises UsageError for a command that talks to no station, NearEndError where no virtual hosts can be made.
    """
    words = _with_station(request.words)
    with contextlib.ExitStack() as stack:
        what = f"a test across {request.file.name}"
        stack.enter_context(one_test_at_a_time(what, request.wait_s, clock, notice))
        folder = Path(stack.enter_context(tempfile.TemporaryDirectory()))
        listener = stack.enter_context(only_one(folder / IMPAIRMENT_SOCKET))
        spec = DeviceSpec("hosts", addresses=((ADDRESSES[0],), (ADDRESSES[1],)))
        built = stack.enter_context(VirtualDevice(spec)).built
        outside = built.namespaces[:-1]
        path = stack.enter_context(ImpairedPath(DEVICE_PORTS, request.file.plan(), [*outside, built.device]))
        ImpairmentControl(listener, path, request.file, DEVICE_PORTS)
        near, far = host_namespaces(built.namespaces, [*outside, built.other], _NAMES)
        access = stack.enter_context(station_on(far, folder))
        code = run_in(near, words, access, request.logbook, request.command, folder)
        return code, path.stop()


def _with_station(words: Sequence[str]) -> list[str]:
    """The command with the far host put where its station belongs. Raises UsageError."""
    if not words or words[0] not in COMMANDS:
        raise UsageError(
            f"'{' '.join(words)}' talks to no station",
            f"Name a command and its options, without the station: {', '.join(COMMANDS)}.",
        )
    kept = ("--logbook", "--token-file", "--code", "--plain", "--station" if words[0] == "run" else "--name")
    given = next((word for word in words if word.split("=")[0] in kept), None)
    if given:
        raise UsageError(
            f"{given.partition('=')[0]} is set already", "Leave it out; --logbook belongs before the impairment."
        )
    far = ADDRESSES[1].partition("/")[0]
    return [*words, "--station", far] if words[0] == "run" else [words[0], far, *words[1:], "--name", _NAMES[0]]
