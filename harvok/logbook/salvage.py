"""Reads what can still be read of a damaged logbook of SQLite, run by run."""

import contextlib
import sqlite3
from collections.abc import Iterator
from pathlib import Path

from harvok.core.models.run import RunRecord
from harvok.errors import LogbookError, RecordError, UsageError
from harvok.logbook.exchange import decode_record

_GIVE_UP_AFTER = 1000  # rows in sequence that are not there


def salvage(place: str) -> Iterator[RunRecord | LogbookError]:
    """Every run that is readable; for each other row of a run the error that reading it met.

    The file is opened for reading alone. Raises UsageError for what is no file of SQLite, LogbookError where nothing of
    it is readable.
    """
    path = Path(place).expanduser()
    if "://" in place or not path.is_file():
        raise UsageError(f"there is no file {path} to salvage", "Name the damaged file with --logbook.")
    try:
        with contextlib.closing(sqlite3.connect(f"{path.absolute().as_uri()}?mode=ro&immutable=1", uri=True)) as db:
            db.text_factory = bytes
            db.execute("select 1 from sqlite_master").fetchone()
            yield from _rows(db)
    except (sqlite3.Error, UnicodeDecodeError) as error:
        raise LogbookError(
            f"nothing of {path} can be read: {error}", "Take a copy from a backup, or files that `export` wrote."
        ) from error


def _rows(db: sqlite3.Connection) -> Iterator[RunRecord | LogbookError]:
    """By number of the row: a damaged page hides its own rows, and no others. What is behind the last row that can be
    read counts as one."""
    number, hidden = 0, list[LogbookError]()
    last = 0
    while number - last < _GIVE_UP_AFTER:
        number += 1
        try:
            row = db.execute("select record from runs where rowid = ?", (number,)).fetchone()
        except (sqlite3.Error, UnicodeDecodeError) as error:
            hidden.append(LogbookError(f"row {number}: {error}", "It is lost."))
            continue
        if row is not None:
            yield from hidden
            hidden.clear()
            last = number
            yield _decoded(row[0], number)
    yield from hidden[:1]


def _decoded(raw: object, number: int) -> RunRecord | LogbookError:
    if not isinstance(raw, bytes):
        return RecordError(f"row {number} holds no record", "It is lost.")
    try:
        return decode_record(raw.decode(), f"row {number}")
    except UnicodeDecodeError:
        return RecordError(f"row {number} is not text", "It is lost.")
    except LogbookError as error:
        return error
