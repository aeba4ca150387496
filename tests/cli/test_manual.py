"""Manual pages, and the values that a shell completes."""

import re
import unittest
from pathlib import Path
from unittest import mock

from harvok.cli.manual import pages, shared_files
from harvok.cli.table import COMMANDS
from harvok.station.keys import Keys, Known
from tests.whole.program import ProgramTest

MACROS = {"TH", "SH", "SS", "TP", "PP", "B", "BR", "I", "RI", "nf", "fi", "br"}
SHARE = Path(__file__).parents[2] / "share"


class Manual(unittest.TestCase):
    def test_what_comes_with_the_package_is_what_the_program_says(self) -> None:
        files = shared_files()
        there = {str(path.relative_to(SHARE)) for path in SHARE.rglob("*") if path.is_file()}
        self.assertEqual(there, set(files))
        for path, text in files.items():
            self.assertEqual((SHARE / path).read_text(), text, f"{path} is older than the program: make share")

    def test_every_command_has_a_page_that_is_all_roff(self) -> None:
        made = pages()
        self.assertEqual(set(made), {"harvok.1", *(f"harvok-{name}.1" for name in COMMANDS)})
        for name, page in made.items():
            self.assertRegex(page, r"\A\.TH HARVOK", name)
            self.assertNotIn("`", page, name)
            self.assertFalse(set(re.findall(r"(?m)^\.(\w+)", page)) - MACROS, name)

    def test_options_examples_and_exit_codes_are_in_it(self) -> None:
        page = pages()["harvok-tcp.1"]
        for words in (".B \\-\\-duration TIME", "harvok tcp hall.example", "Exit codes", ".SH SEE ALSO"):
            self.assertIn(words, page)
        logbook = pages()["harvok-logbook.1"]
        self.assertIn(".SH TREND", logbook)
        self.assertIn(".B harvok logbook show\n[OPTION]... [RUN]", logbook)


class Completion(ProgramTest):
    def completed(self, *words: str) -> list[str]:
        """What bash would offer behind some words, the last of which has begun."""
        asked = {"_HARVOK_COMPLETE": "complete_bash", "COMP_WORDS": " ".join(["harvok", *words])}
        with mock.patch.dict(self.env, asked | {"COMP_CWORD": str(len(words))}):
            return self.harvok().stdout.split()

    def setUp(self) -> None:
        super().setUp()
        self.env["XDG_DATA_HOME"] = str(self.folder / "data")
        self.env.pop("HARVOK_PLANS", None)

    def test_runs_and_series_of_the_logbook(self) -> None:
        self.assertEqual(self.completed("logbook", "show", ""), ["last"], "there is no logbook yet")
        self.inside("rig", "new", "dome.toml", "--name", "dome", "--rated", "1G")
        short = ("--frame-size", "64", "--duration", "1s")
        self.inside("rfc2544", "dome.toml", "throughput", *short, "--series", "before")
        last, run = self.completed("logbook", "show", "")
        self.assertEqual((last, len(run)), ("last", len("20261127-050824-c37k")))
        self.assertEqual(self.completed("compare", "be"), ["before"])
        self.assertEqual(self.completed("report", "make", ""), ["before", "last", run])
        self.assertEqual(self.completed("rfc2544", ""), ["dome.toml"])
        self.assertEqual(self.completed("rfc2544", "dome.toml", "--series", "b"), ["before"])

    def test_stations_plans_and_what_ships(self) -> None:
        Keys(Path(self.env["HARVOK_KEYS"])).learn_station(Known("hall.example:26470", "x", "2026-11-27"))
        self.inside("plan", "new", "lead.toml", "--job", "link", "--rated", "1G", "--station", "hall")
        self.assertIn("hall.example:26470", self.completed("tcp", "ha"))
        self.assertEqual(self.completed("run", ""), ["lead.toml"])
        self.assertEqual(self.completed("mix", "show", "web"), ["web", "web-http2"])
        self.assertEqual(self.completed("impair", "describe", "me"), ["metro"])
        self.assertEqual(self.completed("explain", "rtt-m"), ["rtt-min", "rtt-mean"])
        self.assertEqual(self.completed("logbook", "trend", "goodput-se"), ["goodput-settled"])
        self.assertIn("lo", self.completed("ports", "watch", ""))

    def test_whoever_has_nothing_gets_nothing_and_no_traceback(self) -> None:
        (self.folder / "broken.toml").write_bytes(b"\xff\xfe")
        self.env["HARVOK_LOGBOOK"] = str(self.folder / "broken.toml")
        self.assertEqual(self.completed("compare", ""), [])
        self.assertEqual(self.completed("rfc2544", ""), [])
        self.assertEqual([path.name for path in self.folder.iterdir()], ["broken.toml"], "looking makes nothing")
