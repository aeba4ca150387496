"""Records and logbooks that Harvok 0.1 wrote: read, brought up to date, and nothing of them lost."""

import json
import sqlite3
import tempfile
import unittest
from contextlib import closing
from pathlib import Path
from unittest import mock

from alembic.util.exc import CommandError

from harvok.core.models.run import parse_record
from harvok.core.models.version1 import FIGURE_KEYS, upgraded_record
from harvok.core.procedures.udp import UdpLoadTest, UdpSearchTest
from harvok.core.quantities import QUANTITIES
from harvok.errors import LogbookError
from harvok.logbook.exchange import read_records
from harvok.logbook.listing import SCHEMA, glance
from harvok.logbook.owner import this_process
from harvok.logbook.store import Logbook

SCHEMA_1 = Path(__file__).with_name("schema-1.sql")
"""A logbook of Harvok 0.1 with runs of tcp, udp, udp with a search in which the tester fell short, and delay."""


class OldLogbook(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.path = Path(folder.name) / "book.sqlite"
        with closing(sqlite3.connect(self.path)) as db:
            db.executescript(SCHEMA_1.read_text())

    def rows(self, query: str, path: Path | None = None) -> list[tuple[str, ...]]:
        with closing(sqlite3.connect(path or self.path)) as db:
            return db.execute(query).fetchall()


def numbers(part: object) -> set[float]:
    """Every number in a part of a record, to the microsecond; not when an interval began, which is when the one before
    it ended."""
    if isinstance(part, dict):
        parts = [value for key, value in part.items() if key not in ("start_s", "service")]
        return set().union(*map(numbers, parts))
    if isinstance(part, list):
        return set().union(*map(numbers, part))
    return {round(part, 6)} if isinstance(part, (int, float)) else set()


class Records(OldLogbook):
    def old(self) -> list[str]:
        return [text for (text,) in self.rows("select record from runs order by started")]

    def test_the_modes_of_udp_are_kinds(self) -> None:
        tcp, load, search, delay = (parse_record(text) for text in self.old())
        self.assertEqual([tcp.test.kind, delay.test.kind], ["tcp", "delay"])
        self.assertIsInstance(load.test, UdpLoadTest)
        self.assertIsInstance(search.test, UdpSearchTest)
        self.assertEqual((search.state, search.test.resolution), ("invalid", 0.01))

    def test_every_value_is_still_there(self) -> None:
        for text in self.old():
            before, after = json.loads(text), json.loads(parse_record(text).model_dump_json())
            keys = [(FIGURE_KEYS.get(f["quantity"], f["quantity"]), f["value"]) for f in before["figures"]]
            self.assertEqual(keys, [(f["quantity"], f["value"]) for f in after["figures"]])
            for old, new in zip(before["trials"], after["trials"], strict=True):
                self.assertGreater(len(numbers(old)), 5)
                self.assertEqual(numbers(old) - numbers(new), set())
            self.assertEqual(before["near"]["socket_limits"]["send_most_bytes"],
                             after["near"]["socket_limits"]["send_max_bytes"])  # fmt: skip

    def test_what_the_user_wrote_stays(self) -> None:
        noted = json.loads(self.old()[0]) | {"attributes": {"least_s": "1"}}
        self.assertEqual(upgraded_record(noted)["attributes"], {"least_s": "1"})
        self.assertEqual(upgraded_record({"version": 2, "least_s": 1}), {"version": 2, "least_s": 1})

    def test_every_new_key_is_a_quantity(self) -> None:
        self.assertLessEqual(set(FIGURE_KEYS.values()), set(QUANTITIES))
        self.assertFalse(set(FIGURE_KEYS) & set(QUANTITIES))

    def test_a_file_of_them_is_imported(self) -> None:
        file = self.path.with_name("runs.jsonl")
        file.write_text("\n".join(self.old()))
        self.assertEqual([record.version for record in read_records(file)], [2] * 4)


class Migration(OldLogbook):
    def test_it_happens_by_itself_and_leaves_a_copy(self) -> None:
        before = self.rows("select id, record from runs order by id")
        self.assertIsNone(glance(str(self.path), None, None))
        with closing(Logbook(str(self.path))) as logbook:
            self.assertEqual(
                [line.test for line in logbook.lines()], ["delay", "udp search each", "udp each", "tcp each"]
            )
            self.assertTrue(logbook.values("rtt-min", "vm – vm"))
        copy = self.path.with_name("book.sqlite.schema-1")
        self.assertEqual(self.rows("select id, record from runs order by id", copy), before)
        self.assertEqual(self.rows("select version_num from alembic_version"), [(SCHEMA,)])
        self.assertEqual(self.rows("select value from about where key = 'schema'"), [(SCHEMA,)])
        self.assertFalse(self.rows("select * from figures where quantity like '%least%'"))
        versions = {json.loads(text)["version"] for (text,) in self.rows("select record from runs")}
        self.assertEqual(versions, {2})

    def test_trials_are_kept_apart_and_are_still_there(self) -> None:
        (text,) = self.rows("select record from runs where test = 'tcp each'")[0]
        old = parse_record(text)
        with closing(Logbook(str(self.path))) as logbook:
            self.assertEqual(logbook.record(old.id).trials, old.trials)
        (head,) = self.rows(f"select record from runs where id = '{old.id}'")[0]
        self.assertNotIn("trials", json.loads(head))
        self.assertEqual(self.rows(f"select count(*) from trials where run = '{old.id}'"), [(len(old.trials),)])

    def test_a_run_that_died_under_the_old_version_is_put_together(self) -> None:
        (record,) = self.rows("select record from runs where test = 'udp each'")[0]
        whole = json.loads(record)
        started = whole | {"id": "20261125-120000-dead", "state": "running", "trials": [], "figures": []}
        trial = whole["trials"][0]
        interval = trial["result"]["directions"][0]["sender_intervals"][0]
        host, *_ = this_process().split()
        dead = f"{host} {2**22 + 1} 0"
        with closing(sqlite3.connect(self.path)) as db:
            columns = "insert into runs select ?, started, 'running', test, rig, series, note, limiters, ?, ? from runs"
            db.execute(f"{columns} where test = 'udp each'", (started["id"], dead, json.dumps(started)))
            for entry in (trial["trial"], interval):
                db.execute(
                    "insert into journal (run, trial, entry) values (?, 1, ?)", (started["id"], json.dumps(entry))
                )
            db.commit()
        with closing(Logbook(str(self.path))) as logbook:
            found = logbook.record(started["id"])
        self.assertEqual(found.state, "broken")
        (block, *_) = found.trials[0].samples
        self.assertEqual(block.values["datagrams"], [interval["datagrams"]])

    def test_when_it_fails_nothing_has_changed(self) -> None:
        before = self.rows("select * from runs")
        failing = mock.patch("alembic.command.upgrade", side_effect=CommandError("the disk is full"))
        with failing, self.assertRaisesRegex(LogbookError, "the disk is full"):
            Logbook(str(self.path))
        self.assertEqual(self.rows("select * from runs"), before)
        with closing(Logbook(str(self.path))) as logbook:
            self.assertEqual(logbook.count(), 4)
