"""Keeps runs in a database: SQLite by default, anything SQLAlchemy speaks by URL.

A run is written when it starts, its journal as it grows, and its whole record when it ends. A run whose process
died is put together from the journal by the next one that opens the logbook, and marked broken.
"""

import contextlib
import json
import os
import sqlite3
from collections.abc import Iterator, Sequence
from dataclasses import asdict, dataclass
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING, Literal

import sqlalchemy as sa
from sqlalchemy.engine import URL, Connection, make_url
from sqlalchemy.exc import ArgumentError, DatabaseError, NoSuchModuleError

from harvok.errors import LogbookError, LogbookNewerError, NothingFoundError, RecordError, UsageError
from harvok.logbook.listing import SCHEMA, Execute, RunLine, as_utc, read_count, read_lines
from harvok.logbook.owner import is_alive, this_process
from harvok.logbook.parts import head_of, trials_of, whole
from harvok.logbook.places import without_password
from harvok.logbook.tables import about, alembic_version, figures, journal, judgements, metadata, runs, trials

if TYPE_CHECKING:
    from harvok.core.models.run import RunRecord


Added = Literal["added", "replaced", "there"]
"""What became of a record from elsewhere."""
_WAIT_FOR_LOCK_MS = 10_000
"""How long to wait for another program that has a logbook of SQLite locked."""
_CONNECT_S = 5
_WRITES = {"writes": True}  # the option of a connection that will write


@dataclass(frozen=True, slots=True)
class FigureValue:
    """One figure of one run."""

    run: str
    started: datetime
    labels: dict[str, str]
    value: float


@dataclass(frozen=True, slots=True)
class StoredJudgement:
    """One judgement of a plan: when, what it came to, the digest of its criteria, and the whole of it as JSON."""

    judged: datetime
    verdict: str
    criteria: str
    document: str


