"""Runs while a real PostgreSQL is stopped, read-only or out of connections: kept here, and in it once it is back."""

import os
import unittest
from contextlib import closing
from datetime import timedelta
from pathlib import Path
from unittest import mock

import sqlalchemy as sa

from harvok.core.figures import Figure
from harvok.core.models.run import RunRecord
from harvok.core.observer import Observer
from harvok.core.procedure import Findings
from harvok.core.site.outcome import SiteTest
from harvok.errors import LogbookError
from harvok.logbook.site_book import SiteBook
from harvok.logbook.spool import LastingSiteBook, open_logbook, spool_of
from harvok.logbook.store import Logbook
from harvok.runner.recorder import RunRecorder
from harvok.testing.clock import ManualClock
from tests.logbook.test_logbook import record
from tests.logbook.test_postgresql import PostgreSqlTest


class Away(PostgreSqlTest):
    def setUp(self) -> None:
        super().setUp()
        self.enterContext(mock.patch.dict(os.environ, {"XDG_DATA_HOME": str(self.folder / self.id())}))
        self.notices: list[str] = []
        self.kept: list[RunRecord] = []
        spool = spool_of(self.url)
        assert spool
        self.spool: Path = spool

    def stop(self) -> None:
        self.addCleanup(self.start)
        self.postgres("pg_ctl", "stop", "--mode=immediate", "--wait")

    def start(self) -> None:
        if not (self.folder / "data" / "postmaster.pid").exists():
            self.run_server()

    def a_run(self, number: int) -> RunRecord:
        whole = record()
        return whole.model_copy(
            update={
                "id": f"20261126-1200{number:02}-abcd",
                "started": whole.started + timedelta(minutes=number),
                "state": "running",
                "trials": [],
                "figures": [],
                "readings": [],
            }
        )

    def measured(self, number: int, meanwhile: str = "") -> None:
        """Measures a run, and does something while it is measured."""

        def work(observer: Observer, findings: Findings) -> None:  # noqa: ARG001
            findings.figures.append(Figure("goodput-settled", 1e6 * number, {"direction": "send"}))
            if meanwhile:
                getattr(self, meanwhile)()

        with closing(open_logbook(self.url, self.notices.append)) as logbook:
            recorder = RunRecorder(logbook, Observer(), self.kept.append, ManualClock())
            recorder.measure(self.a_run(number), work, lambda findings, events: [])  # noqa: ARG005

    def in_database(self) -> list[str]:
        with closing(Logbook(self.url)) as logbook:
            return [line.id[:15] for line in reversed(logbook.lines())]

    def waiting(self) -> int:
        with closing(Logbook(str(self.spool))) as waiting:
            return waiting.count()

    def test_stopped_before_and_during_runs_none_is_lost_and_none_comes_twice(self) -> None:
        self.measured(1)
        self.measured(2, meanwhile="stop")
        self.measured(3)
        self.measured(4)
        self.assertEqual(self.waiting(), 3)
        self.assertTrue(all(one.state == "complete" for one in self.kept))
        self.start()
        self.measured(5)
        self.assertEqual(self.in_database(), [f"20261126-1200{number:02}" for number in (1, 2, 3, 4, 5)])
        self.assertEqual(self.waiting(), 0)
        self.assertIn("3 runs that waited on this host are in the logbook now", self.notices)
        with closing(Logbook(self.url)) as logbook:
            self.assertEqual(
                [one.value for one in logbook.values("goodput-settled", "dome – hall")], [1e6, 2e6, 3e6, 4e6, 5e6]
            )

    def test_read_only(self) -> None:
        self.measured(1)
        with self.engine.connect() as db:
            db.execution_options(isolation_level="AUTOCOMMIT")
            db.execute(sa.text("alter database postgres set default_transaction_read_only = on"))
        self.addCleanup(self.allow_writing)
        self.measured(2)
        self.assertEqual(self.waiting(), 1, self.notices)
        self.allow_writing()
        self.measured(3)
        self.assertEqual(len(self.in_database()), 3)

    def allow_writing(self) -> None:
        with self.engine.connect() as db:
            db.execution_options(isolation_level="AUTOCOMMIT")
            db.execute(sa.text("set default_transaction_read_only = off"))
            db.execute(sa.text("alter database postgres reset default_transaction_read_only"))

    def test_out_of_connections(self) -> None:
        self.measured(1)
        with self.engine.begin() as db:
            db.execute(sa.text("create role bench login connection limit 0"))
        url, self.url = self.url, self.url.replace("harvok@", "bench@")
        spool = spool_of(self.url)
        assert spool
        self.spool = spool
        self.measured(2)
        self.assertEqual(self.waiting(), 1)
        with self.engine.begin() as db:
            db.execute(sa.text("alter role bench superuser connection limit -1"))
        self.measured(3)
        self.assertEqual(len(self.in_database()), 3)
        self.url = url

    def test_a_coordinator_goes_on(self) -> None:
        clock = ManualClock()
        due = clock.utc()
        tests = [SiteTest("hourly", ("dome",), "hall", due + timedelta(hours=number)) for number in range(3)]
        with LastingSiteBook(self.url, "observatory", self.notices.append, clock) as book:
            book.do(SiteBook.enter, tests[:1])
            book.do(SiteBook.begin, tests[0], due)
            self.stop()
            book.do(SiteBook.end, SiteTest("hourly", ("dome",), "hall", due, "done", due, runs=("run-1",)), due)
            book.do(SiteBook.enter, tests[1:])
            self.start()
            self.assertEqual(
                len(book.do(SiteBook.every)), 3, "what it wrote itself, until it asks for the database again"
            )
            clock.sleep(11)
            states = [test.state for test in book.do(SiteBook.every)]
        self.assertEqual(states, ["done", "waiting", "waiting"])
        with closing(Logbook(self.url)) as logbook:
            self.assertEqual(len(SiteBook(logbook, "observatory").every()), 3)
        self.assertEqual(len(self.notices), 2, self.notices)

    def test_who_only_reads_is_told_that_it_is_away(self) -> None:
        self.stop()
        with self.assertRaises(LogbookError):
            Logbook(self.url)


class OfFiles(unittest.TestCase):
    def test_a_logbook_that_is_a_file_has_no_spool(self) -> None:
        for place in ("book.sqlite", "sqlite:///book.sqlite"):
            self.assertIsNone(spool_of(place))
        known = {spool_of(f"postgresql+psycopg://bench:{word}@db/site") for word in ("one", "two")}
        self.assertEqual(len(known), 1, "a new password is no other database")
