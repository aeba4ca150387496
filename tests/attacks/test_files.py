"""Files and names from elsewhere: records, logbooks, texts that are meant for another program than the one that shows
them."""

import csv
import io
import json
import os
import random
import socket
import sqlite3
import threading
import unittest
from collections.abc import Callable
from contextlib import closing
from pathlib import Path
from typing import Any
from unittest import mock
from xml.etree import ElementTree

from harvok.core.judgement.finding import Finding
from harvok.core.trials.tcp import TcpTrialResult
from harvok.errors import LogbookError, NotKeptError, RecordError
from harvok.logbook.exchange import decode_record, encode_record, read_records
from harvok.logbook.places import has_password, without_password
from harvok.logbook.salvage import salvage
from harvok.logbook.store import Logbook
from harvok.reports.document import Table
from harvok.reports.written import html, junit, markdown, tidy_csv
from harvok.runner.journal import Journal
from harvok.testing.transfers import samples_of, transfer
from tests.logbook.test_logbook import record
from tests.own_state import own_state
from tests.reports.test_written import report
from tests.whole.program import ProgramTest

ESCAPES = "\x1b[2J\x1b]0;owned\x07\x9b31m\u202ename\r"
MARKUP = "[red]name[/red] [/] [link=http://x]y[/link] :skull:"
FORMULAS = ("=1+1", "+1", "-1", "@SUM(A1)", "\t=1", "\r=1")
_SEED = 20261125


class Importing(unittest.TestCase):
    """What no record that Harvok wrote can hold is refused, with the place named."""

    def setUp(self) -> None:
        self.good: dict[str, Any] = json.loads(encode_record(record()))

    def refused(self, words: str, **changes: Any) -> None:
        with self.assertRaises(RecordError) as caught:
            decode_record(json.dumps(self.good | changes), "runs.jsonl, line 7")
        self.assertIn("runs.jsonl, line 7", caught.exception.message)
        self.assertIn(words, caught.exception.message)

    def figures(self, **changes: Any) -> list[dict[str, Any]]:
        first, *rest = self.good["figures"]
        return [first | changes, *rest]

    def test_a_good_one_is_taken(self) -> None:
        self.assertEqual(decode_record(json.dumps(self.good), "x"), record())

    def test_numbers_that_are_none(self) -> None:
        for value in (float("nan"), float("inf"), float("-inf")):
            self.refused("'figures.0.value' is not right", figures=self.figures(value=value))
        self.refused("cannot be -5", figures=self.figures(value=-5))
        trial = self.good["trials"][0]["trial"]
        for key, value in (("flows", 0), ("duration_s", -1), ("tick_s", 1e-9), ("interval_s", 1e300)):
            trials = [self.good["trials"][0] | {"trial": trial | {key: value}}]
            self.refused(f"trials.0.trial.tcp.{key}", trials=trials)
        options = trial["options"] | {"dscp": 64}
        trials = [self.good["trials"][0] | {"trial": trial | {"options": options}}]
        self.refused("options.dscp", trials=trials)

    def test_figures_that_mean_nothing_or_come_twice(self) -> None:
        self.refused("there is no quantity magic", figures=self.figures(quantity="magic"))
        self.refused("is there twice", figures=[self.good["figures"][0]] * 2)

    def test_ids_that_lead_elsewhere(self) -> None:
        for wrong in ("../../etc/passwd", "a/b", "", ".hidden", "x" * 65, "a b", "a\x00b"):
            self.refused("'id'", id=wrong)

    def test_what_is_nested_too_deeply_or_too_long(self) -> None:
        with self.assertRaisesRegex(RecordError, "is nested too deeply"):
            decode_record('{"format":' + "[" * 100_000, "x")
        folder = own_state(self)
        (folder / "runs.jsonl").write_text('{"format": "' + "x" * 5000 + '"}\n')
        with (
            mock.patch("harvok.logbook.exchange.MAX_RECORD_CHARACTERS", 1000),
            self.assertRaisesRegex(RecordError, "line 1 is longer than any record"),
        ):
            list(read_records(folder / "runs.jsonl"))

    def test_a_spread_out_document_is_read_as_well(self) -> None:
        file = own_state(self) / "run.json"
        file.write_text(json.dumps(self.good, indent=2))
        self.assertEqual(list(read_records(file)), [record()])