class Logbook:
    """An open logbook. Every method raises LogbookError when the database cannot do its part."""

    def __init__(self, place: str) -> None:
        self._given, self._place = place, without_password(place)
        self._url = _url_of(place)
        self._beside = (
            Path(self._url.database) if self._url.get_backend_name() == "sqlite" and self._url.database else None
        )
        self._engine = _engine_of(self._url)
        if self._url.get_backend_name() == "sqlite":
            sa.event.listen(self._engine, "connect", _tune_sqlite)
            sa.event.listen(self._engine, "begin", _begin_in_sqlite)
        self._writer = self._engine.execution_options(**_WRITES)
        self._prepare()

    @property
    def place(self) -> str:
        """Where it is, as it was given: with its password, if it has one."""
        return self._given

    def close(self) -> None:
        self._engine.dispose()

    # --- a run, while it is measured ---------------------------------------------------------------------------

    def begin(self, record: "RunRecord") -> None:
        """Writes a run that is about to be measured."""
        with self.writing() as db:
            _insert(db, record, this_process())

    def add_to_journal(self, run: str, entries: Sequence[tuple[int, str]]) -> None:
        """Writes what a running test just told, as (number of the trial from 1, JSON)."""
        rows = [{"run": run, "trial": trial, "entry": entry} for trial, entry in entries]
        with self.writing() as db:
            db.execute(journal.insert(), rows)

    def add_beside(self, run: str, entries: Sequence[tuple[int, str]]) -> None:
        """Writes the same into a file beside the logbook, which takes nothing now; not beside a database elsewhere.
        Whoever opens the logbook next takes it from there."""
        if self._beside:
            with contextlib.suppress(OSError), self._beside_of(run).open("a", encoding="utf-8") as file:
                file.writelines(json.dumps(entry) + "\n" for entry in entries)

    def forget_beside(self, run: str) -> None:
        """Removes that file."""
        if self._beside:
            with contextlib.suppress(OSError):
                self._beside_of(run).unlink(missing_ok=True)

    def finish(self, record: "RunRecord") -> None:
        """Replaces a run by its final record."""
        with self.writing() as db:
            _replace(db, record)
        self._confirm(record.id)
        self.forget_beside(record.id)

    def _confirm(self, run: str) -> None:
        """Sees whether a run is really in the file: SQLite goes on with one that was removed or replaced meanwhile."""
        if not self._beside:
            return
        with self._guarded("written"), contextlib.closing(sqlite3.connect(self._beside)) as fresh:
            try:
                kept = fresh.execute("select 1 from runs where id = ?", (run,)).fetchone()
            except sqlite3.Error as error:
                if "locked" in str(error):  # by somebody else now; it was written before that
                    return
                kept = None
        if not kept:
            raise LogbookError(
                f"the logbook {self._place} was removed or replaced while a run was measured",
                "See what else writes there.",
            )

    # --- runs that are kept ------------------------------------------------------------------------------------

    def lines(self, limit: int | None = None, series: str | None = None) -> list[RunLine]:
        """Runs, newest first."""
        with self.reading() as db:
            return read_lines(_executing(db), limit, series)

    def count(self, series: str | None = None) -> int:
        """How many runs there are, in the whole logbook or in a series."""
        with self.reading() as db:
            return read_count(_executing(db), series)

    def series(self) -> dict[str, int]:
        """The names of all series, with how many runs each has."""
        query = sa.select(runs.c.series, sa.func.count()).where(runs.c.series.is_not(None)).group_by(runs.c.series)
        with self.reading() as db:
            return {row[0]: row[1] for row in db.execute(query.order_by(runs.c.series))}

    def find(self, name: str) -> str:
        """The id of a run from its id, its unique beginning or ending, or `last`. Raises NothingFoundError."""
        query = sa.select(runs.c.id).order_by(runs.c.started.desc(), runs.c.id.desc()).limit(3)
        if name != "last":
            query = query.where(runs.c.id.startswith(name, autoescape=True) | runs.c.id.endswith(name, autoescape=True))
        with self.reading() as db:
            found: list[str] = [row[0] for row in db.execute(query)]
        if name in found or (found and name == "last"):
            return name if name in found else found[0]
        if len(found) != 1:
            what = "no run" if not found else "more than one run"
            raise NothingFoundError(f"{what} in the logbook fits '{name}'", "See `harvok logbook list` for their ids.")
        return found[0]

    def has(self, run: str) -> bool:
        """Whether there is a run with this id."""
        with self.reading() as db:
            return db.execute(sa.select(runs.c.id).where(runs.c.id == run)).first() is not None

    def record(self, run: str) -> "RunRecord":
        """The whole record of a run."""
        return next(self.records([run]))

    def records(self, ids: Sequence[str]) -> "Iterator[RunRecord]":
        """The whole records of runs, in the order asked for. Raises NothingFoundError for one that is not there."""
        for run in ids:
            with self.reading() as db:
                record = _stored(db, run)
            if record is None:
                raise NothingFoundError(f"there is no run {run} in the logbook", "See `harvok logbook list`.")
            yield record

    def series_records(self, series: str) -> "list[RunRecord]":
        """The records of a series, oldest first. Raises NothingFoundError when there is none."""
        ids = [line.id for line in reversed(self.lines(series=series))]
        if not ids:
            known = ", ".join(self.series()) or "none yet"
            raise NothingFoundError(f"there is no series '{series}' in the logbook", f"Series that are: {known}.")
        return list(self.records(ids))

    def ended_ids(self) -> list[str]:
        """The ids of all runs but those that a living process measures, oldest first."""
        query = sa.select(runs.c.id, runs.c.state, runs.c.owner).order_by(runs.c.started, runs.c.id)
        with self.reading() as db:
            rows = list(db.execute(query))
        return [row.id for row in rows if row.state != "running" or not is_alive(row.owner)]

    def newest_of(self, test: str, maximum: int) -> "Iterator[RunRecord]":
        """The newest complete runs of a test, newest first."""
        query = sa.select(runs.c.id).where(runs.c.test == test, runs.c.state == "complete")
        with self.reading() as db:
            ids = list(db.execute(query.order_by(runs.c.started.desc(), runs.c.id.desc()).limit(maximum)).scalars())
        return self.records(ids)

    def newest_with(self, quantity: str, minimum: float, maximum: int) -> "Iterator[RunRecord]":
        """The newest complete runs in which a figure was at least `minimum`, newest first, `maximum` of them."""
        query = (
            sa.select(runs.c.id)
            .where(runs.c.state == "complete")
            .where(
                runs.c.id.in_(
                    sa.select(figures.c.run).where(figures.c.quantity == quantity, figures.c.value >= minimum)
                )
            )
        )
        with self.reading() as db:
            ids = list(db.execute(query.order_by(runs.c.started.desc(), runs.c.id.desc()).limit(maximum)).scalars())
        return self.records(ids)

    def rigs(self) -> list[str]:
        """What complete runs were taken between, each once, as a list shows it."""
        query = sa.select(runs.c.rig).where(runs.c.state == "complete").distinct().order_by(runs.c.rig)
        with self.reading() as db:
            return list(db.execute(query).scalars())

    def values(self, quantity: str, rig: str = "", test: str = "", series: str = "") -> list[FigureValue]:
        """A figure of all complete runs on a rig, of one test or of one series, oldest first."""
        query = (
            sa.select(runs.c.id, runs.c.started, figures.c.labels, figures.c.value)
            .join(figures, figures.c.run == runs.c.id)
            .where(figures.c.quantity == quantity, runs.c.state == "complete")
            .order_by(runs.c.started, runs.c.id)
        )
        for column, wanted in ((runs.c.rig, rig), (runs.c.test, test), (runs.c.series, series)):
            if wanted:
                query = query.where(column == wanted)
        with self.reading() as db:
            return [FigureValue(row[0], as_utc(row[1]), json.loads(row[2]), row[3]) for row in db.execute(query)]

    def series_values(
        self, series: Sequence[str], quantities: Sequence[str], since: datetime
    ) -> Iterator[tuple[str, str, FigureValue]]:
        """Figures of the complete runs of some series that began since a moment, oldest first: series, quantity, and
        the value."""
        query = (
            sa.select(runs.c.series, figures.c.quantity, runs.c.id, runs.c.started, figures.c.labels, figures.c.value)
            .join(figures, figures.c.run == runs.c.id)
            .where(runs.c.series.in_(series), figures.c.quantity.in_(quantities))
            .where(runs.c.state == "complete", runs.c.started >= since)
            .order_by(runs.c.started, runs.c.id)
        )
        with self.reading() as db:
            for row in db.execute(query):
                yield row[0], row[1], FigureValue(row[2], as_utc(row[3]), json.loads(row[4]), row[5])

    def add(self, record: "RunRecord") -> Added:
        """Adds a record from elsewhere. It replaces one of the same run that broke off before it knew as much: what was
        saved beside a logbook comes home so. Raises RecordError for a run that ended otherwise under its id."""
        with self.writing() as db:
            kept = _stored(db, record.id)
            if kept is None:
                _insert(db, record)
                return "added"
            if kept != record and _goes_on(kept, record):
                _replace(db, record)
                return "replaced"
        if kept != record:
            raise RecordError(
                f"the logbook has another run under the id {record.id}",
                "One of the two was changed by hand; compare them with `harvok logbook export`.",
            )
        return "there"

    def add_all(self, records: "Sequence[RunRecord]") -> None:
        """Adds records that the logbook does not have, all of them or none."""
        with self.writing() as db:
            for record in records:
                _insert(db, record)

    def remove(self, ids: Sequence[str]) -> None:
        """Forgets runs for good."""
        with self.writing() as db:
            for run in ids:
                _delete(db, run)

    def ids_before(self, moment: datetime) -> list[str]:
        """The ids of all runs that began before a moment and are not under way, oldest first."""
        query = sa.select(runs.c.id).where(runs.c.started < moment, runs.c.state != "running")
        with self.reading() as db:
            return list(db.execute(query.order_by(runs.c.started, runs.c.id)).scalars())

    def rewrite(self, record: "RunRecord") -> None:
        """Puts a record in place of the one with its id."""
        with self.writing() as db:
            _replace(db, record)

    def give_back_room(self) -> None:
        """Has a file shrink to what is in it."""
        if self._beside:
            with self._guarded("written"), contextlib.closing(sqlite3.connect(self._beside)) as db:
                db.execute("vacuum")

    # --- judgements --------------------------------------------------------------------------------------------

    def judgements(self, name: str) -> list[StoredJudgement]:
        """What was judged of a plan that was run under a name, oldest first."""
        columns = judgements.c.judged, judgements.c.verdict, judgements.c.criteria, judgements.c.document
        query = sa.select(*columns).where(judgements.c.name == name).order_by(judgements.c.number)
        with self.reading() as db:
            return [StoredJudgement(*row) for row in db.execute(query)]

    def judged(self) -> list[tuple[str, datetime, str]]:
        """All judgements of plans: the name that each was run under, when, and the verdict."""
        query = sa.select(judgements.c.name, judgements.c.judged, judgements.c.verdict).order_by(judgements.c.number)
        with self.reading() as db:
            return [(row.name, row.judged, row.verdict) for row in db.execute(query)]

    def add_judgement(self, name: str, judgement: StoredJudgement) -> None:
        """Keeps a judgement, unless the latest says the same by the same criteria."""
        kept = self.judgements(name)
        if kept and (kept[-1].criteria, kept[-1].document) == (judgement.criteria, judgement.document):
            return
        with self.writing() as db:
            db.execute(judgements.insert().values(name=name, **asdict(judgement)))

    # --- the database ------------------------------------------------------------------------------------------

    def _prepare(self) -> None:
        """Creates the tables of a new logbook, refuses one from the future, brings an older one up to date, and
        recovers runs whose process died."""
        with self.reading() as db:
            tables = sa.inspect(db).get_table_names()
        if "about" in tables:
            self._bring_up_to_date(tables)
        elif tables:
            raise LogbookError(f"{self._place} is a database, but no logbook", "Give --logbook another place.")
        else:
            self._create()
        self._recover()

    def _create(self) -> None:
        """The tables and their version, whole or not at all, by whichever of several processes comes first."""
        with self.writing() as db:
            if sa.inspect(db).get_table_names():
                return
            metadata.create_all(db)
            db.execute(about.insert().values(key="schema", value=SCHEMA))
            db.execute(alembic_version.insert().values(version_num=SCHEMA))

    def _bring_up_to_date(self, tables: Sequence[str]) -> None:
        schema = sa.select(alembic_version.c.version_num) if "alembic_version" in tables else sa.select(about.c.value)
        with self.reading() as db:
            version: str | None = db.execute(schema).scalar_one_or_none()
        if version is None:
            raise LogbookError(f"{self._place} was broken off while it was made and holds no run", "Remove that file.")
        if int(version) > int(SCHEMA):
            raise LogbookNewerError(
                f"{self._place} was written by a newer Harvok (schema {version}; this one knows {SCHEMA})",
                "Upgrade Harvok on this host, or give --logbook another place.",
            )
        if version != SCHEMA:
            from harvok.logbook.migrate import migrate

            with self._guarded("brought up to date"):
                migrate(self._writer, version)

    def _recover(self) -> None:
        with self.reading() as db:
            dead = [
                row
                for row in db.execute(sa.select(runs.c.id, runs.c.owner).where(runs.c.state == "running"))
                if not is_alive(row.owner)
            ]
        for row in dead:
            with self.writing() as db:
                entries = db.execute(
                    sa.select(journal.c.trial, journal.c.entry)
                    .where(journal.c.run == row.id)
                    .order_by(journal.c.number)
                ).all()
                from harvok.logbook.recovery import put_together

                every = dict.fromkeys([*((e.trial, e.entry) for e in entries), *self._read_beside(row.id)])
                begun = _stored(db, row.id)
                if begun:  # else another process was faster
                    _replace(db, put_together(begun, list(every)))
            self.forget_beside(row.id)

    def _beside_of(self, run: str) -> Path:
        assert self._beside
        return self._beside.with_name(f"{self._beside.name}.{run}.journal")

    def _read_beside(self, run: str) -> list[tuple[int, str]]:
        """What a run's file beside the logbook has; its last line may have been cut off."""
        entries: list[tuple[int, str]] = []
        with contextlib.suppress(OSError, ValueError, TypeError):
            for line in self._beside_of(run).read_text(encoding="utf-8").splitlines() if self._beside else ():
                trial, entry = json.loads(line)
                entries.append((int(trial), str(entry)))
        return entries

    @contextlib.contextmanager
    def reading(self) -> Iterator[Connection]:
        """A connection for looking. Raises LogbookError for what goes wrong meanwhile."""
        with self._guarded("read"), self._engine.connect() as db:
            yield db

    @contextlib.contextmanager
    def writing(self) -> Iterator[Connection]:
        """A transaction: all of it is kept, or nothing. Raises LogbookError."""
        with self._guarded("written"), self._writer.begin() as db:
            yield db

    @contextlib.contextmanager
    def _guarded(self, what: str) -> Iterator[None]:
        try:
            yield
        except (DatabaseError, OSError) as error:
            why = str(error.orig) if isinstance(error, DatabaseError) else os.strerror(error.errno or 0)
            raise LogbookError(f"the logbook {self._place} cannot be {what}: {why}", _hint(why)) from error
        except (ValueError, TypeError, OverflowError) as error:  # what damaged rows are read as
            raise LogbookError(f"the logbook {self._place} cannot be {what}: {error}", _hint("malformed")) from error


