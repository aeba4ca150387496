"""Files that a command writes: standard output, or a file that appears whole or not at all."""

import contextlib
import sys
from collections.abc import Iterator
from pathlib import Path
from typing import TextIO

from harvok.errors import UsageError


def check_free(path: Path, overwrite: bool) -> None:
    """Raises UsageError for a file that is there and may not be replaced."""
    if path.exists() and not overwrite:
        raise UsageError(f"{path} is there already", "Give another name, or --overwrite.")


@contextlib.contextmanager
def writing(path: Path | None) -> Iterator[TextIO]:
    """Opens `path`, or standard output for None. A file is put in place only when everything was written."""
    if path is None:
        yield sys.stdout
        return
    part = path.with_name(path.name + ".part")
    try:
        part.unlink(missing_ok=True)
        with part.open("x", encoding="utf-8") as out:  # never through a link that somebody put there
            yield out
        part.replace(path)
    except OSError as error:
        raise UsageError(f"{path} cannot be written: {error.strerror}", "Give --to another file.") from error
    finally:
        part.unlink(missing_ok=True)
