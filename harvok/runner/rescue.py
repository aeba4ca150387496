"""Saves a record that the logbook would not take: nothing measured is lost."""

import os
import tempfile
from pathlib import Path

from harvok.core.models.run import RunRecord
from harvok.logbook.exchange import encode_record

_FRESH = os.O_WRONLY | os.O_CREAT | os.O_EXCL | getattr(os, "O_NOFOLLOW", 0)
"""Nobody else can have put the file, or a link, there: the temporary folder is everybody's."""


def rescue(record: RunRecord) -> Path | None:
    """Writes a record into the first folder that takes it (here, then the temporary one); None when neither does."""
    for folder in (Path.cwd(), Path(tempfile.gettempdir())):
        path = folder / f"harvok-run-{record.id}.jsonl"
        try:
            file = os.fdopen(os.open(path, _FRESH, 0o600), "w", encoding="utf-8")
        except OSError:
            continue
        try:
            with file:
                file.write(encode_record(record) + "\n")
        except OSError:
            path.unlink(missing_ok=True)
            continue
        return path
    return None