class Showing(ProgramTest):
    """A name that is an escape sequence, or Rich markup, is shown as what it is and does nothing."""

    def test_no_view_lets_one_through(self) -> None:
        with closing(Logbook(str(self.logbook))) as book:
            for number, name in enumerate((ESCAPES, MARKUP)):
                one = record(number, series=name)
                near = one.near.model_copy(update={"name": name, "kernel": name})
                changes = {"near": near, "note": name, "attributes": {name: name}, "notices": [name]}
                book.add(one.model_copy(update=changes))
        for words in (("logbook", "list"), ("logbook", "show", "last"), ("logbook", "show", record().id)):
            shown = self.inside(*words).stdout
            self.assertIn("name", shown)
            for letter in "\x1b\x07\x9b\u202e\r":
                self.assertNotIn(letter, shown)
        self.assertIn(MARKUP[:20], self.inside("logbook", "show", "last").stdout)
        said = self.inside("logbook", "show", f"{ESCAPES}{MARKUP}", code=2).stderr
        self.assertNotIn("\x1b", said)
        self.assertIn("[/]", said)


class Writing(unittest.TestCase):
    def test_no_cell_is_a_formula(self) -> None:
        for formula in FORMULAS:
            one = record(series=formula).model_copy(update={"attributes": {"lead": formula}})
            rows = list(csv.DictReader(io.StringIO(tidy_csv(report(records=[one])), newline="")))
            shown = "'" + formula.replace("\t", " ").replace("\r", " ")
            self.assertEqual({row["series"] for row in rows}, {shown})
            self.assertEqual({row["with_lead"] for row in rows}, {shown})
            self.assertTrue(all(float(row["value"]) >= 0 for row in rows))

    def test_markdown_shows_what_is_written(self) -> None:
        text = "[click](http://x) <b>bold</b> `code` *em* | cell\n# heading ![x](y)"
        table = Table("T", ["a", "b"], [[text, "1"]])
        page = markdown(
            report(title=text, findings=[Finding("REJECT", text, text, text)], tables=[table], remarks=[text])
        )
        shown = "\\[click\\](http://x) &lt;b>bold&lt;/b> \\`code\\` \\*em\\* \\| cell # heading !\\[x\\](y)"
        self.assertIn(f"# {shown}", page)
        self.assertIn(f"| {shown} | 1 |", page)
        self.assertIn(f"- {shown}", page)
        self.assertNotIn("\n# heading", page)
        self.assertNotIn("<b>", page)

    def test_html_and_xml_hold_what_no_document_may(self) -> None:
        text = f"{ESCAPES}\ufffe\x00</script><img src=x onerror=alert(1)>"
        hostile = report(title=text, findings=[Finding("REJECT", text, text, text)])
        self.assertNotIn("<img src=x", html(hostile))
        ElementTree.fromstring(junit(hostile))


class Passwords(unittest.TestCase):
    def test_where_a_password_is(self) -> None:
        for place, shown in (
            ("postgresql://dome:secret@h/runs", "postgresql://dome:…@h/runs"),
            ("postgresql+psycopg://dome:p%40s@h:5432/runs", "postgresql+psycopg://dome:…@h:5432/runs"),
            ("postgresql://h/runs?user=dome&password=secret", "postgresql://h/runs?user=dome&password=…"),
        ):
            self.assertTrue(has_password(place))
            self.assertEqual(without_password(place), shown)
        for place in (
            "/home/dome/book.sqlite",
            "postgresql://dome@h/runs",
            "postgresql://h:5432/runs",
            "sqlite:///x.db",
        ):
            self.assertFalse(has_password(place))
            self.assertEqual(without_password(place), place)


