"""The logbook in a real PostgreSQL, which this file starts and ends itself."""

import os
import shutil
import sqlite3
import subprocess
import tempfile
import unittest
from contextlib import closing
from datetime import datetime
from pathlib import Path
from typing import Any

import sqlalchemy as sa

from harvok.core.samples import in_columns
from harvok.logbook.listing import SCHEMA
from harvok.logbook.recovery import Entry
from harvok.logbook.store import Logbook
from harvok.logbook.tables import alembic_version, judgements, metadata, site_tests, trials
from harvok.testing.transfers import samples_of, transfer
from tests.logbook.test_logbook import record
from tests.logbook.test_versions import SCHEMA_1

FOUND = sorted(Path("/usr/lib/postgresql").glob("*/bin"))
"""Where Debian puts it."""


@unittest.skipUnless(FOUND and hasattr(os, "geteuid"), "PostgreSQL is not installed")
class PostgreSqlTest(unittest.TestCase):
    """A server of its own for each class of tests, empty before each test."""

    folder: Path
    url: str

    @classmethod
    def setUpClass(cls) -> None:
        cls.folder = Path(tempfile.mkdtemp(prefix="harvok-"))
        cls.addClassCleanup(shutil.rmtree, cls.folder)
        if not os.geteuid():
            shutil.chown(cls.folder, "postgres")
        cls.postgres("initdb", "--username=harvok", "--auth=trust", "--no-sync")
        cls.run_server()
        cls.addClassCleanup(cls.postgres, "pg_ctl", "stop", "--mode=immediate")
        cls.url = f"postgresql+psycopg://harvok@/postgres?host={cls.folder}"

    @classmethod
    def run_server(cls) -> None:
        """Starts the server."""
        cls.postgres("pg_ctl", "start", "--wait", "--log", f"{cls.folder}/log", "-o", f"-k {cls.folder} -h '' -F")

    @classmethod
    def postgres(cls, program: str, *arguments: str) -> None:
        """Runs one of its programs, not as root, which it refuses."""
        options: dict[str, Any] = {} if os.geteuid() else {"user": "postgres"}
        command = [str(FOUND[-1] / program), *arguments, "--pgdata", str(cls.folder / "data")]
        subprocess.run(command, check=True, stdout=subprocess.DEVNULL, cwd=cls.folder, **options)

    def setUp(self) -> None:
        engine = sa.create_engine(self.url)
        self.addCleanup(engine.dispose)
        self.engine = engine
        with engine.begin() as db:
            db.execute(sa.text("drop schema public cascade"))
            db.execute(sa.text("create schema public"))


class InPostgreSql(PostgreSqlTest):
    def test_a_run_from_its_journal_to_its_figures(self) -> None:
        whole = record()
        begun = whole.model_copy(update={"state": "running", "trials": [], "figures": [], "readings": []})
        second = next(samples_of([transfer(930e6, 3)]))
        with closing(Logbook(self.url)) as book:
            book.begin(begun)
            book.add_to_journal(whole.id, [(1, Entry(trial=whole.trials[0].trial).encode())])
            book.add_to_journal(whole.id, [(1, Entry(samples=in_columns(second)).encode())])
        with self.engine.begin() as db:
            db.execute(sa.text("update runs set owner = replace(owner, ' ', ' 9')"))
        with closing(Logbook(self.url)) as book:
            self.assertEqual(book.record(whole.id).trials[0].samples, in_columns(second))
            book.finish(whole)
            self.assertEqual(book.record(whole.id), whole)
            self.assertEqual(len(book.values("goodput-settled", "dome – hall")), 1)
            self.assertEqual([line.id for line in book.lines()], [whole.id])

    def test_an_old_logbook_is_brought_up_to_date_and_a_copy_is_kept(self) -> None:
        with closing(sqlite3.connect(":memory:")) as old, self.engine.begin() as db:
            old.executescript(SCHEMA_1.read_text())
            old.row_factory = sqlite3.Row
            newer = (alembic_version, judgements, site_tests, trials)
            tables = [table for table in metadata.sorted_tables if table not in newer]
            metadata.create_all(db, tables=tables)
            for table in tables:
                rows = [dict(row) for row in old.execute(f"select * from {table.name}")]
                for row in rows:
                    if "started" in row:
                        row["started"] = datetime.fromisoformat(row["started"])
                if rows:
                    db.execute(table.insert(), rows)
        with closing(Logbook(self.url)) as book:
            self.assertEqual({found.version for found in book.records([line.id for line in book.lines()])}, {2})
            self.assertTrue(book.values("rtt-min", "vm – vm"))
        with self.engine.begin() as db:
            self.assertEqual(db.execute(sa.text("select version_num from alembic_version")).scalars().all(), [SCHEMA])
            self.assertEqual(db.execute(sa.text("select count(*) from runs_schema_1")).scalar(), 4)
            self.assertEqual(
                db.execute(sa.text("select count(*) from figures where quantity like '%least%'")).scalar(), 0
            )
