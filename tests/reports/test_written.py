"""Reports as files, from made-up records: each form by itself, and what a form must not let through."""

import base64
import csv
import io
import json
import re
import tempfile
import unittest
from dataclasses import replace
from datetime import timedelta
from pathlib import Path
from xml.etree import ElementTree

from harvok.core.judgement.finding import Finding
from harvok.core.models.control import Fault
from harvok.errors import UsageError
from harvok.reports.document import Picture, Report, Table, digest_of
from harvok.reports.pdf import pdf
from harvok.reports.repeats import draw_over_attribute, draw_over_time, draw_repeats
from harvok.reports.written import FORMS, as_json, html, junit, markdown, tidy_csv, what_it_rests_on, write_report
from tests.logbook.test_logbook import START, record

HOSTILE = 'a <script>alert("lead")</script> | & \x07'
PIXEL = base64.b64decode(
    "iVBORw0KGgoAAAANSUhEUgAAAAEAAAABCAYAAAAfFcSJAAAADUlEQVR42mNk+M9QDwADhgGAWjR9awAAAABJRU5ErkJggg=="
)
RECORDS = [record(n, "before", 930 + n) for n in range(5)] + [record(n, "after", 830 + n) for n in range(5, 10)]


def report(**changes: object) -> Report:
    made = Report(
        title=HOSTILE,
        made=START,
        operator="M. Kepler",
        version="0.1",
        records=RECORDS,
        verdict="REJECT",
        findings=[
            Finding("REJECT", "send", HOSTILE, "swap it"),
            Finding("RETEST", "", "few"),
            Finding("ACCEPT", "x", "y"),
        ],
        remarks=["look here"],
        facts=[("lead", HOSTILE)],
        drawing=["dome ── hall"],
        tables=[
            Table("Results", ["figure", "before"], [["goodput | send", "1"]]),
            Table("Every run", ["run"], [["a"]]),
        ],
        pictures=[Picture("repeats", b"<svg/>")],
    )
    return replace(made, **changes)  # type: ignore[arg-type]