def _hint(why: str) -> str:
    if "locked" in why:
        return "Another program has it locked, such as a backup or a database browser: end that, and try again."
    if "malformed" in why or "not a database" in why:
        return (
            "The file is damaged. Runs that are not can still be read one by one: harvok logbook export RUN, or all of "
            "them: harvok logbook salvage --to FILE."
        )
    return "Check the disk and its rights, or give another place with --logbook or HARVOK_LOGBOOK."


def _url_of(place: str) -> URL:
    """A path becomes a SQLite file, whose folder is made; a URL is taken as it is."""
    if "://" in place:
        try:
            url = make_url(place)
            url.get_dialect()
        except (ArgumentError, NoSuchModuleError) as error:
            raise UsageError(
                f"'{without_password(place)}' is no database URL: {without_password(str(error))}",
                "Give a path, or a URL of SQLAlchemy.",
            ) from error
        return url
    path = Path(place).expanduser()
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise LogbookError(
            f"the folder {path.parent} cannot be made: {error.strerror}",
            "Give another place with --logbook or HARVOK_LOGBOOK.",
        ) from error
    return URL.create("sqlite", database=str(path))


def _engine_of(url: URL) -> sa.Engine:
    """A database that was away is found again with the next question, and one that does not answer is given up."""
    if url.get_backend_name() == "sqlite":
        return sa.create_engine(url)
    patience = {"connect_timeout": _CONNECT_S} if url.get_backend_name() == "postgresql" else {}
    return sa.create_engine(url, pool_pre_ping=True, connect_args=patience)


