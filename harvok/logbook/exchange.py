"""Records in and out of files: JSON Lines, one record a line. A file with a single JSON record is read as well."""

import json
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import TextIO

from pydantic import ValidationError

from harvok.core.models.run import RECORD_FORMAT, RECORD_VERSION, RunRecord, parse_record
from harvok.errors import LogbookNewerError, RecordError


def encode_record(record: RunRecord) -> str:
    """A record as one line of JSON."""
    return record.model_dump_json()


def write_records(records: Iterable[RunRecord], out: TextIO) -> int:
    """Writes records as JSON Lines and returns how many there were."""
    count = 0
    for record in records:
        out.write(encode_record(record) + "\n")
        count += 1
    return count


def read_records(path: Path) -> Iterator[RunRecord]:
    """Reads every record of a file. Raises RecordError, naming the line, and LogbookNewerError."""
    try:
        text = path.read_text(encoding="utf-8")
    except (OSError, UnicodeDecodeError) as error:
        why = error.strerror if isinstance(error, OSError) else "it is not text"
        raise RecordError(f"{path} cannot be read: {why}", "Give a file that `harvok logbook export` wrote.") from error
    for number, line in _documents(text):
        yield decode_record(line, f"{path}, line {number}")


def _documents(text: str) -> Iterator[tuple[int, str]]:
    """(line number, JSON) of every document: the lines, or the whole text when it is one spread-out document."""
    try:
        json.loads(text)
        yield 1, text
        return
    except json.JSONDecodeError:
        pass
    for number, line in enumerate(text.splitlines(), 1):
        if line.strip():
            yield number, line


def decode_record(text: str, place: str) -> RunRecord:
    """Reads one record; `place` names it in errors."""
    hint = "Give a file that `harvok logbook export` wrote."
    try:
        raw = json.loads(text)
    except json.JSONDecodeError as error:
        raise RecordError(f"{place} is not JSON: {error}", hint) from error
    if not isinstance(raw, dict) or raw.get("format") != RECORD_FORMAT:
        raise RecordError(f"{place} is not the record of a run", hint)
    version = raw.get("version")
    if isinstance(version, int) and version > RECORD_VERSION:
        raise LogbookNewerError(
            f"{place} was written by a newer Harvok (record version {version}; this one knows {RECORD_VERSION})",
            "Upgrade Harvok on this host.",
        )
    try:
        return parse_record(text)
    except ValidationError as error:
        first = error.errors()[0]
        key = ".".join(str(part) for part in first["loc"])
        raise RecordError(f"{place}: '{key}' is not right: {first['msg']}", hint) from error