class Damaged(unittest.TestCase):
    """A logbook that is cut off or altered anywhere: a clear sentence, and what is not damaged stays readable."""

    RUNS, CUTS, ALTERED = 12, 20, 40

    def setUp(self) -> None:
        self.folder = own_state(self)
        self.path = self.folder / "book.sqlite"
        with closing(Logbook(str(self.path))) as book:
            for number in range(self.RUNS):
                book.add(record(number, series="before"))
        self.whole = self.path.read_bytes()
        self.random = random.Random(_SEED)

    def read_all(self) -> int:
        """Reads everything there is to read; returns how many runs came. Anything but LogbookError is a failure."""
        came = 0
        try:
            with closing(Logbook(str(self.path))) as book:
                ids = [line.id for line in book.lines()]
                book.series()
                for one in ids:
                    try:
                        came += book.record(one).state == "complete"
                    except LogbookError:
                        continue
        except LogbookError as error:
            self.assertIn(str(self.path), error.message)
            self.assertTrue(error.hint)
        return came

    def salvaged(self) -> int:
        try:
            return sum(not isinstance(one, LogbookError) for one in salvage(str(self.path)))
        except LogbookError as error:
            self.assertIn("nothing of", error.message)
            return 0

    def test_cut_off_anywhere(self) -> None:
        for _ in range(self.CUTS):
            self.path.write_bytes(self.whole[: self.random.randrange(len(self.whole))])
            self.read_all()
            self.salvaged()

    def test_altered_anywhere(self) -> None:
        readable = []
        for _ in range(self.ALTERED):
            altered = bytearray(self.whole)
            at = self.random.randrange(100, len(altered) - 200)
            size = self.random.choice((1, 8, 200))
            altered[at : at + size] = self.random.randbytes(size)
            self.path.write_bytes(bytes(altered))
            readable.append(max(self.read_all(), self.salvaged()))
        self.assertGreaterEqual(sorted(readable)[self.ALTERED // 4], self.RUNS - 2)

    def test_a_page_of_nothing_costs_the_runs_on_it_alone(self) -> None:
        middle = len(self.whole) // 2 // 4096 * 4096
        self.path.write_bytes(self.whole[:middle] + bytes(4096) + self.whole[middle + 4096 :])
        self.assertGreaterEqual(self.salvaged(), self.RUNS - 2)

    def test_what_is_no_logbook_at_all(self) -> None:
        for content in (b"not a database" * 100, b"", os.urandom(8192)):
            self.path.write_bytes(content)
            self.read_all()


class Locked(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = own_state(self)
        self.path = self.folder / "book.sqlite"
        self.enterContext(mock.patch("harvok.logbook.store._WAIT_FOR_LOCK_MS", 50))
        self.book = self.enterContext(closing(Logbook(str(self.path))))

    def locked(self) -> sqlite3.Connection:
        other = self.enterContext(closing(sqlite3.connect(self.path, isolation_level=None, check_same_thread=False)))
        other.execute("begin exclusive")
        return other

    def test_another_program_that_holds_it_is_named(self) -> None:
        self.locked()
        with self.assertRaises(LogbookError) as caught:
            self.book.begin(record(state="running"))
        self.assertIn("locked", caught.exception.message)
        self.assertIn("Another program", caught.exception.hint)

    def journalled(self, unlock_after: bool) -> Journal:
        running = record(state="running")
        self.book.begin(running)
        with closing(Journal(self.book, running.id)) as journal:
            other = self.locked()
            journal.trial_started(1, running.trials[0].trial)
            result = TcpTrialResult([transfer(930e6, 3)])
            for samples in samples_of(result.directions):
                journal.samples(list(samples))
            beside = self.folder / f"book.sqlite.{running.id}.journal"
            waited = threading.Event()
            while not beside.exists():
                waited.wait(0.02)
            if unlock_after:
                other.execute("rollback")
            journal.trial_finished(1, result)
        if not unlock_after:
            other.execute("rollback")
        return journal

    def test_the_journal_goes_on_beside_it_and_comes_home(self) -> None:
        self.assertIsNone(self.journalled(unlock_after=True).fault)
        self.assertEqual([path.name for path in self.folder.glob("*.journal")], [])

    def test_a_run_that_dies_meanwhile_is_put_together_from_both(self) -> None:
        journal = self.journalled(unlock_after=False)
        self.assertIsInstance(journal.fault, LogbookError)
        with closing(sqlite3.connect(self.path)) as raw:
            raw.execute("update runs set owner = ?", (f"{socket.gethostname()} {2**22 + 1} 0.0",))
            raw.commit()
        with closing(Logbook(str(self.path))) as again:
            found = again.record("20261123-080000-dome")
        self.assertEqual(found.state, "broken")
        self.assertEqual(found.trials[0].samples, record().trials[0].samples)
        self.assertEqual(list(self.folder.glob("*.journal")), [])


class ComingHome(ProgramTest):
    def test_a_record_saved_beside_takes_the_place_of_the_broken_one(self) -> None:
        whole, file = record(), self.folder / "saved.jsonl"
        file.write_text(encode_record(whole) + "\n")
        with closing(Logbook(str(self.logbook))) as book:
            book.add(record(state="broken").model_copy(update={"trials": [], "figures": []}))
        self.assertIn("1 took the place", self.inside("logbook", "import", str(file)).stdout)
        self.assertIn("0 runs added, 1 were there", self.inside("logbook", "import", str(file)).stdout)
        with closing(Logbook(str(self.logbook))) as book:
            self.assertEqual(book.record(whole.id), whole)
            other = whole.model_copy(update={"command": ["harvok", "udp"], "state": "broken"})
            with self.assertRaises(RecordError):
                book.add(other)

    def overwrite(self) -> None:
        """Between two transactions: in the middle of one, SQLite would write all pages anew, and nothing be lost."""
        with closing(sqlite3.connect(self.logbook, timeout=30, isolation_level=None)) as held:
            held.execute("begin immediate")
            self.logbook.write_bytes(b"gone" * 1000)

    def test_a_logbook_lost_in_mid_run_is_said_and_mended(self) -> None:
        _, address = self.station()
        ways: list[Callable[[], object]] = [self.overwrite, self.logbook.unlink]
        for number, lose in enumerate(ways, 1):
            near = self.start("tcp", address, "--duration", "2s", "--direction", "send", "--interval", "500ms")
            assert near.stdout
            self.assertTrue(any("goodput" in line for line in near.stdout))  # of the first interval
            lose()
            out, err = near.communicate(timeout=120)
            self.assertEqual(near.returncode, NotKeptError.exit_code, out + err)
            self.assertIn("not kept in the logbook; kept in", err)
            saved = max(self.folder.glob("harvok-run-*.jsonl"))
            self.assertIn(saved.name, err)
            self.logbook.unlink(missing_ok=True)
            self.assertIn("1 runs added", self.inside("logbook", "import", str(saved)).stdout)
            self.assertIn("send", self.inside("logbook", "show", "last").stdout)
            self.assertEqual(len(list(self.folder.glob("harvok-run-*.jsonl"))), number)

    def test_salvage_writes_what_a_damaged_logbook_still_has(self) -> None:
        with closing(Logbook(str(self.logbook))) as book:
            for number in range(6):
                book.add(record(number))
        raw = self.logbook.read_bytes()
        middle = len(raw) // 2 // 4096 * 4096
        self.logbook.write_bytes(raw[:middle] + os.urandom(4096) + raw[middle + 4096 :])
        saved = self.folder / "saved.jsonl"
        said = self.inside("logbook", "salvage", "--to", str(saved)).stderr
        count = len(saved.read_text().splitlines())
        self.assertGreaterEqual(count, 3)
        self.assertIn(f"{count} runs written to {saved}", said)
        self.inside("logbook", "salvage", "--to", str(saved), code=2)
        self.env["HARVOK_LOGBOOK"] = str(self.folder / "new.sqlite")
        self.assertIn(f"{count} runs added", self.inside("logbook", "import", str(saved)).stdout)


class PartFiles(ProgramTest):
    def test_a_link_where_a_file_is_written_is_not_followed(self) -> None:
        precious = self.folder / "precious"
        precious.write_text("not to be overwritten")
        Path(self.folder / "runs.jsonl.part").symlink_to(precious)
        with closing(Logbook(str(self.logbook))) as book:
            book.add(record())
        self.inside("logbook", "export", "--to", str(self.folder / "runs.jsonl"))
        self.assertEqual(precious.read_text(), "not to be overwritten")
        self.assertEqual(len(list(read_records(self.folder / "runs.jsonl"))), 1)


class Columns(unittest.TestCase):
    def test_columns_of_samples_are_as_long_as_their_moments(self) -> None:
        text = json.loads(encode_record(record()))
        text["trials"][0]["samples"][0]["at_s"].pop()
        with self.assertRaises(RecordError):
            decode_record(json.dumps(text), "x")
