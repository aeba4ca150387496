import json
import sqlite3
import tempfile
import unittest
from contextlib import closing
from datetime import UTC, datetime, timedelta
from pathlib import Path
from unittest import mock

import sqlalchemy as sa

from harvok import __version__
from harvok.core.conditions import HostConditions, InterfaceFacts
from harvok.core.link import Link, PortSpeed
from harvok.core.models.control import Fault
from harvok.core.models.run import RigRecord, RunRecord, TrialRecord
from harvok.core.procedures.tcp import TcpTest
from harvok.core.samples import in_columns
from harvok.core.trials.tcp import TcpTrial, TcpTrialResult
from harvok.errors import LogbookError, LogbookNewerError, NothingFoundError, RecordError, UsageError
from harvok.logbook.exchange import decode_record, encode_record, read_records
from harvok.logbook.listing import glance
from harvok.logbook.owner import is_alive, this_process
from harvok.logbook.recovery import Entry
from harvok.logbook.store import Logbook
from harvok.runner.samples import sample_of
from harvok.testing.measuring import findings_of
from harvok.testing.transfers import ScriptedRig, samples_of, transfer

LINK = Link(1e9, PortSpeed("dome0", 1e9), PortSpeed("hall0", 1e9))
START = datetime(2026, 11, 23, 8, 0, tzinfo=UTC)


def host(name: str) -> HostConditions:
    port = InterfaceFacts(
        name=f"{name}0", kind="physical", negotiated_bps=1e9, mtu_bytes=1500, offloads={"receive": True}
    )
    return HostConditions(
        name=name,
        system="Linux",
        kernel="6.1",
        machine="x86_64",
        python="3.11",
        harvok=__version__,
        cores=4,
        interface=port,
    )


def record(number: int = 0, series: str | None = None, megabits: float = 930, state: str = "complete") -> RunRecord:
    """A whole made-up run; `number` orders runs in time."""
    result = TcpTrialResult([transfer(megabits * 1e6, 3)])
    test = TcpTest("send", TcpTrial((), duration_s=3.0))
    findings = findings_of(test, ScriptedRig(lambda _: result), LINK)
    return RunRecord(
        id=f"20261123-08{number:04}-dome",
        state=state,  # type: ignore[arg-type]
        started=START + timedelta(minutes=number),
        harvok=__version__,
        command=["harvok", "tcp", "hall"],
        test=test,
        rig=RigRecord(station="hall", address="198.18.0.2", port=26470),
        link=LINK,
        series=series,
        attributes={"length": "15"},
        near=host("dome"),
        far=host("hall"),
        trials=[
            TrialRecord(
                trial=test.trials[0],
                result=result.outcome,
                samples=in_columns(sample for samples in samples_of(result.directions) for sample in samples),
            )
        ],
        readings=findings.readings,
        figures=findings.figures,
    )


