"""`harvok site run`: rounds between real stations, and what becomes of them when things go wrong."""

import json
import sqlite3
from contextlib import closing
from datetime import UTC, datetime, timedelta
from typing import Any

from harvok.logbook.store import Logbook
from harvok.station.keys import Keys
from tests.whole.program import HARVOK, ProgramTest, free_ports, until
from tests.whole.test_errands import StationsTest

HEAD = """
format = "harvok-site"
version = 1
name = "observatory"
zone = "Europe/Berlin"
"""
ROUND = """
[[rounds]]
name = "often"
at = "{at}"
late = "50s"
between = {between}
before = ["touch before"]
after = ["touch after"]
{more}
[rounds.step]
name = "tcp"
test = "tcp"
direction = "send"
duration = "{duration}"
"""


class SiteTests(StationsTest):
    at = "every 1min"
    """When the round of a site is due."""

    def site(self, stations: dict[str, str], between: list[str], duration: str = "500ms", more: str = "") -> str:
        text = HEAD
        for name, address in stations.items():
            text += f'\n[[stations]]\nname = "{name}"\naddress = "{address}"\ntoken_file = "{name}.token"\n'
            text += f'code = "{self.hall_keys.code}"\n' if name in ("hall", "shy") else ""
            file = self.folder / f"{name}.token"
            if not file.exists():
                file.write_text(self.env["HARVOK_TOKEN"])
        text += ROUND.format(at=self.at, between=json.dumps(between), duration=duration, more=more)
        (self.folder / "site.toml").write_text(text)
        return "site.toml"

    def status(self) -> dict[str, Any]:
        found: dict[str, Any] = json.loads(self.inside("site", "status", "site.toml", "--json").stdout)
        return found

    def rows(self, query: str) -> list[tuple[Any, ...]]:
        if not self.logbook.exists():
            return []
        with sqlite3.connect(self.logbook) as book:
            try:
                return book.execute(query).fetchall()
            except sqlite3.OperationalError:
                return []


class Once(SiteTests):
    def test_every_test_once_with_the_right_kind_of_failure(self) -> None:
        _, hall = self.stand(self.hall_keys)
        _, dome = self.dome("--errands-to", "127.0.0.1")
        (self.folder / "shy.token").write_text("another-token")
        stations = {
            "dome": dome,
            "hall": hall,
            "gone": f"127.0.0.1:{free_ports()}",
            "nowhere": "no-such-host.invalid",
            "shy": hall,
        }
        between = ["dome > hall", "here > hall", "here > gone", "here > nowhere", "here > shy"]
        files = ("--page", "page.html", "--metrics", "metrics.txt")
        out = self.harvok("site", "run", self.site(stations, between), "--once", *files, code=4).stdout
        self.assertIn("dome to hall  begins", out)
        self.assertIn("here to gone  refused: ", out)
        self.assertIn("here to nowhere  name unknown: ", out)
        self.assertIn("here to shy  not paired: the station does not accept this token", out)
        found = self.status()
        self.assertEqual(found["week"], {"done": 2, "refused": 1, "name": 1, "not-paired": 1})
        self.assertEqual({test["failure"] for test in found["failed"]}, {"refused", "name", "not-paired"})
        self.assertTrue((self.folder / "before").exists() and (self.folder / "after").exists())
        series = {line["series"] for line in json.loads(self.inside("logbook", "list", "--json").stdout)}
        self.assertEqual(series, {"observatory.often.dome.hall", "observatory.often.here.hall"})
        self.assertIn("name unknown", (self.folder / "page.html").read_text())
        self.assertTrue((self.folder / "metrics.txt").read_text().endswith("# EOF\n"))
        shown = self.inside("site", "status", "site.toml").stdout
        self.assertIn("in seven days: 2 done", shown)
        self.assertIn("failed or missed last", shown)

    def test_pairs_are_judged_once_there_are_enough_runs(self) -> None:
        _, hall = self.stand(self.hall_keys)
        more = 'criteria = [{figure = "goodput-settled", max = "1k"}]'
        site = self.site({"hall": hall}, ["here > hall"], more=more)
        self.harvok("site", "run", site, "--once")
        self.assertEqual({test["verdict"] for test in self.status()["ended"]}, {""})
        with closing(Logbook(str(self.logbook))) as logbook:
            first = logbook.record(logbook.find("last"))
            earlier = [first.started - timedelta(hours=number) for number in (1, 2, 3)]
            logbook.add_all([first.model_copy(update={"id": f"copy-{at:%H}", "started": at}) for at in earlier])
        self.harvok("site", "run", site, "--once", code=3)
        self.assertEqual(self.status()["ended"][0]["verdict"], "RETEST", "on one host the tester is the limit")

    def test_a_command_that_fails_is_told_and_those_after_run_all_the_same(self) -> None:
        _, hall = self.stand(self.hall_keys)
        site = self.site({"hall": hall}, ["here > hall"])
        text = (self.folder / site).read_text()
        (self.folder / site).write_text(text.replace('before = ["touch before"]', 'before = ["false"]'))
        out = self.harvok("site", "run", site, "--once", code=4).stdout
        self.assertIn("test broken: 'false' ended with exit code 1", out)
        self.assertTrue((self.folder / "after").exists())


