"""Alarms of a site reach a command and an address, and none that cannot be reached holds anything up."""

import json
import threading
import unittest
from contextlib import closing
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from http.server import BaseHTTPRequestHandler, HTTPServer
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any

from harvok.core.models.site import SITE_FILE, SiteFile
from harvok.core.site.outcome import SiteTest, TestState
from harvok.logbook.site_book import SiteBook
from harvok.logbook.store import Logbook
from harvok.runner.alarms import Alarms

NOON = datetime(2026, 11, 26, 12, tzinfo=UTC)
STATIONS = [{"name": "dome", "address": "192.0.2.1"}, {"name": "hall", "address": "192.0.2.2"}]
ROUND = {"name": "hourly", "at": "every hour", "between": ["dome > hall"], "step": {"name": "tcp", "test": "tcp"}}


class Receiver(BaseHTTPRequestHandler):
    heard: list[dict[str, Any]]
    status = 204

    def do_POST(self) -> None:
        self.heard.append(json.loads(self.rfile.read(int(self.headers["Content-Length"]))))
        self.send_response(self.status)
        self.end_headers()

    def log_message(self, format: str, *args: Any) -> None:
        """Nothing."""


class OfASite(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = Path(self.enterContext(TemporaryDirectory()))
        self.place = str(self.folder / "book.sqlite")
        self.notices: list[str] = []

    def site(self, **alarm: Any) -> SiteFile:
        keys = {"format": "harvok-site", "version": 1, "name": "observatory", "stations": STATIONS, "rounds": [ROUND]}
        return SITE_FILE.validate_python(keys | {"alarms": [alarm]})

    def hear(self, site: SiteFile, *tests: SiteTest) -> None:
        with Alarms(site, self.place, self.notices.append) as alarms:
            for test in tests:
                with closing(Logbook(self.place)) as logbook:
                    SiteBook(logbook, site.name).enter([test])
                alarms.hear(test)

    def a_test(self, number: int, verdict: str = "", failure: str = "") -> SiteTest:
        due = NOON + timedelta(hours=number)
        state: TestState = "failed" if failure else "done"
        test = SiteTest("hourly", ("dome",), "hall", due, state, due, due)
        return replace(test, failure=failure, reason="no answer", verdict=verdict, runs=("run-1",))

    def bad(self) -> list[SiteTest]:
        return [self.a_test(number, verdict) for number, verdict in enumerate(("ACCEPT", "ACCEPT", "REJECT", "REJECT"))]

    def test_a_command_gets_it_on_its_standard_input(self) -> None:
        self.hear(self.site(command=f"tee {self.folder}/told"), *self.bad())
        told = json.loads((self.folder / "told").read_text())
        self.assertEqual(
            (told["format"], told["kind"], told["was"], told["now"]), ("harvok-alarm", "verdict", "good", "rejected")
        )
        self.assertEqual((told["near"], told["far"], told["runs"]), (["dome"], "hall", ["run-1"]))
        self.assertEqual(self.notices, [])

    def test_an_address_gets_it_posted(self) -> None:
        heard = list[dict[str, Any]]()
        for status, notice in ((204, ""), (500, "HTTP 500")):
            handler = type("Handler", (Receiver,), {"heard": heard, "status": status})
            with HTTPServer(("127.0.0.1", 0), handler) as server:
                threading.Thread(target=server.serve_forever, daemon=True).start()
                failing = [self.a_test(0, failure="host-down"), self.a_test(1, failure="refused")]
                self.place = str(self.folder / f"{status}.sqlite")
                site = self.site(post=f"http://127.0.0.1:{server.server_port}/alarms", on=["failure"])
                self.hear(site, *failing)
                server.shutdown()
            self.assertIn(notice, "".join(self.notices))
        self.assertEqual([one["kind"] for one in heard][:1], ["failure"])
        self.assertEqual(heard[0]["reason"], "no answer")

    def test_what_was_not_asked_for_is_not_told(self) -> None:
        self.hear(self.site(command=f"tee {self.folder}/told", on=["failure"]), *self.bad())
        self.assertFalse((self.folder / "told").exists())

    def test_a_receiver_that_is_gone_is_said_and_holds_nothing_up(self) -> None:
        self.hear(self.site(post="http://127.0.0.1:9/"), *self.bad())
        self.hear(self.site(command="no-such-command", in_a_row=1), self.a_test(20, failure="refused"))
        self.assertEqual(len(self.notices), 2)
        self.assertTrue(all("could not be given" in notice for notice in self.notices))
