"""Reports with the installed program, in every form, and their check against the logbook."""

import csv
import json
import re
import shutil
import sqlite3
import tempfile
from pathlib import Path
from typing import Any, ClassVar
from xml.etree import ElementTree

from harvok.logbook.store import Logbook
from tests.whole.program import ProgramTest
from tests.whole.test_plans import PLAN, RIG, STRICT


class Reports(ProgramTest):
    """Of one plan, which is run once; every test has a copy of its files and its logbook."""

    measured_in: ClassVar[Path | None] = None

    def setUp(self) -> None:
        super().setUp()
        if not self.measured_in:
            (self.folder / "rig.toml").write_text(RIG)
            (self.folder / "plan.toml").write_text(PLAN + STRICT)
            self.harvok("run", "plan.toml", "--unattended", "--with", "asset=A-17", code=1)
            folder = tempfile.TemporaryDirectory()
            self.addClassCleanup(folder.cleanup)
            type(self).measured_in = Path(folder.name)
            shutil.copytree(self.folder, folder.name, dirs_exist_ok=True)
        else:
            shutil.copytree(self.measured_in, self.folder, dirs_exist_ok=True)

    def build(self, name: str, *more: str) -> str:
        self.inside("report", "make", "dome-switch-A-17", "--plan", "plan.toml", "--to", name, *more)
        return (self.folder / name).read_text()

    def test_one_page_that_holds_everything(self) -> None:
        page = self.build("report.html", "--operator", "M. <Kepler>")
        for words in (
            "<b>REJECT</b>", "misses the limit of at least 600 000 frames/s", "──1 Gb/s──", "A-17",
            "M. &lt;Kepler&gt;", "Every run", "Every trial", "data:image/svg+xml;base64,",
            "prefers-color-scheme: dark", "throughput at 64 B",
        ):  # fmt: skip
            self.assertIn(words, page)
        self.assertEqual(re.findall(r'(?:src|href)="(?!data:)', page), [], "nothing is fetched from elsewhere")

    def test_it_can_be_checked_against_the_logbook(self) -> None:
        self.build("report.html")
        self.build("report.json")
        for name in ("report.html", "report.json"):
            said = self.inside("report", "verify", name).stdout
            for words in ("the text is the one", "it is not signed", "unchanged", "judged again: REJECT"):
                self.assertIn(words, said)
        logbook = Logbook(str(self.logbook))
        record = logbook.record(logbook.find("last"))
        logbook.finish(record.model_copy(update={"note": "somebody was here"}))
        logbook.close()
        self.assertIn("CHANGED", self.inside("report", "verify", "report.html", code=1).stdout)
        self.inside("logbook", "remove", "last", "--yes")
        self.assertIn("there is no run", self.inside("report", "verify", "report.html", code=1).stdout)
        self.assertIn("names no runs", self.inside("report", "verify", "plan.toml", code=2).stderr)

    def test_a_signed_report_shows_who_altered_it(self) -> None:
        self.env |= {"HARVOK_KEYS": str(self.folder / "keys")}
        key = json.loads(self.inside("report", "key", "--json").stdout)
        self.assertTrue(key["made_now"])
        self.assertEqual(Path(key["file"]).stat().st_mode & 0o077, 0)
        self.assertIn(f"there is {key['file']}", self.inside("report", "key").stdout)
        self.build("report.html")
        verify = ("report", "verify", "report.html")
        self.assertIn("(the one expected)", self.inside(*verify, "--key", key["key"]).stdout)
        self.assertIn("ANOTHER key", self.inside(*verify, "--key", "ab" * 32, code=1).stdout)
        (self.folder / "plan.toml").rename(self.folder / "elsewhere.toml")
        self.assertIn("it cannot be judged again", self.inside(*verify).stdout)
        page = self.folder / "report.html"
        page.write_text(page.read_text().replace("REJECT", "ACCEPT"))
        held = json.loads(self.inside(*verify, "--json", code=1).stdout)
        self.assertEqual([one["holds"] for one in held], [False, False, True, None])

    def test_every_form_says_the_same(self) -> None:
        found = json.loads(self.build("report.json"))
        self.assertEqual((found["format"], found["verdict"], len(found["runs"])), ("harvok-report", "REJECT", 5))
        text = self.build("report.md")
        self.assertIn(f"**REJECT**: {found['reason']}", text)
        self.assertIn(found["digest"], text)
        widths = {line.count("|") for line in text.split("## Every run")[1].split("##")[0].splitlines() if line}
        self.assertEqual(len(widths), 1)
        rows = list(csv.DictReader(self.build("report.csv").splitlines()))
        values = [row for row in rows if row["quantity"] == "throughput" and row["frame_size"] == "1518"]
        self.assertEqual(
            {(row["unit"], row["layer"], row["with_asset"]) for row in values}, {("frames/s", "L2", "A-17")}
        )
        self.assertTrue(all(abs(float(row["value"]) - 81274.4) < 1 for row in values))
        suite = ElementTree.fromstring(self.build("report.xml")).find("testsuite")
        assert suite is not None
        self.assertEqual((suite.get("tests"), suite.get("failures")), (str(len(suite.findall("testcase"))), "1"))

    def test_runs_series_and_comparisons(self) -> None:
        self.harvok("rfc2544", "rig.toml", "throughput", "--frame-size", "64", "--repeat", "5", "--series", "other")
        self.inside("report", "make", "last", "--to", "run.html")
        self.assertNotIn("<b>ACCEPT", (self.folder / "run.html").read_text())
        self.harvok(
            "report", "make", "other", "dome-switch-A-17.benchmark", "--to", "two.md", "--changed", "frame-sizes"
        )
        self.assertIn("**ACCEPT**", (self.folder / "two.md").read_text())

    def test_what_cannot_be_written_is_said(self) -> None:
        for arguments, code, words in (
            (("last", "--to", "a.docx"), 2, "'.docx' is no form"),
            (("last", "--to", "none/a.html"), 2, "cannot be written"),
            (("nosuch", "--to", "a.html"), 2, "nosuch"),
            (("nosuch", "--plan", "plan.toml", "--to", "a.html"), 2, "no run of 'nosuch'"),
            (("a", "b", "--plan", "plan.toml", "--to", "a.html"), 2, "one name"),
        ):
            self.assertIn(words, self.inside("report", "make", *arguments, code=code).stderr)


