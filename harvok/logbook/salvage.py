"""Reads what can still be read of a damaged logbook of SQLite, run by run."""

import contextlib
import sqlite3
from collections.abc import Iterator, Sequence
from pathlib import Path

from harvok.core.models.run import RunRecord
from harvok.errors import LogbookError, RecordError, UsageError
from harvok.logbook.exchange import decode_record
from harvok.logbook.parts import whole

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
    kept_apart = db.execute("select 1 from sqlite_master where name = 'trials'").fetchone() is not None
    last = 0
    while number - last < _GIVE_UP_AFTER:
        number += 1
        try:
            row = db.execute("select id, record from runs where rowid = ?", (number,)).fetchone()
            entries = _trials(db, row[0]) if row and kept_apart else None
        except (sqlite3.Error, UnicodeDecodeError) as error:
            hidden.append(LogbookError(f"row {number}: {error}", "It is lost."))
            continue
        if row is not None:
            yield from hidden
            hidden.clear()
            last = number
            yield _decoded(row[1], entries, number)
    yield from hidden[:1]


def _trials(db: sqlite3.Connection, run: object) -> list[bytes]:
    return [
        entry for (entry,) in db.execute("select entry from trials where run = cast(? as text) order by number", (run,))
    ]


def _decoded(raw: object, entries: Sequence[bytes] | None, number: int) -> RunRecord | LogbookError:
    """A record from its row and, since schema 5, the rows of its trials."""
    if not isinstance(raw, bytes):
        return RecordError(f"row {number} holds no record", "It is lost.")
    try:
        text = raw.decode() if entries is None else whole(raw.decode(), [entry.decode() for entry in entries])
        return decode_record(text, f"row {number}")
    except (ValueError, AttributeError):  # AttributeError: a number where a text was
        return RecordError(f"row {number} is not text", "It is lost.")
    except LogbookError as error:
        return error
