"""Reads the TOML files that people write, and says in which line what is wrong."""

import re
import tomllib
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any, TypeVar, get_args

from pydantic import TypeAdapter, ValidationError
from pydantic_core import ErrorDetails

from harvok.core.fields import WRITTEN
from harvok.core.kinds.table import KINDS
from harvok.errors import UsageError

_RIGS = ("simulated", "ports", "virtual")

FileT = TypeVar("FileT")


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
    text: str,
    path: Path,
    model: TypeAdapter[FileT],
    what: str,
    hint: str,
    error_class: type[UsageError],
    context: Mapping[str, Any] = WRITTEN,
) -> FileT:
    """What the text of a file describes. Raises an error of `error_class`, naming line and key."""
    try:
        return model.validate_python(tomllib.loads(text), context=dict(context))
    except tomllib.TOMLDecodeError as error:
        raise error_class(f"{path} is not TOML: {error}", hint) from error
    except ValidationError as error:
        raise error_class(_what_is_wrong(path, text, what, error), hint) from error


def _what_is_wrong(path: Path, text: str, what: str, error: ValidationError) -> str:
    """The first fault, with its line and key: an unknown key before a missing one, which it may be a misspelling of."""
    first = min(error.errors(), key=lambda one: one["type"] != "extra_forbidden")
    keys = _keys_of(first)
    if first["type"].startswith("union_tag"):  # what tells the kinds of a table apart is wrong, not the table
        keys.append(str(first["ctx"]["discriminator"]).strip("'"))
    line = next((found for end in range(len(keys), 0, -1) if (found := line_of(text, keys[:end]))), None)
    where = f"{path}, line {line}" if line else str(path)
    problem = fault_words(first, what)
    colon = ":" if first["type"] == "value_error" else ""  # a sentence of its own
    return f"{where}: {_key_words(keys)}{colon} {problem}" if keys else f"{where}: {problem}"


def _keys_of(fault: ErrorDetails) -> list[str]:
    """The keys as they stand in the file: pydantic puts the kind of a rig or of a step among them."""
    tags = {*_RIGS, *(get_args(kind.step.model_fields["test"].annotation)[0] for kind in KINDS.values() if kind.step)}
    loc = [str(part) for part in fault["loc"]]
    return [part for number, part in enumerate(loc) if part not in tags or (number and loc[number - 1] == "labels")]


_ONE_OF = {
    "steps": "step",
    "criteria": "criterion",
    "services": "service",
    "stages": "stage",
    "schedule": "entry",
    "applications": "application",
    "actions": "action",
}
"""What one table of an array is called."""


def _key_words(keys: Sequence[str]) -> str:
    """A key with the tables that it stands in, which are numbered from 1: 'frame_size' of step 1."""
    places: list[str] = []
    rest = list(keys)
    while len(rest) > 1 and rest[1].isdigit():
        places.insert(0, f"{_ONE_OF.get(rest[0], rest[0])} {int(rest[1]) + 1}")
        rest = rest[2:]
    if not rest:
        return " of ".join(places)
    return " of ".join([f"'{'.'.join(rest)}'", *places])


_WORDS = {
    "missing": "is missing",
    "greater_than": "has to be above {gt:g}",
    "greater_than_equal": "has to be {ge:g} or more",
    "less_than": "has to be below {lt:g}",
    "less_than_equal": "has to be {le:g} or less",
    "literal_error": "is to be {expected}",
    "union_tag_invalid": "is to be one of {expected_tags}",
    "union_tag_not_found": "is missing",
    "string_type": "is to be text in quotes",
    "bool_type": "is to be true or false",
    "bool_parsing": "is to be true or false",
    "int_type": "is to be a whole number",
    "int_parsing": "is to be a whole number",
    "int_from_float": "is to be a whole number",
    "float_type": "is to be a number",
    "float_parsing": "is to be a number",
    "list_type": "is to be a list in brackets",
    "dict_type": "is to be a table",
    "too_short": "needs at least {min_length}",
    "too_long": "has more than {max_length}",
    "string_too_short": "is empty",
    "string_too_long": "is longer than {max_length} letters",
    "string_pattern_mismatch": "is to be of letters, digits, - and _",
}
"""What people are told about each kind of fault that pydantic finds."""


def fault_words(fault: ErrorDetails, what: str) -> str:
    """What is wrong with a key of a file (`what`: plan, rig …), in plain words."""
    if fault["type"] == "extra_forbidden":
        return f"is no key of {what_of(what)}"
    form = _WORDS.get(fault["type"])
    return form.format(**fault.get("ctx", {})) if form else fault["msg"].removeprefix("Value error, ")


def what_of(what: str) -> str:
    """A kind of file with its article; a file of several things is called so."""
    if what.endswith("s"):
        return f"a file of {what}"
    return f"{'an' if what[0] in 'aeiou' else 'a'} {what}"


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
