"""Reads rig files, and says in which line what is wrong."""

import re
import tomllib
from pathlib import Path

from pydantic import ValidationError

from harvok.core.models.rig import RIG_FILE, RigFile
from harvok.errors import RigFileError

_HINT = "docs/rig-files.md has every key; `harvok rig new` writes a file that works."


def read_rig(path: Path) -> RigFile:
    """The rig that a TOML file describes. Raises RigFileError, naming line and key."""
    try:
        text = path.read_text(encoding="utf-8")
    except (OSError, UnicodeDecodeError) as error:
        why = error.strerror if isinstance(error, OSError) else "it is not text"
        raise RigFileError(f"the rig file {path} cannot be read: {why}", _HINT) from error
    try:
        return RIG_FILE.validate_python(tomllib.loads(text))
    except tomllib.TOMLDecodeError as error:
        raise RigFileError(f"{path} is not TOML: {error}", _HINT) from error
    except ValidationError as error:
        raise RigFileError(_what_is_wrong(path, text, error), _HINT) from error


def _what_is_wrong(path: Path, text: str, error: ValidationError) -> str:
    """The first fault, with its line and key. pydantic puts the kind of rig before the key."""
    first = error.errors()[0]
    if first["type"].startswith("union_tag"):
        line = line_of(text, ["kind"])
        return f"{path}{f', line {line}' if line else ''}: 'kind' is to be simulated, ports or virtual"
    keys = [str(part) for part in first["loc"][1:]]
    line = line_of(text, keys)
    where = f"{path}, line {line}" if line else str(path)
    what = {"missing": "is missing", "extra_forbidden": "is no key of a rig"}.get(first["type"], first["msg"])
    what = what.removeprefix("Value error, ")
    return f"{where}: '{'.'.join(keys)}' {what}" if keys else f"{where}: {what}"


def line_of(text: str, keys: list[str]) -> int | None:
    """The line in which a key stands, given with its tables; None for a key that is not there. The tables of an array
    are numbered from 0, as in `steps.0.name`."""
    table: list[str] = []
    seen: dict[str, int] = {}
    for number, line in enumerate(text.splitlines(), 1):
        if array := re.match(r"\s*\[\[([^\]]+)\]\]", line):
            name = array[1].strip()
            table = [name, str(seen.setdefault(name, 0))]
            seen[name] += 1
        elif header := re.match(r"\s*\[([^\]]+)\]", line):
            table = [part.strip() for part in header[1].split(".")]
        elif (key := re.match(r"\s*([A-Za-z0-9_-]+)\s*=", line)) and [*table, key[1]] == keys:
            return number
        if table and table == keys:
            return number
    return None
