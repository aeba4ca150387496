"""Looks a word up in Harvok's own documents: figures, limiters, references of errors, kinds of failure, terms, keys.

Each row of a table in the documents that says what something means is an entry. So the pages and what is said at the
terminal are one text.
"""

import difflib
import functools
import re
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from harvok.errors import NothingFoundError

_DOCS = Path(__file__).parent.parent / "docs"
_EXPLAINING = ("glossary.md", "figures.md", "guide.md", "sites.md", "devices.md", "plans.md", "rig-files.md")
"""The documents that are looked through, those that explain words first."""
_LINK = re.compile(r"\[([^\]]+)\]\([^)]*\)")


@dataclass(frozen=True, slots=True)
class Explained:
    """One entry: the word as it is written there, under which headings, and what is said, as (column, text)."""

    word: str
    where: str
    said: list[tuple[str, str]]


def explain(asked: str) -> list[Explained]:
    """Everything that the documents say of a word. Raises NothingFoundError, naming the nearest that there are."""
    entries = _all_entries()
    wanted = _plain(asked)
    found = [entry for entry in entries if wanted in _names(entry.word)]
    if found:
        return found
    known = {name: entry.word for entry in entries for name in _names(entry.word)}
    parts = sorted(name for name in known if wanted in name.split())
    near = dict.fromkeys(known[name] for name in (*difflib.get_close_matches(wanted, known, n=5, cutoff=0.6), *parts))
    raise NothingFoundError(
        f"nothing is written of '{asked}'",
        f"Near to it are: {', '.join([*near][:5])}." if near else "docs/glossary.md has the terms.",
    )


def known_words() -> dict[str, str]:
    """Every word that something is written of, each with the heading that it stands under."""
    words = ((word.strip(), entry.where) for entry in _all_entries() for word in entry.word.split(","))
    return {word: where for word, where in words if word and " " not in word}


@functools.cache
def _all_entries() -> list[Explained]:
    return [entry for name in _EXPLAINING for entry in _entries(_DOCS / name)]


def _entries(document: Path) -> Iterator[Explained]:
    """The rows of every table, with the headings above it."""
    headings: list[str] = []
    columns: list[str] = []
    for line in document.read_text(encoding="utf-8").splitlines():
        if line.startswith("#"):
            level = len(line) - len(line.lstrip("#"))
            headings = [*headings[: level - 1], line.lstrip("# ")]
        if not line.startswith("|"):
            columns = []
            continue
        cells = [_readable(cell) for cell in re.split(r"(?<!\\)\|", line.strip("|"))]
        if not columns:
            columns = cells
        elif not set(line) <= set("| -:"):
            said = [(name, cell) for name, cell in zip(columns[1:], cells[1:], strict=False) if cell]
            yield Explained(cells[0], " › ".join(headings), said)


def _readable(cell: str) -> str:
    """A cell without the marks of Markdown."""
    return _LINK.sub(r"\1", cell).replace("`", "").replace("\\|", "|").replace("**", "").strip()


def _names(word: str) -> set[str]:
    """What an entry may be asked for by: the whole cell, and each of several that share a row."""
    parts = [part.strip() for part in re.split(r",| or ", word)]
    return {_plain(one) for part in (word, *parts) for one in (part, part.rpartition(".")[2])} - {""}


def _plain(word: str) -> str:
    return " ".join(word.lower().replace("-", " ").replace("_", " ").split())
