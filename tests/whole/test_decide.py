import json
import re

from harvok.logbook.exchange import encode_record
from tests.logbook.test_logbook import record
from tests.whole.program import ProgramTest

STEADY = (930, 931, 929.5, 930.5, 930.2)


class Deciding(ProgramTest):
    def series(self, name: str, megabits: tuple[float, ...], first: int) -> None:
        """Made-up runs, brought in the way a user would."""
        path = self.folder / f"{name}.jsonl"
        runs = [record(first + n, name, value) for n, value in enumerate(megabits)]
        path.write_text("".join(encode_record(run) + "\n" for run in runs))
        self.inside("logbook", "import", str(path))

    def test_exit_codes_and_words_of_the_three_verdicts(self) -> None:
        self.series("before", STEADY, 0)
        self.series("same", STEADY, 10)
        self.series("worse", tuple(v * 0.9 for v in STEADY), 20)
        self.series("few", STEADY[:2], 30)
        for after, code, verdict in (("same", 0, "ACCEPT"), ("worse", 1, "REJECT"), ("few", 3, "RETEST")):
            said = self.harvok("compare", "before", after, code=code).stdout
            self.assertTrue(said.startswith(verdict), said)
            found = json.loads(self.inside("compare", "before", after, "--json", code=code).stdout)
            self.assertEqual((found["verdict"], found["after"]["name"]), (verdict, after))
        self.assertIn("Conditions: alike", self.inside("compare", "before", "same").stdout)

    def test_criteria_are_options(self) -> None:
        self.series("before", STEADY, 0)
        self.series("after", tuple(v * 0.95 for v in STEADY), 10)
        self.inside("compare", "before", "after", "--max-regression", "6", code=0)
        self.inside("compare", "before", "after", "--max-regression", "4%", code=1)
        self.inside("compare", "before", "after", "--max-regression", "6", "--min-share", "97%", code=1)
        self.inside("compare", "before", "after", "--max-regression", "6", "--min-share", "90", code=0)
        self.inside("compare", "before", "after", "--min-repeats", "6", code=3)
        self.inside("compare", "before", "after", "--max-regression", "lots", code=2)
        self.inside("compare", "before", "after", "--changed", "weather", code=2)

    def test_a_series_that_is_not_there_names_those_that_are(self) -> None:
        self.series("before", STEADY, 0)
        self.assertIn("before", self.inside("compare", "before", "after", code=2).stderr)


class Logbooks(ProgramTest):
    def test_out_and_in_again_loses_nothing(self) -> None:
        lines = [encode_record(record(n, "before", 900 + n)) for n in range(3)]
        (self.folder / "in.jsonl").write_text("\n".join(lines))
        self.assertIn("3 runs added", self.inside("logbook", "import", "in.jsonl").stdout)
        self.assertIn("0 runs added, 3 were there", self.inside("logbook", "import", "in.jsonl").stdout)
        self.assertEqual(self.inside("logbook", "export").stdout.splitlines(), lines)
        self.inside("logbook", "export", "--series", "before", "--to", "out.jsonl")
        self.assertEqual((self.folder / "out.jsonl").read_text().splitlines(), lines)
        self.assertEqual(self.inside("logbook", "export", "last").stdout.strip(), lines[2])

    def test_list_show_remove(self) -> None:
        self.assertIn("No runs here yet", self.harvok("logbook", "list").stdout)
        (self.folder / "in.jsonl").write_text("\n".join(encode_record(record(n)) for n in range(4)))
        self.harvok("logbook", "import", "in.jsonl")
        said = self.harvok("logbook", "list", "--limit", "3").stdout
        self.assertEqual(len(re.findall(r"20261123-\d{6}-dome", said)), 3)
        self.assertIn("1 older runs", said)
        shown = self.harvok("logbook", "show", "0001-dome").stdout
        for words in ("930.0 Mb/s", "rated 1 Gb/s", "limiter:", "dome0", "harvok tcp hall", "with length", "trial 1"):
            self.assertIn(words, shown)
        self.harvok("logbook", "remove", "0001-dome", code=2)  # nobody there to say yes
        self.harvok("logbook", "remove", "0001-dome", "--yes")
        self.harvok("logbook", "show", "0001-dome", code=2)

    def test_bad_files(self) -> None:
        (self.folder / "bad.jsonl").write_text('{"format": "harvok-run"}')
        self.assertIn("line 1", self.inside("logbook", "import", "bad.jsonl", code=2).stderr)
        self.assertIn("cannot be read", self.inside("logbook", "import", "missing", code=2).stderr)
        self.assertIn("cannot be written", self.inside("logbook", "export", "--to", "no/such/file", code=2).stderr)


class Ceilings(ProgramTest):
    def test_the_published_figures(self) -> None:
        said = self.harvok("ceiling", "1G").stdout
        for words in (
            "1 488 095",
            "81 274",
            "941.482 Mb/s",
            "949.285 Mb/s",
            "928.479 Mb/s",
            "936.281 Mb/s",
            "117.7 MB/s",
        ):
            self.assertIn(words, said)

    def test_as_json(self) -> None:
        found = json.loads(self.inside("ceiling", "10G", "--frame-size", "64", "--mtu", "9000", "--json").stdout)
        self.assertEqual([int(f["frame_rate_fps"]) for f in found["frames"]], [14_880_952])
        self.assertAlmostEqual(found["tcp"][0]["goodput_bps"] / 1e9, 9.90042, places=5)

    def test_bad_values(self) -> None:
        for arguments in (("fast",), ("1G", "--frame-size", "60"), ("1G", "--mtu", "60"), ("1G", "--vlan-tags", "3")):
            self.inside("ceiling", *arguments, code=2)


class Demos(ProgramTest):
    def test_the_whole_job_on_one_host(self) -> None:
        del self.env["HARVOK_TOKEN"]
        said = self.harvok("demo", "--folder", "demo").stdout
        for words in ("before-recabling", "after-recabling", "changed on purpose", "docs/guide.md", "receive window"):
            self.assertIn(words, said)
        self.assertIn("RETEST  after-recabling", said)
        self.assertIn("the tester itself was the limit: ", said)
        self.assertIn("REJECT send, 64 B", said)
        self.assertIn("loss begins at load 50%", said)
        for picture in ("throughput.svg", "sweep.png"):
            self.assertTrue((self.folder / "demo" / "demo-plots" / picture).exists())
        place = str(self.folder / "demo" / "demo.sqlite")
        lines = json.loads(self.harvok("logbook", "list", "--all", "--logbook", place, "--json").stdout)
        series = ("before-recabling", "after-recabling", "dome-sw-a", "dome-sw-b")
        swept = [line["series"] for line in lines if line["series"].startswith("offered-under-load.")]
        self.assertEqual((len(swept), len(set(swept))), (36, 12))
        self.assertEqual({line["state"] for line in lines}, {"complete"})
        self.assertEqual([sum(line["series"] == name for line in lines) for name in series], [5, 5, 5, 5])
        again = ("compare", "before-recabling", "after-recabling", "--logbook", place)
        self.harvok(*again, "--changed", "socket-buffer", code=3)
        undeclared = self.harvok(*again, code=3).stdout
        self.assertIn("unlike conditions (test.socket-buffer)", undeclared)