class Together(SiteTests):
    def test_two_near_ends_begin_together_and_their_sum_is_its_own_figure(self) -> None:
        _, hall = self.stand(self.hall_keys)
        _, dome = self.dome("--errands-to", "127.0.0.1")
        site = self.site({"dome": dome, "hall": hall}, [], duration="2s")
        text = (self.folder / site).read_text()
        many = 'many = ["here", "dome"]\nto = "hall"\ntogether = true'
        (self.folder / site).write_text(text.replace("between = []", many))
        out = self.harvok("site", "run", site, "--once", "--page", "page.html").stdout
        self.assertIn("here + dome to hall  done", out)
        (test,) = self.status()["ended"]
        self.assertEqual(len(test["runs"]), 2)
        figures = {one["quantity"]: one["value"] for one in test["figures"]}
        records = [json.loads(self.inside("logbook", "show", run, "--json").stdout) for run in test["runs"]]
        each = [one["value"] for run in records for one in run["figures"] if one["quantity"] == "goodput-mean"]
        self.assertTrue(0.5 * sum(each) < figures["together-goodput"] < 1.5 * sum(each), (each, figures))
        self.assertTrue(0.5 <= figures["together-fairness"] <= 1)
        self.assertLess(figures["start-skew"], 2.0)
        self.assertIn("goodput of all near ends", (self.folder / "page.html").read_text())
        (sent,) = [run for run in records if run["rig"]["asked_by"]]
        self.assertLess(abs(float(sent["attributes"]["clock-ahead-s"])), 0.1, "both are one host")


class Demo(ProgramTest):
    def test_three_stations_their_past_and_their_page(self) -> None:
        out = self.harvok("demo", "site", "--folder", "shown").stdout
        for words in ("made up, as their notes say", "dome to hall  begins", "here to hall  done", "written: "):
            self.assertIn(words, out)
        folder = self.folder / "shown" / "demo-site"
        page = (folder / "site.html").read_text()
        self.assertIn("spectro to hall", page)
        self.assertRegex(page, r"settled goodput, send changed from 9\d\.\d+ Mb/s to 8\d\.\d+ Mb/s")
        self.assertEqual(len(list((folder / "site-reports").iterdir())), 3)
        book = ("--logbook", "shown/demo.sqlite")
        done = self.inside("site", "page", "shown/demo-site/site.toml", "--metrics", "metrics.txt", *book)
        self.assertIn("written: metrics.txt", done.stdout)
        self.assertIn("harvok_site_state{", (self.folder / "metrics.txt").read_text())
        self.assertIn("name a file to write", self.inside("site", "page", "shown/demo-site/site.toml", code=2).stderr)


class Scheduled(SiteTests):
    def test_a_coordinator_that_is_killed_goes_on_and_nothing_is_forgotten(self) -> None:
        _, hall = self.stand(self.hall_keys)
        site = self.site({"hall": hall}, ["here > hall"], duration="30s")
        first = self.start("site", "run", site, "--compress", "60", cold=True)
        until(lambda: self.rows("select 1 from runs where state = 'running'"))
        self.assertIn("coordinates the site", self.harvok("site", "run", site, code=4).stderr)
        first.kill()
        first.wait()
        self.site({"hall": hall}, ["here > hall"])
        self.assertEqual(self.status()["running"][0]["state"], "running")
        out = self.harvok("site", "run", site, "--once").stdout
        self.assertIn("test broken: the coordinator was killed in mid-test", out)
        self.assertTrue((self.folder / "after").exists())
        states = self.rows("select state from site_tests where began is not null order by number")
        self.assertEqual((states[0], states[-1]), (("failed",), ("done",)))

    def test_what_was_due_without_a_coordinator_is_missed_and_said_to_be(self) -> None:
        site = self.site({"hall": "127.0.0.1:9"}, ["here > hall"])
        self.harvok("site", "run", site, "--compress", "60", "--for", "90s")
        past = f"{datetime.now(UTC) - timedelta(days=1):%Y-%m-%d %H:%M:%S.%f}"
        with sqlite3.connect(self.logbook) as book:
            book.execute("delete from site_tests where number > 1")
            book.execute("update site_tests set state = 'waiting', failure = '', began = null, due = ?", [past])
        out = self.harvok("site", "run", site, "--for", "1s").stdout
        self.assertIn("missed: no coordinator ran when it was due", out)
        self.assertGreater(self.rows("select count(*) from site_tests where state = 'missed'")[0][0], 24 * 60 - 2)

    def test_a_signal_ends_it_in_good_order(self) -> None:
        _, hall = self.stand(self.hall_keys)
        site = self.site({"hall": hall}, ["here > hall"], duration="30s")
        process = self.start("site", "run", site, "--compress", "60", cold=True)
        until(lambda: self.rows("select 1 from runs where state = 'running'"))
        process.terminate()
        out, err = process.communicate(timeout=60)
        self.assertEqual((process.returncode, err), (0, ""))
        self.assertIn("test broken: broken off", out)
        self.assertEqual(self.rows("select state from runs"), [("broken",)])
        self.assertTrue((self.folder / "after").exists())


class Units(ProgramTest):
    def test_units_name_what_they_run_and_hold_no_secret(self) -> None:
        self.inside("site", "new", "site.toml")
        out = self.inside("site", "unit", "site.toml", "--user", "bench").stdout
        self.assertIn(f"ExecStart={HARVOK} site run {(self.folder / 'site.toml').resolve()}", out)
        self.assertIn("User=bench", out)
        out = self.inside("station", "--port", "30000", "--unit", "bench", "--errands-to", "any").stdout
        self.assertIn(f"ExecStart={HARVOK} station --port 30000 --errands-to any", out)
        self.assertNotIn(self.env["HARVOK_TOKEN"], out)
        self.assertIn("ProtectSystem=strict", out)
        self.assertFalse(Keys(self.folder / "none").has_identity)
