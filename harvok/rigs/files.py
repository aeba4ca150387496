"""Reads the TOML files that people write, and says in which line what is wrong."""

import re
import tomllib
from pathlib import Path
from typing import TypeVar

from pydantic import TypeAdapter, ValidationError

from harvok.core.models.rig import RIG_FILE, RigFile
from harvok.errors import RigFileError, UsageError

_HINT = "docs/rig-files.md has every key; `harvok rig new` writes a file that works."

_KINDS = {"simulated", "ports", "virtual", "tcp", "udp", "rfc2544"}

FileT = TypeVar("FileT")


def read_rig(path: Path) -> RigFile:
    """The rig that a TOML file describes. Raises RigFileError, naming line and key."""
    return read_toml(path, RIG_FILE, "rig", _HINT, RigFileError)


def read_toml(path: Path, model: TypeAdapter[FileT], what: str, hint: str, error_class: type[UsageError]) -> FileT:
    """What a file of a kind describes. Raises an error of `error_class`, naming line and key."""
    return parse_toml(read_text(path, what, hint, error_class), path, model, what, hint, error_class)


def read_text(path: Path, what: str, hint: str, error_class: type[UsageError]) -> str:
    """The text of a file of a kind. Raises an error of `error_class`."""
    try:
        return path.read_text(encoding="utf-8")
    except (OSError, UnicodeDecodeError) as error:
        why = error.strerror if isinstance(error, OSError) else "it is not text"
        raise error_class(f"the {what} file {path} cannot be read: {why}", hint) from error


def parse_toml(
    text: str, path: Path, model: TypeAdapter[FileT], what: str, hint: str, error_class: type[UsageError]
) -> FileT:
    """What the text of a file describes. Raises an error of `error_class`, naming line and key."""
    try:
        return model.validate_python(tomllib.loads(text))
    except tomllib.TOMLDecodeError as error:
        raise error_class(f"{path} is not TOML: {error}", hint) from error
    except ValidationError as error:
        raise error_class(_what_is_wrong(path, text, what, error), hint) from error


def _what_is_wrong(path: Path, text: str, what: str, error: ValidationError) -> str:
    """The first fault, with its line and key: an unknown key before a missing one, which it may be a misspelling of.
    pydantic puts the kind of a rig or of a step among the keys."""
    first = min(error.errors(), key=lambda one: one["type"] != "extra_forbidden")
    if first["type"].startswith("union_tag") and what == "rig":
        line = line_of(text, ["kind"])
        return f"{path}{f', line {line}' if line else ''}: 'kind' is to be simulated, ports or virtual"
    keys = [str(part) for part in first["loc"] if part not in _KINDS]
    line = next((found for end in range(len(keys), 0, -1) if (found := line_of(text, keys[:end]))), None)
    where = f"{path}, line {line}" if line else str(path)
    problem = {"missing": "is missing", "extra_forbidden": f"is no key of a {what}"}.get(first["type"], first["msg"])
    problem = problem.removeprefix("Value error, ")
    return f"{where}: '{'.'.join(keys)}' {problem}" if keys else f"{where}: {problem}"


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
