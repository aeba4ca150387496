"""Rig files: what is between which ports, and how the device there is asked."""

from pathlib import Path

from harvok.core.models.rig import RIG_FILE, Port, PortsRig, RigFile
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
        rig = rig.model_copy(update={"watched": anchored(rig.watched, path.parent)})
    if isinstance(rig, PortsRig):
        rig = rig.model_copy(update={"ports": {name: _anchored(port, path.parent) for name, port in rig.ports.items()}})
    return rig


def _anchored(port: Port, folder: Path) -> Port:
    """The port with the file of its station's token by its whole path."""
    return (
        port.model_copy(update={"token_file": str((folder / port.token_file).resolve())}) if port.token_file else port
    )
