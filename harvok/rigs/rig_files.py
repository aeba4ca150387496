"""Rig files: what is between which ports, and how the device there is asked."""

from pathlib import Path

from harvok.core.models.rig import RIG_FILE, PortsRig, RigFile
from harvok.errors import RigFileError
from harvok.rigs.device_files import anchored
from harvok.rigs.files import parse_toml, read_text
from harvok.rigs.named_files import readers_beside

_HINT = "docs/rig-files.md has every key; `harvok rig new` writes a file that works."


def read_rig(path: Path) -> RigFile:
    """The rig that a TOML file describes. Raises RigFileError, naming line and key."""
    text = read_text(path, "rig", _HINT, RigFileError)
    rig = parse_toml(text, path, RIG_FILE, "rig", _HINT, RigFileError, readers_beside(path))
    if isinstance(rig, PortsRig) and rig.watched:
        return rig.model_copy(update={"watched": anchored(rig.watched, path.parent)})
    return rig
