"""Writes a file in place of an older one, whole or not at all: others may read it at any time."""

import os
from pathlib import Path

from harvok.errors import UsageError


def write_whole(content: bytes, path: Path) -> None:
    """Raises UsageError for a file that cannot be written."""
    fresh = path.with_name(f".{path.name}.{os.getpid()}")
    try:
        fresh.write_bytes(content)
        fresh.replace(path)
    except OSError as error:
        raise UsageError(f"{path} cannot be written: {error.strerror}", "Name another file.") from error
