"""What files name of each other: mixes, policies and devices, which are read along with the file that names them."""

from collections.abc import Callable
from pathlib import Path
from typing import Any

from harvok.core.app.mix import MIXES
from harvok.core.app.policy_file import POLICIES
from harvok.core.fields import WRITTEN
from harvok.core.models.device import DEVICES
from harvok.rigs.device_files import named_device
from harvok.rigs.mix_files import read_mix
from harvok.rigs.policy_files import read_policy


def readers_beside(path: Path) -> dict[str, Any]:
    """The context in which a file is read that people write: what it names is beside it, and mixes may ship as well.
    Readers raise UsageError."""
    folder = path.parent

    def beside(read: Callable[[Path], Any]) -> Callable[[str], Any]:
        return lambda name: read(folder / name)

    def mix(name: str) -> Any:
        return read_mix(str(folder / name) if (folder / name).is_file() else name)

    return {**WRITTEN, MIXES: mix, POLICIES: beside(read_policy), DEVICES: beside(named_device)}