class Forms(unittest.TestCase):
    def test_html_lets_nothing_through(self) -> None:
        page = html(report())
        self.assertNotIn("<script>", page)
        self.assertIn("&lt;script&gt;", page)
        for words in ('class="verdict REJECT"', "PHN2Zy8+", "look here", "dome ── hall", digest_of(RECORDS)):
            self.assertIn(words, page)
        bare = html(report(verdict=None, findings=[], remarks=[], drawing=[], pictures=[]))
        for words in ("REJECT", "Criteria and results", "To look at", "<img"):
            self.assertNotIn(words, bare.partition("<body>")[2])
        self.assertIn("<b>NO VERDICT</b>", bare)

    def test_the_first_page_comes_first_in_every_form(self) -> None:
        whole = report(
            title="dome and hall",
            front=[("asked", "is after as good as before?"), ("serial", "4711")],
            decided=Table("What decided", ["figure", "verdict"], [["goodput", "REJECT"]]),
            limiters=["send: the link"],
            untested=["IPv6"],
            notices=["a notice"],
            comparison=[Table("Every figure that was judged", ["figure"], [["goodput"]])],
            pictures=[Picture(f"plot {number}", b"<svg/>") for number in range(6)],
        )
        order = (
            "dome and hall", "REJECT", "is after as good as before?", "What decided", "send: the link", "dome ── hall",
            "IPv6", "look here", "Every figure that was judged", "a notice", "Every run",
        )  # fmt: skip
        for text in (html(whole).partition("<body>")[2], markdown(whole)):
            places = [text.index(words) for words in order]
            self.assertEqual(places, sorted(places))
        page = html(whole)
        self.assertLess(page.index("plot 3"), page.index("<h1>Annex</h1>"))
        self.assertGreater(page.index("plot 4"), page.index("<h1>Annex</h1>"))
        said = json.loads(as_json(whole))
        self.assertEqual((said["asked"]["serial"], said["not_tested"]), ("4711", ["IPv6"]))
        self.assertEqual((said["limiters"], said["notices"]), (["send: the link"], ["a notice"]))

    def test_a_run_that_broke_says_so_where_the_verdict_would_stand(self) -> None:
        fault = Fault(reference="tester-limit", message="the tester fell short", hint="take another")
        broken = RECORDS[0].model_copy(update={"state": "broken", "fault": fault})
        made = report(verdict=None, findings=[], records=[broken])
        self.assertEqual(made.outcome, "NO VERDICT")
        self.assertIn(f"run {broken.id} is broken: the tester fell short", made.reason)
        self.assertIn("the tester fell short", markdown(made))

    def test_markdown_keeps_its_tables_whole(self) -> None:
        text = markdown(report())
        self.assertIn("goodput \\| send", text)
        self.assertIn("- look here", text)
        self.assertTrue(text.endswith("\n"))

    def test_csv_opens_as_it_is(self) -> None:
        import pandas as pd

        frame = pd.read_csv(io.StringIO(tidy_csv(report())))
        settled = frame[frame["quantity"] == "goodput-settled"]
        self.assertEqual((len(settled), str(settled["value"].dtype)), (10, "float64"))
        self.assertEqual(set(settled["unit"]), {"b/s"})
        means = settled.groupby("series")["value"].mean()
        self.assertAlmostEqual(means["before"] / 1e6, 932, delta=1)

    def test_csv_has_a_column_for_each_attribute(self) -> None:
        tagged = [RECORDS[0].model_copy(update={"attributes": {"colour": "red"}}), RECORDS[1]]
        rows = list(csv.DictReader(io.StringIO(tidy_csv(report(records=tagged)))))
        self.assertEqual({row["with_colour"] for row in rows}, {"red", ""})

    def test_junit_says_reject_and_retest_apart(self) -> None:
        root = ElementTree.fromstring(junit(report()).encode())
        suite = root[0]
        self.assertEqual([suite.get(key) for key in ("tests", "failures", "errors")], ["3", "1", "1"])
        cases = suite.findall("testcase")
        self.assertEqual([[child.tag for child in case] for case in cases], [["failure"], ["error"], ["system-out"]])
        self.assertEqual(suite.get("hostname"), "dome")

    def test_junit_names_its_cases_after_what_is_judged(self) -> None:
        def names(low: float, high: float) -> list[str | None]:
            findings = [
                Finding(
                    "REJECT", "send", f"settled goodput is {low} Mb/s, which misses the limit of at least 900 Mb/s"
                ),
                Finding("ACCEPT", "512 B, at 90 %", f"frame loss {high} %, which meets the limit of at most 1 %"),
                Finding("RETEST", "", f"only {round(low)} of 5 runs are complete"),
                Finding("RETEST", "", f"only {round(high)} of 5 runs are complete"),
            ]
            root = ElementTree.fromstring(junit(report(findings=findings)))
            return [case.get("name") for case in root.iter("testcase")]

        self.assertEqual(names(3, 0.1), names(2, 0.5), "the same cases, whatever was measured")
        self.assertEqual(
            names(3, 0.1),
            ["send: settled goodput", "512 B, at 90 %: frame loss", "conditions: only", "conditions: only (2)"],
        )

    def test_junit_is_of_the_common_form(self) -> None:
        import xmlschema

        schema = xmlschema.XMLSchema(Path(__file__).with_name("junit.xsd"))
        for findings in (report().findings, []):
            schema.validate(junit(report(findings=findings)))
        with self.assertRaises(xmlschema.XMLSchemaValidationError):
            schema.validate(junit(report()).replace("failures=", "faults="))

    def test_junit_has_what_a_ci_wants_beside_the_cases(self) -> None:
        ended = [one.model_copy(update={"ended": one.started + timedelta(seconds=30)}) for one in RECORDS]
        (suite,) = ElementTree.fromstring(junit(report(records=ended)))
        self.assertEqual(suite.get("time"), "300.000")
        self.assertEqual([suite[0].tag, *{child.tag for child in suite[1:]}], ["properties", "testcase"])
        said = {one.get("name"): one.get("value") for one in suite[0]}
        self.assertEqual((said["verdict"], said["operator"]), ("REJECT", "M. Kepler"))
        self.assertEqual(said[f"run {RECORDS[0].id}"], "before, complete")
        self.assertTrue(any(name and name.startswith(f"run {RECORDS[9].id}: settled goodput") for name in said))

    def test_pdf_has_numbered_pages_and_the_verdict(self) -> None:
        rows = [[f"run {n}", "x" * 80] for n in range(200)]
        made = pdf(report(pictures=[Picture("dot", PIXEL)], tables=[Table("Results", ["figure", "before"], rows)]))
        self.assertTrue(made.startswith(b"%PDF"))
        pages = len(re.findall(rb"/Type /Page\b", made))
        self.assertGreater(pages, 3)
        self.assertLess(len(made), 2_000_000)

    def test_a_long_table_of_a_pdf_is_whole_and_quick(self) -> None:
        rows = [[f"run {n}", "a cell that is longer than others, so that letters are small" * 2] for n in range(3000)]
        made = pdf(report(tables=[Table("Every trial", ["run", "what for"], rows)], pictures=[]))
        pages = len(re.findall(rb"/Type /Page\b", made))
        self.assertGreater(pages, 20)
        self.assertLess(pages, 60)

    def test_json_is_whole(self) -> None:
        found = json.loads(as_json(report()))
        self.assertEqual((found["title"], found["verdict"], len(found["runs"])), (HOSTILE, "REJECT", 10))
        self.assertEqual(len(found["figures"]), sum(len(one.figures) for one in RECORDS))
        self.assertEqual(found["reason"], f"send: {HOSTILE}")
        self.assertIn("nothing was to be judged: no limit was set", report(findings=[]).reason)


