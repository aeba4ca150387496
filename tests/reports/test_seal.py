"""Seals of reports: what they tell of a text that was altered, and of a seal that was."""

import json
import tempfile
import unittest
from dataclasses import replace
from pathlib import Path

from pypdf import PdfReader

from harvok.errors import UsageError
from harvok.reports.seal import Seal, new_key, public_part, put_seal, read_seal
from harvok.reports.written import FORMS, write_report
from tests.reports.test_written import report

SEAL = Seal("", "00" * 32, ["a--run"], "REJECT", ["before -- after"], "plan.toml", ["rig.lead"])


class Seals(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))

    def written(self, suffix: str, key: bytes | None = None) -> Path:
        path = self.folder / f"report{suffix}"
        write_report(report(pictures=[]), path)
        put_seal(path, SEAL, key)
        return path

    def test_every_form_holds_until_it_is_altered(self) -> None:
        key = new_key()
        for suffix in FORMS:
            path = self.written(suffix, key)
            read = read_seal(path)
            assert read, suffix
            seal, holds = read
            self.assertTrue(holds and seal.has_its_signature, suffix)
            self.assertEqual((seal.key, seal.runs, seal.names), (public_part(key), SEAL.runs, SEAL.names))
            whole = path.read_bytes()
            path.write_bytes(whole.replace(b"M. Kepler", b"T. Brahe!", 1) if b"M. Kepler" in whole else whole + b"\n")
            read = read_seal(path)
            self.assertTrue(read and not read[1], suffix)

    def test_a_pdf_carries_its_seal_and_holds_byte_by_byte(self) -> None:
        path = self.written(".pdf", new_key())
        self.assertEqual([one.name for one in self.folder.iterdir()], ["report.pdf"], "nothing lies beside it")
        attached = json.loads(PdfReader(path).attachments["harvok-seal.json"][0].removeprefix(b"harvok-seal "))
        self.assertEqual(attached["verdict"], "REJECT")
        whole = path.read_bytes()
        at = whole.index(b"harvok-seal {")
        for altered in (
            whole[:900] + bytes([whole[900] ^ 1]) + whole[901:],
            whole + b"%%EOF\n",  # where a later version of every page could stand
            whole[:at] + whole[at:].replace(b"REJECT", b"ACCEPT", 1),
        ):
            path.write_bytes(altered)
            read = read_seal(path)
            assert read
            self.assertFalse(read[1] and read[0].has_its_signature)
        path.write_bytes(whole + b"harvok-seal {}\n")
        self.assertIsNone(read_seal(path), "of two seals none counts")

    def test_a_seal_that_was_altered_lost_its_signature(self) -> None:
        signed = replace(SEAL, text="11" * 32).signed_by(new_key())
        self.assertTrue(signed.has_its_signature)
        for other in (
            replace(signed, verdict="ACCEPT"),
            replace(signed, runs=["b"]),
            replace(signed, key=public_part(new_key())),
            replace(signed, signature="00"),
            replace(signed, key="no key"),
        ):
            self.assertFalse(other.has_its_signature)

    def test_what_has_no_seal_and_what_has_a_wrong_one(self) -> None:
        path = self.folder / "report.html"
        write_report(report(pictures=[]), path)
        self.assertIsNone(read_seal(path))
        for wrong in (b"{", b"{}", b'{"text": 5}', b'{"text": "a", "records": "b", "runs": [1]}', b'{"colour": "red"}'):
            path.write_bytes(b"<html></html>\n<!-- harvok-seal " + wrong + b" -->\n")
            if read_seal_or_none(path) is None:
                continue
            self.fail(f"{wrong!r} was taken for a seal")
        with self.assertRaisesRegex(UsageError, "cannot be read"):
            read_seal(self.folder / "nothing.html")
        as_json = self.written(".json")
        self.assertEqual(json.loads(as_json.read_text())["seal"]["verdict"], "REJECT")

    def test_a_comment_stays_one(self) -> None:
        page = self.written(".html").read_text()
        inside = page.rsplit("<!--", 1)[1].removesuffix("-->\n")
        self.assertNotIn("--", inside)


def read_seal_or_none(path: Path) -> object:
    """A seal that cannot be read is none."""
    try:
        return read_seal(path)
    except UsageError:
        return None
