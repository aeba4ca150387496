"""Lists of runs. The queries are plain SQL, so that two readers share them: the open logbook, and a glance.

Loading SQLAlchemy costs more than half of what `harvok logbook list` may take. A glance reads a logbook with the
driver alone, where nothing else is to be done: the schema is today's, and no run is under way or left over.
"""

import contextlib
import json
import re
import sqlite3
from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from harvok.core.quantities import QUANTITIES, of_rank

SCHEMA = "5"
"""The newest step of harvok.logbook.migrations."""

Execute = Callable[[str, Mapping[str, Any]], Iterable[Any]]
"""Runs a query with named parameters, and yields its rows."""

_POSTGRESQL = "postgresql+psycopg://"
_PARAMETER = re.compile(r":(\w+)")
_EVERY = 2**31 - 1
_WHERE = "(:series = '' or series = :series)"
_NEWEST = f"from runs where {_WHERE} order by started desc, id desc limit :most"
_LINES = f"select id, started, state, test, rig, series, note, limiters {_NEWEST}"
_HEADLINES = (
    "select run, quantity, labels, value from figures "
    f"where quantity in ({', '.join(map(repr, of_rank('headline', 'main')))}) and run in (select id {_NEWEST}) "
    "order by run, number"
)
_COUNT = f"select count(*) from runs where {_WHERE}"


@dataclass(frozen=True, slots=True)
class HeadlineFigure:
    """One figure that stands for a run."""

    quantity: str
    labels: dict[str, str]
    value: float


@dataclass(frozen=True, slots=True)
class RunLine:
    """A run as a list shows it. `headline` are the figures that stand for it."""

    id: str
    started: datetime
    state: str
    test: str
    rig: str
    series: str | None
    note: str
    limiters: dict[str, str]
    headline: list[HeadlineFigure]


def read_lines(execute: Execute, limit: int | None, series: str | None) -> list[RunLine]:
    """Runs, newest first: all, or of one series, at most `limit`."""
    asked = {"series": series or "", "most": _EVERY if limit is None else limit}
    headlines: dict[str, list[HeadlineFigure]] = {}
    for run, quantity, labels, value in execute(_HEADLINES, asked):
        headlines.setdefault(run, []).append(HeadlineFigure(quantity, json.loads(labels), value))
    return [_line(row, _standing(headlines.get(row[0], []))) for row in execute(_LINES, asked)]


def _standing(figures: list[HeadlineFigure]) -> list[HeadlineFigure]:
    """Those of rank headline; of a run that has none, its main figures."""
    return [figure for figure in figures if QUANTITIES[figure.quantity].rank == "headline"] or figures


def _line(row: Any, headline: list[HeadlineFigure]) -> RunLine:
    run, started, state, test, rig, series, note, limiters = row
    return RunLine(run, as_utc(started), state, test, rig, series, note, json.loads(limiters), headline)


def read_count(execute: Execute, series: str | None) -> int:
    """How many runs there are, in the whole logbook or in a series."""
    return int(next(iter(execute(_COUNT, {"series": series or ""})))[0])


def glance(place: str, limit: int | None, series: str | None) -> tuple[list[RunLine], int] | None:
    """Lines and count, or None where the logbook has to be opened properly to answer."""
    try:
        with _glancing(place) as execute:
            if execute is None:
                return None
            version = next(iter(execute("select version_num from alembic_version", {})), None)
            running = list(execute("select 1 from runs where state = 'running' limit 1", {}))
            if version != (SCHEMA,) or running:
                return None
            return read_lines(execute, limit, series), read_count(execute, series)
    except (sqlite3.Error, OSError, ImportError):
        return None  # opening it properly finds out what is wrong, and says so


@contextlib.contextmanager
def _glancing(place: str) -> Iterator[Execute | None]:
    """A file of SQLite or a database of PostgreSQL by its driver alone; None for any other place."""
    path = Path(place).expanduser()
    if place.startswith(_POSTGRESQL):
        with _glancing_at_postgresql("postgresql://" + place.removeprefix(_POSTGRESQL)) as execute:
            yield execute
    elif "://" in place or not path.is_file():
        yield None
    else:
        with contextlib.closing(sqlite3.connect(path, timeout=5)) as db:
            yield db.execute


@contextlib.contextmanager
def _glancing_at_postgresql(url: str) -> Iterator[Execute]:
    """Raises OSError for whatever goes wrong."""
    import psycopg

    try:
        with psycopg.connect(url, connect_timeout=5) as db:
            yield lambda query, given: db.execute(_PARAMETER.sub(r"%(\1)s", query).encode(), given)
    except psycopg.Error as error:
        raise OSError(str(error)) from error


def as_utc(moment: datetime | str) -> datetime:
    """SQLite keeps times as text and forgets their zone; all our times are UTC."""
    read = moment if isinstance(moment, datetime) else datetime.fromisoformat(moment)
    return read if read.tzinfo else read.replace(tzinfo=UTC)
