"""Several coordinators of one site, through a real PostgreSQL."""

import time
from contextlib import closing
from datetime import UTC, datetime, timedelta

import sqlalchemy as sa

from harvok.core.site.outcome import SiteTest
from harvok.logbook.site_book import SiteBook
from harvok.logbook.store import Logbook
from tests.logbook.test_postgresql import PostgreSqlTest
from tests.whole.program import until
from tests.whole.test_site_runs import SiteTests


class SharedTests(PostgreSqlTest, SiteTests):
    def setUp(self) -> None:
        SiteTests.setUp(self)
        self.at = f"daily {datetime.now(UTC) + timedelta(hours=12):%H:%M}"  # no test but those that wait becomes due
        PostgreSqlTest.setUp(self)
        self.env |= {"HARVOK_LOGBOOK": self.url, "XDG_DATA_HOME": str(self.folder / "data")}
        _, hall = self.stand(self.hall_keys)
        _, self.dome_address = self.dome("--errands-to", "127.0.0.1")
        self.stations = {"dome": self.dome_address, "hall": hall, "shy": hall}

    def wait_for(self, *tests: tuple[str, timedelta]) -> None:
        """Has tests wait: far end, and how long ago they were due."""
        now = datetime.now(UTC).replace(microsecond=0)
        with closing(Logbook(self.url)) as logbook:
            SiteBook(logbook, "observatory").enter([SiteTest("often", ("dome",), far, now - ago) for far, ago in tests])

    def known(self) -> list[SiteTest]:
        with closing(Logbook(self.url)) as logbook:
            return SiteBook(logbook, "observatory").every()

    def states(self) -> list[str]:
        return self.asked("select state from site_tests order by number")

    def asked(self, query: str) -> list[str]:
        with self.engine.connect() as db:
            return list(db.execute(sa.text(query)).scalars())


class Shared(SharedTests):
    def test_when_the_one_that_plans_is_killed_another_goes_on(self) -> None:
        between = ["dome > hall", "dome > shy"]
        site = self.site(self.stations, between, duration="60s")
        self.wait_for(("hall", timedelta(seconds=5)))
        first = self.start("site", "run", site, "--shared", cold=True)
        until(lambda: self.asked("select state from runs") == ["running"])
        self.site(self.stations, between, more="quiet = []")  # from now on, 500 ms
        second = self.start("site", "run", site, "--shared", cold=True)
        self.wait_for(("shy", timedelta(seconds=4)), ("hall", timedelta(seconds=3)), ("shy", timedelta(seconds=2)))
        time.sleep(2)
        self.assertEqual(self.states().count("running"), 1)
        first.kill()
        first.wait()
        until(lambda: not {"waiting", "running"} & set(self.states()), 90)
        second.terminate()
        out, err = second.communicate(timeout=60)
        self.assertEqual(second.returncode, 0, err)
        self.assertIn("this coordinator plans", err)
        killed, *others = self.known()
        self.assertEqual((killed.failure, killed.reason), ("broken", "the coordinator that ran it is gone"))
        self.assertEqual([test.state for test in others], ["done"] * 3, out)
        self.assertTrue((self.folder / "after").exists())
        spans = sorted((test.began, test.ended) for test in others if test.began and test.ended)
        self.assertTrue(all(spans[n][1] <= spans[n + 1][0] for n in range(2)), spans)
        with closing(Logbook(self.url)) as logbook:
            self.assertEqual([line.state for line in logbook.lines()], ["complete"] * 3 + ["broken"])

    def test_when_the_database_was_away_it_goes_on(self) -> None:
        site = self.site(self.stations, ["dome > hall", "dome > shy"])
        self.wait_for(("hall", timedelta(seconds=5)))
        process = self.start("site", "run", site, "--shared", cold=True)
        until(lambda: self.states() == ["done"], 90)
        self.engine.dispose()
        self.postgres("pg_ctl", "stop", "--mode=immediate", "--wait")
        time.sleep(3)
        self.run_server()
        self.wait_for(("shy", timedelta(seconds=4)))
        until(lambda: self.states() == ["done"] * 2, 90)
        process.terminate()
        _, err = process.communicate(timeout=60)
        self.assertEqual(process.returncode, 0, err)
        self.assertIn("nothing begins until it is back", err)
        self.assertNotIn("Traceback", err)
        with closing(Logbook(self.url)) as logbook:
            self.assertEqual([line.state for line in logbook.lines()], ["complete"] * 2)


class Wrong(SiteTests):
    def test_what_cannot_be_shared_is_refused(self) -> None:
        site = self.site({"hall": "127.0.0.1:9", "dome": "127.0.0.1:9"}, ["dome > hall"])
        self.assertIn("through a logbook in PostgreSQL", self.inside("site", "run", site, "--shared", code=2).stderr)
        self.assertIn("neither", self.inside("site", "run", site, "--shared", "--once", code=2).stderr)
        self.site({"hall": "127.0.0.1:9"}, ["here > hall"])
        book = ("--logbook", "postgresql+psycopg://nobody@127.0.0.1:9/none")
        self.assertIn("'here' is no one host", self.inside("site", "run", site, "--shared", *book, code=2).stderr)
