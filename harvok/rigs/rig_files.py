"""Rig files: what is between which ports, and how the device there is asked."""

from pathlib import Path

from harvok.core.fields import WRITTEN
from harvok.core.models.device import DEVICES, DeviceKeys
from harvok.core.models.rig import RIG_FILE, PortsRig, RigFile
from harvok.errors import RigFileError
from harvok.rigs.device_files import anchored, named_device
from harvok.rigs.files import parse_toml, read_text

_HINT = "docs/rig-files.md has every key; `harvok rig new` writes a file that works."


def read_rig(path: Path) -> RigFile:
    """The rig that a TOML file describes. Raises RigFileError, naming line and key."""

    def device(name: str) -> DeviceKeys:
        return named_device(path.parent / name)

    text = read_text(path, "rig", _HINT, RigFileError)
    rig = parse_toml(text, path, RIG_FILE, "rig", _HINT, RigFileError, {**WRITTEN, DEVICES: device})
    if isinstance(rig, PortsRig) and rig.watched:
        return rig.model_copy(update={"watched": anchored(rig.watched, path.parent)})
    return rig
