"""Records in and out of files: JSON Lines, one record a line. A file with a single JSON record is read as well."""

import json
import re
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import TextIO

from pydantic import ValidationError

from harvok.core.models.run import RECORD_FORMAT, RECORD_VERSION, RunRecord, parse_record
from harvok.core.quantities import QUANTITIES
from harvok.errors import LogbookNewerError, RecordError

MAX_RECORD_CHARACTERS = 256 * 1024 * 1024
"""A day of 64 flows, told every second, has a tenth of it."""
_ID = re.compile(r"[A-Za-z0-9][A-Za-z0-9._-]{0,63}")
"""Ids become names of files, and parts of commands."""
_MAY_BE_NEGATIVE = ("s", "ratio")
"""Between clocks that are not in step; of what is compared with something else."""
_HINT = "Give a file that `harvok logbook export` wrote."


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
        with path.open(encoding="utf-8") as file:
            for number, line in _documents(file, path):
                yield decode_record(line, f"{path}, line {number}")
    except (OSError, UnicodeDecodeError) as error:
        why = error.strerror if isinstance(error, OSError) else "it is not text"
        raise RecordError(f"{path} cannot be read: {why}", _HINT) from error


def _documents(file: TextIO, path: Path) -> Iterator[tuple[int, str]]:
    """(line number, JSON) of every document: the lines, or the whole text when it is one spread-out document."""
    for number, line in enumerate(iter(lambda: file.readline(MAX_RECORD_CHARACTERS + 1), ""), 1):
        if len(line) > MAX_RECORD_CHARACTERS:
            raise RecordError(f"{path}, line {number} is longer than any record", _HINT)
        if number == 1 and line.strip() in ("{", "["):
            yield 1, line + file.read(MAX_RECORD_CHARACTERS)
            return
        if line.strip():
            yield number, line


def decode_record(text: str, place: str) -> RunRecord:
    """Reads one record and checks what no record that Harvok wrote can hold; `place` names it in errors."""
    try:
        raw = json.loads(text)
    except (ValueError, RecursionError) as error:
        why = "it is nested too deeply" if isinstance(error, RecursionError) else str(error)
        raise RecordError(f"{place} is not JSON: {why}", _HINT) from error
    if not isinstance(raw, dict) or raw.get("format") != RECORD_FORMAT:
        raise RecordError(f"{place} is not the record of a run", _HINT)
    version = raw.get("version")
    if isinstance(version, int) and version > RECORD_VERSION:
        raise LogbookNewerError(
            f"{place} was written by a newer Harvok (record version {version}; this one knows {RECORD_VERSION})",
            "Upgrade Harvok on this host.",
        )
    try:
        record = parse_record(text)
    except ValidationError as error:
        first = error.errors()[0]
        key = ".".join(str(part) for part in first["loc"])
        raise RecordError(f"{place}: '{key}' is not right: {first['msg']}", _HINT) from error
    wrong = "" if _ID.fullmatch(record.id) else "'id' has letters that no id has"
    wrong = wrong or _wrong_figure(record) or _wrong_samples(record)
    if wrong:
        raise RecordError(f"{place}: {wrong}", _HINT)
    return record


def _wrong_figure(record: RunRecord) -> str:
    """What is wrong with the first figure that cannot have been measured; empty when none is."""
    seen = set()
    for number, figure in enumerate(record.figures):
        where = f"'figures.{number}' is not right"
        if figure.quantity not in QUANTITIES:
            return f"{where}: there is no quantity {figure.quantity}"
        if figure.value < 0 and figure.meaning.unit not in _MAY_BE_NEGATIVE:
            return f"{where}: {figure.quantity} cannot be {figure.value:g}"
        if figure.key in seen:
            return f"{where}: {figure.quantity} of the same is there twice"
        seen.add(figure.key)
    return ""


def _wrong_samples(record: RunRecord) -> str:
    """Which samples are not columns of one length; empty when all are."""
    for number, trial in enumerate(record.trials):
        for at, columns in enumerate(trial.samples):
            for quantity, values in columns.values.items():
                if len(values) != len(columns.at_s):
                    return f"'trials.{number}.samples.{at}.{quantity}' is not as long as its moments"
    return ""