class InAFolder(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self.path = self.folder / "deep" / "book.sqlite"

    def book(self) -> Logbook:
        logbook = Logbook(str(self.path))
        self.addCleanup(logbook.close)
        return logbook


class Storing(InAFolder):
    def test_what_goes_in_comes_out(self) -> None:
        book, whole = self.book(), record()
        self.assertFalse(book.has(whole.id))
        self.assertEqual(book.add(whole), "added")
        self.assertEqual(book.record(whole.id), whole)
        self.assertEqual(book.add(whole), "there")

    def test_another_run_under_the_same_id_is_refused(self) -> None:
        book = self.book()
        book.add(record())
        with self.assertRaisesRegex(RecordError, "another run"):
            book.add(record(megabits=100))

    def test_lists_are_newest_first_and_tell_the_headline(self) -> None:
        book = self.book()
        for number in (2, 0, 1):
            book.add(record(number, series="before" if number else None))
        lines = book.lines()
        self.assertEqual([line.started.minute for line in lines], [2, 1, 0])
        (headline,) = lines[0].headline
        self.assertEqual((headline.quantity, headline.labels), ("goodput-settled", {"direction": "send"}))
        self.assertAlmostEqual(headline.value, 930e6, delta=1e3)
        self.assertEqual(
            (lines[0].limiters, lines[0].rig, lines[0].test), ({"send": "link"}, "dome – hall", "tcp send")
        )
        self.assertEqual([line.id for line in book.lines(limit=1, series="before")], [lines[0].id])
        self.assertEqual((book.count(), book.count("before"), book.series()), (3, 2, {"before": 2}))

    def test_a_glance_sees_what_the_open_logbook_sees(self) -> None:
        book = self.book()
        for number in range(3):
            book.add(record(number, series="before" if number else None))
        for limit, series in ((None, None), (2, None), (1, "before"), (5, "nothing")):
            self.assertEqual(glance(str(self.path), limit, series), (book.lines(limit, series), book.count(series)))

    def test_a_glance_is_not_enough_for_what_needs_care(self) -> None:
        self.assertIsNone(glance(str(self.path), None, None))
        self.assertIsNone(glance("sqlite://", None, None))
        book = self.book()
        book.begin(record().model_copy(update={"state": "running"}))
        self.assertIsNone(glance(str(self.path), None, None))
        with closing(sqlite3.connect(self.path)) as db, db:
            db.execute("delete from runs")
            db.execute("update alembic_version set version_num = '99'")
        self.assertIsNone(glance(str(self.path), None, None))
        self.path.write_text("no database")
        self.assertIsNone(glance(str(self.path), None, None))

    def test_series_are_oldest_first(self) -> None:
        book = self.book()
        for number in (2, 0, 1):
            book.add(record(number, series="before"))
        self.assertEqual([r.started.minute for r in book.series_records("before")], [0, 1, 2])
        with self.assertRaises(NothingFoundError) as caught:
            book.series_records("after")
        self.assertIn("before", caught.exception.hint)

    def test_finding_a_run(self) -> None:
        book = self.book()
        for number in (1, 2):
            book.add(record(number))
        self.assertEqual(book.find("last"), "20261123-080002-dome")
        self.assertEqual(book.find("0001-dome"), "20261123-080001-dome")
        for name, words in (("2026", "more than one"), ("%", "no run"), ("nothing", "no run")):
            with self.assertRaisesRegex(NothingFoundError, words):
                book.find(name)

    def test_removed_is_gone_with_its_figures(self) -> None:
        book = self.book()
        book.add(record(1))
        book.add(record(2))
        book.remove(["20261123-080001-dome"])
        with closing(sqlite3.connect(self.path)) as db:
            self.assertEqual(db.execute("select distinct run from figures").fetchall(), [("20261123-080002-dome",)])
        with self.assertRaises(NothingFoundError):
            book.record("20261123-080001-dome")


class BreakingOff(InAFolder):
    def test_a_run_whose_process_died_is_put_together_from_its_journal(self) -> None:
        book, whole = self.book(), record()
        begun = whole.model_copy(update={"state": "running", "trials": [], "figures": [], "readings": []})
        book.begin(begun)
        seconds = [*samples_of([transfer(930e6, 3)])][:2]
        entries = [Entry(trial=whole.trials[0].trial), *(Entry(samples=in_columns(second)) for second in seconds)]
        book.add_to_journal(whole.id, [(1, entry.encode()) for entry in entries[:2]])
        book.add_to_journal(whole.id, [(1, entry.encode()) for entry in entries[2:]])
        self.assertEqual(self.book().lines()[0].state, "running")  # this process lives
        with closing(sqlite3.connect(self.path)) as db, db:
            db.execute("update runs set owner = replace(owner, ' ', ' 9')")
        found = self.book().record(whole.id)
        self.assertEqual((found.state, found.fault.reference if found.fault else ""), ("broken", "process-died"))
        self.assertEqual(found.trials[0].trial, whole.trials[0].trial)
        self.assertEqual(found.trials[0].samples, in_columns([*seconds[0], *seconds[1]]))

    def test_finishing_replaces_the_journal(self) -> None:
        book, whole = self.book(), record()
        book.begin(whole.model_copy(update={"state": "running"}))
        book.add_to_journal(whole.id, [(1, Entry(trial=whole.trials[0].trial).encode())])
        book.finish(whole)
        self.assertEqual(book.record(whole.id), whole)
        with closing(sqlite3.connect(self.path)) as db:
            self.assertEqual(db.execute("select count(*) from journal").fetchone(), (0,))

    def test_owners(self) -> None:
        self.assertTrue(is_alive(this_process()))
        self.assertTrue(is_alive("another-host 1 0.0"))
        host_name = this_process().split()[0]
        for owner in (f"{host_name} 1 0.0", f"{host_name} 999999999 0.0", f"{host_name} x", f"{host_name}"):
            self.assertFalse(is_alive(owner), owner)

    def test_broken_runs_keep_their_reason(self) -> None:
        book = self.book()
        broken = record(state="broken").model_copy(
            update={"fault": Fault(reference="station-lost", message="it went away", hint="look")}
        )
        book.add(broken)
        self.assertEqual(book.record(broken.id), broken)


class BadPlaces(InAFolder):
    def test_a_newer_logbook_is_left_alone(self) -> None:
        self.book()
        with closing(sqlite3.connect(self.path)) as db, db:
            db.execute("update alembic_version set version_num = '99'")
        with self.assertRaisesRegex(LogbookNewerError, "schema 99"):
            self.book()

    def test_one_broken_off_while_it_was_made_is_made_anew(self) -> None:
        place = str(self.folder / "new.sqlite")
        with mock.patch("harvok.logbook.store.about.insert", side_effect=KeyboardInterrupt):
            self.assertRaises(KeyboardInterrupt, Logbook, place)
        with closing(Logbook(place)) as again:
            self.assertEqual(again.count(), 0)

    def test_several_processes_make_one(self) -> None:
        """Each has seen that nothing is there when the first begins to write."""
        place = str(self.folder / "new.sqlite")
        made = Logbook._create

        def after_another(late: Logbook) -> None:
            with mock.patch.object(Logbook, "_create", made):
                Logbook(place).close()
            made(late)

        with mock.patch.object(Logbook, "_create", after_another), closing(Logbook(place)) as book:
            self.assertEqual(book.count(), 0)

    def test_another_database_is_left_alone(self) -> None:
        self.path.parent.mkdir()
        with closing(sqlite3.connect(self.path)) as db, db:
            db.execute("create table recipes (name text)")
        with self.assertRaisesRegex(LogbookError, "no logbook"):
            self.book()

    def test_not_a_database(self) -> None:
        self.path.parent.mkdir()
        self.path.write_text("spectro-lead-07: 15 m\n" * 100)
        with self.assertRaisesRegex(LogbookError, "not a database"):
            self.book()

    def test_a_folder_that_cannot_be_made(self) -> None:
        (self.folder / "deep").write_text("a file")
        with self.assertRaisesRegex(LogbookError, "cannot be made"):
            self.book()

    def test_a_url_that_is_none(self) -> None:
        with self.assertRaises(UsageError):
            Logbook("nothing://at.all/here")

    def test_a_full_disk_is_said(self) -> None:
        book = self.book()
        with closing(sqlite3.connect(self.path)) as db:
            pages = db.execute("pragma page_count").fetchone()[0]
        sa.event.listen(book._engine, "connect", lambda db, _: db.execute(f"pragma max_page_count = {pages}"))
        book._engine.dispose()
        with self.assertRaisesRegex(LogbookError, "full"):
            for number in range(50):
                book.add(record(number))


class Exchanging(InAFolder):
    def write(self, text: str) -> Path:
        path = self.folder / "runs.jsonl"
        path.write_text(text)
        return path

    def test_lines_and_a_spread_out_record_are_read(self) -> None:
        one, two = record(1), record(2)
        lines = self.write(f"{encode_record(one)}\n\n{encode_record(two)}\n")
        self.assertEqual(list(read_records(lines)), [one, two])
        spread = self.write(one.model_dump_json(indent=2))
        self.assertEqual(list(read_records(spread)), [one])

    def test_errors_name_the_line_and_the_key(self) -> None:
        good = encode_record(record())
        with self.assertRaisesRegex(RecordError, "line 2 is not JSON"):
            list(read_records(self.write(f"{good}\n{good[:-20]}\n")))
        changed = json.loads(good) | {"started": "yesterday"}
        with self.assertRaisesRegex(RecordError, "line 1: 'started'"):
            list(read_records(self.write(json.dumps(changed))))
        with self.assertRaisesRegex(RecordError, "'colour'"):
            decode_record(json.dumps(json.loads(good) | {"colour": 1}), "here")
        with self.assertRaisesRegex(RecordError, "cannot be read"):
            list(read_records(self.folder / "missing"))

    def test_other_documents_and_newer_records(self) -> None:
        for text in ("[]", "{}", '"text"', '{"format": "other"}'):
            with self.assertRaisesRegex(RecordError, "not the record"):
                decode_record(text, "here")
        with self.assertRaisesRegex(LogbookNewerError, "version 3"):
            decode_record(json.dumps(json.loads(encode_record(record())) | {"version": 3}), "here")


class Samples(unittest.TestCase):
    def test_conditions_that_must_be_alike(self) -> None:
        found = sample_of(record()).conditions
        self.assertEqual(found["near.speed"], "1 Gb/s")
        self.assertEqual(found["far.mtu"], "1500 B")
        self.assertEqual(found["test.duration"], "3 s")
        self.assertEqual(found["near.receive"], "on")
        self.assertNotIn("near.load", found)
        self.assertEqual(sample_of(record()).limiters["send"].kind, "link")