def _tune_sqlite(connection: object, _: object) -> None:
    """Waits for a neighbour that writes, and lets a removed run take its figures and journal along. Transactions are
    begun below: the driver would leave tables out of them, and a logbook killed while it was made had only some."""
    connection.isolation_level = None  # type: ignore[attr-defined]
    cursor = connection.cursor()  # type: ignore[attr-defined]
    cursor.execute(f"PRAGMA busy_timeout = {_WAIT_FOR_LOCK_MS}")
    cursor.execute("PRAGMA foreign_keys = ON")
    cursor.close()


def _begin_in_sqlite(connection: Connection) -> None:
    """One that will write says so at once: it waits for its neighbour then, where a reader that turns writer could
    not."""
    connection.exec_driver_sql("begin immediate" if connection.get_execution_options().get("writes") else "begin")


def _columns(record: "RunRecord") -> dict[str, object]:
    return {
        "id": record.id,
        "started": record.started,
        "state": record.state,
        "test": record.test.title,
        "rig": record.between,
        "series": record.series,
        "note": record.note,
        "limiters": json.dumps(record.limiters),
        "record": head_of(record),
    }


def _read(text: str) -> "RunRecord":
    """A record from its JSON. The models take a quarter of a second to load, which a list of runs need not wait for."""
    from pydantic import ValidationError

    from harvok.core.models.run import parse_record

    try:
        return parse_record(text)
    except ValidationError as error:
        first = error.errors()[0]
        where = ".".join(str(part) for part in first["loc"])
        raise RecordError(
            f"a record in the logbook cannot be read: '{where}' {first['msg']}",
            "It was written by another version of Harvok; read it with that one.",
        ) from error