class Files(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def test_the_suffix_says_which_form(self) -> None:
        for suffix, form in FORMS.items():
            path = self.folder / f"report{suffix}"
            write_report(report(pictures=[]), path)
            made = form(report(pictures=[]))
            if isinstance(made, str):
                self.assertEqual(path.read_text(), made)
        for path in (self.folder / "report.docx", self.folder / "none" / "report.html"):
            with self.assertRaises(UsageError):
                write_report(report(), path)

    def test_runs_and_digest_are_found_again(self) -> None:
        for suffix in (".html", ".json"):
            path = self.folder / f"report{suffix}"
            write_report(report(), path)
            self.assertEqual(what_it_rests_on(path), ([one.id for one in RECORDS], digest_of(RECORDS)))
        for text in ("", "{}", '{"format": "other"}', "[1]"):
            (self.folder / "other").write_text(text)
            with self.assertRaises(UsageError):
                what_it_rests_on(self.folder / "other")
        with self.assertRaises(UsageError):
            what_it_rests_on(self.folder / "nosuch")

    def test_a_digest_changes_with_any_record_and_their_order(self) -> None:
        digests = {
            digest_of(RECORDS),
            digest_of(RECORDS[:-1]),
            digest_of(RECORDS[::-1]),
            digest_of([RECORDS[0].model_copy(update={"note": "x"}), *RECORDS[1:]]),
        }
        self.assertEqual(len(digests), 4)


class Plots(unittest.TestCase):
    def test_repeats_and_time_are_drawn(self) -> None:
        groups = {"before": RECORDS[:5], "after": RECORDS[5:]}
        drawn = draw_repeats(groups, "goodput-settled")
        assert drawn
        for words in (b"<svg", b"before", b"trimmed mean"):
            self.assertIn(words, drawn.data)
        printed = draw_repeats(groups, "goodput-settled", "png")
        assert printed
        self.assertTrue(printed.data.startswith(b"\x89PNG"))
        self.assertIsNone(draw_repeats(groups, "throughput"))
        lengths = [one.model_copy(update={"attributes": {"length": f"{n % 3 * 5} m"}}) for n, one in enumerate(RECORDS)]
        over = draw_over_attribute(lengths, "goodput-settled", "length", "svg")
        assert over
        self.assertIn(b"settled goodput over length", over.data)
        self.assertIsNone(draw_over_attribute(RECORDS, "goodput-settled", "nosuch", "svg"))
        over_time = draw_over_time(RECORDS)
        assert over_time
        self.assertIn(b"<svg", over_time.data)
        self.assertIsNone(draw_over_time([]))