class Trends(ProgramTest):
    def test_several_by_the_names_that_people_use_in_one_table_and_plot(self) -> None:
        for name in ("dome-sw-a", "dome-sw-b"):
            (self.folder / f"{name}.toml").write_text(RIG.replace("dome-sw-b", name))
            series = ("--series", f"bench-{name}", "--repeat", "5")
            self.inside("rfc2544", f"{name}.toml", "throughput", "--frame-size", "64", *series)
        names = ("--rig", "dome-sw-a", "--rig", "bench-dome-sw-b")
        out = self.inside("logbook", "trend", "throughput", *names, "--to", "several.png").stdout
        self.assertRegex(out, r"dome-sw-a \(simulated\) +5 ")
        self.assertRegex(out, r"bench-dome-sw-b +5 .*no change beyond chance")
        self.assertGreater((self.folder / "several.png").stat().st_size, 10_000)
        told = json.loads(self.inside("logbook", "trend", "throughput", *names, "--json").stdout)
        self.assertEqual([len(one["points"]) for one in told.values()], [5, 5])

    def test_thinning_keeps_what_runs_came_to_and_says_so(self) -> None:
        _, address = self.station()
        self.measured(address, "--duration", "500ms", "--direction", "send")
        self.measured(address, "--duration", "500ms", "--direction", "send")
        with sqlite3.connect(self.logbook) as book:
            book.execute("update runs set started = '2026-01-01 00:00:00.000000' where id = (select min(id) from runs)")
        before = self.records()
        self.assertIn("1 runs thinned", self.inside("logbook", "thin", "--older-than", "90d", "--yes").stdout)
        after = self.records()
        self.assertEqual([one["figures"] for one in after], [one["figures"] for one in before])
        self.assertEqual(after[1], before[1])
        self.assertTrue(any(trial["samples"] for trial in before[0]["trials"]))
        self.assertFalse(any(trial["samples"] for trial in after[0]["trials"]))
        self.assertIn("its intervals were removed on", after[0]["notices"][-1])
        self.assertIn("0 runs thinned", self.inside("logbook", "thin", "--older-than", "90d", "--yes").stdout)

    def records(self) -> list[dict[str, Any]]:
        said = self.inside("logbook", "export").stdout
        return sorted(map(json.loads, said.splitlines()), key=lambda record: str(record["id"]))

    def test_a_figure_over_the_months(self) -> None:
        (self.folder / "rig.toml").write_text(RIG)
        asked = ("throughput", "--frame-size", "64", "--frame-size", "1518", "--repeat", "6")
        self.inside("rfc2544", "rig.toml", *asked)
        name = ("--rig", "dome-sw-b (simulated)")
        self.assertIn("several such figures", self.inside("logbook", "trend", "throughput", *name, code=2).stderr)
        narrow = ("logbook", "trend", "throughput", *name, "--frame-size", "1518")
        said = self.inside(*narrow, "--to", "trend.png").stdout
        self.assertIn("0 of 6 runs outside its band; no steady change", said)
        self.assertTrue((self.folder / "trend.png").read_bytes().startswith(b"\x89PNG"))
        for arguments, words in (
            ((*narrow, "--to", "a.pdf"), "no form of a plot"),
            ((*narrow, "--baseline", "9"), "where 9 make a baseline"),
            (("logbook", "trend", "speed", *name), "no figure 'speed'"),
            (("logbook", "trend", "throughput", "--rig", "nothing"), "0 complete runs of 'nothing'"),
        ):
            self.assertIn(words, self.inside(*arguments, code=2).stderr)