def _stored(db: Connection, run: str) -> "RunRecord | None":
    """The whole record of a run; None where there is none."""
    head = db.execute(sa.select(runs.c.record).where(runs.c.id == run)).scalar_one_or_none()
    if head is None:
        return None
    entries = sa.select(trials.c.entry).where(trials.c.run == run).order_by(trials.c.number)
    return _read(whole(head, list(db.execute(entries).scalars())))


def _insert(db: Connection, record: "RunRecord", owner: str = "") -> None:
    db.execute(runs.insert().values(**_columns(record), owner=owner))
    entries = [{"run": record.id, "number": number, "entry": text} for number, text in enumerate(trials_of(record))]
    if entries:
        db.execute(trials.insert(), entries)
    rows = [
        {
            "run": record.id,
            "number": number,
            "quantity": figure.quantity,
            "labels": json.dumps(figure.labels, sort_keys=True),
            "value": figure.value,
        }
        for number, figure in enumerate(record.figures)
    ]
    if rows:
        db.execute(figures.insert(), rows)


def _replace(db: Connection, record: "RunRecord") -> None:
    _delete(db, record.id)
    _insert(db, record)


def _goes_on(kept: "RunRecord", record: "RunRecord") -> bool:
    """Whether a record is of the same run as one that broke off, and knows more of it."""
    same = (kept.started, kept.command, kept.near.boot) == (record.started, record.command, record.near.boot)
    known = sum(trial.result is not None for trial in kept.trials)
    more = record.state == "complete" or sum(trial.result is not None for trial in record.trials) >= known
    return same and kept.state in ("broken", "running") and more


def _delete(db: Connection, run: str) -> None:
    db.execute(runs.delete().where(runs.c.id == run))


def _executing(db: Connection) -> Execute:
    """Runs plain SQL on an open connection."""
    return lambda query, parameters: db.execute(sa.text(query), parameters).all()
