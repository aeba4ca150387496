"""Notes of what was changed on this host, for the next `harvok` command should the process that changed it be killed.

Every command looks for them, so this file loads nothing that takes time.
"""

import json
import os
import tempfile
from collections.abc import Mapping
from pathlib import Path
from typing import Any

LENT_PORTS, CHANGED_FEATURES = "harvok-lent-ports.json", "harvok-changed-ports.json"
KERNEL_IMPAIRMENT = "harvok-kernel-impairment.json"


def cleanup_path(name: str) -> Path:
    """Where notes of that name are."""
    return Path(tempfile.gettempdir()) / name


def write_cleanup(notes: Path, reported: Mapping[str, Any]) -> None:
    """Writes down what is about to be changed, and that this process holds it."""
    notes.write_text(json.dumps({"holder": os.getpid(), **reported}))


def read_cleanup(notes: Path) -> dict[str, Any] | None:
    """What a killed process wrote down; None when there is nothing, its holder lives, or this user could not put it
    back."""
    try:
        reported: dict[str, Any] = json.loads(notes.read_text())
        alive = Path(f"/proc/{reported['holder']}").exists()
    except (OSError, ValueError, TypeError, KeyError):
        return None
    return None if alive or os.geteuid() != 0 else reported
