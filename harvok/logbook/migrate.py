"""Brings a logbook of an older schema up to today's, with Alembic, after a copy of it was put aside."""

import contextlib
import sqlite3
from pathlib import Path

import sqlalchemy as sa
from alembic import command
from alembic.config import Config
from alembic.util.exc import CommandError
from sqlalchemy.engine import Connection, Engine

from harvok.errors import LogbookError

_COPIED = ("runs", "figures", "journal")


def migrate(engine: Engine, old: str) -> None:
    """Migrates from the schema `old`. Raises LogbookError, and then nothing has changed."""
    config = Config()
    config.set_main_option("script_location", "harvok.logbook:migrations")
    copy = _keep_copy(engine, old)
    try:
        with engine.begin() as db:
            config.attributes["connection"] = db
            if "alembic_version" not in sa.inspect(db).get_table_names():
                command.stamp(config, old)
            command.upgrade(config, "head")
    except CommandError as error:
        raise LogbookError(
            f"the logbook cannot be brought up to date: {error}", f"Its copy is {copy}; nothing has changed."
        ) from error


def _keep_copy(engine: Engine, old: str) -> str:
    """A copy of everything as it was: of a SQLite file beside it, else in tables of the same database."""
    path = engine.url.database
    if engine.url.get_backend_name() == "sqlite" and path:
        copy = Path(f"{path}.schema-{old}")
        with contextlib.closing(sqlite3.connect(path)) as source, contextlib.closing(sqlite3.connect(copy)) as target:
            source.backup(target)
        return str(copy)
    with engine.begin() as db:
        _copy_tables(db, old)
    return f"in the tables {', '.join(f'{name}_schema_{old}' for name in _COPIED)}"


def _copy_tables(db: Connection, old: str) -> None:
    there = sa.inspect(db).get_table_names()
    for name in _COPIED:
        if f"{name}_schema_{old}" not in there:
            db.execute(sa.text(f"create table {name}_schema_{old} as select * from {name}"))
