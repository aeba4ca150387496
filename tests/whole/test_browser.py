"""Hosts without Harvok: a station's page, from the outside and in Debian's Chromium."""

import http.client
import json
import os
import re
import socket
import sys
import unittest
from typing import Any

from harvok.core.figures import find
from harvok.core.models.run import RunRecord
from harvok.core.trials.browser import BrowserTrial
from harvok.station.browser.code import code_of
from harvok.testing.namespaces import ADDRESSES, NamespacePair
from tests.second_try import BUSY
from tests.whole.chromium import CHROMIUM, Chromium
from tests.whole.pages import Page
from tests.whole.program import TOKEN, Contention, Process, ProgramTest, free_ports, until

CAN = sys.platform == "linux" and os.geteuid() == 0


class PageTest(ProgramTest):
    def with_page(self, *options: str, **settings: Any) -> tuple[Process, Page]:
        """A station with its page, which is ready, and somebody who has opened that."""
        port = free_ports()
        words = ("station", "--browser", "--browser-port", str(port + 2), "--port", str(port), "--name", "hall")
        process = self.start(*words, "--browser-duration", "2s", *options, **settings)
        assert process.stdout
        said = ""
        while "Ctrl-C" not in said:
            said += process.stdout.readline()
        found = re.search(r"http://(\S+?):(\d+)/#(\S+)", said)
        assert found, said
        self.control_port = port
        return process, Page((found[1], int(found[2])), found[3])

    def only_run(self) -> RunRecord:
        return RunRecord.model_validate_json(self.inside("logbook", "show", "last", "--json").stdout)


class Visits(PageTest):
    def test_a_visit_is_a_run_like_any_other(self) -> None:
        process, page = self.with_page("--host", "127.0.0.1", "--rated", "100G")
        ended = page.measure("Window <seat>\x1b[2J")
        self.assertEqual((ended["error"], [line["what"] for line in ended["lines"][:2]]), ("", ["receive", "send"]))
        record = self.only_run()
        self.assertEqual((record.id, record.state, record.test.kind), (ended["run"], "complete", "browser"))
        self.assertEqual((record.near.name, record.near.cores, record.near.harvok), ("Test 1 on Linux", 2, ""))
        place = "Window <seat> [2J"
        self.assertEqual((record.attributes["place"], record.series), (place, f"browser.{place}"))
        self.assertEqual((record.far and record.far.name, record.rig.kind), ("hall", "stations"))
        for direction in ("receive", "send"):
            self.assertGreater(find(record.figures, "goodput-settled", direction=direction) or 0, 1e6)
            self.assertGreater(find(record.figures, "goodput-both-ways", direction=direction) or 0, 1e6)
        trials = [trial.trial for trial in record.trials if isinstance(trial.trial, BrowserTrial)]
        self.assertEqual([trial.load for trial in trials], ["idle", "receive", "send", "both"])
        self.assertTrue(all(trial.samples for trial in record.trials[1:]))
        self.assertTrue(any("not told by a browser" in notice for notice in record.notices))
        shown = self.inside("logbook", "show", "last").stdout
        self.assertIn("while receiving", shown)
        self.assertIn("of the ceiling", shown)
        self.assertNotIn("\x1b", shown)
        self.inside("report", "make", "last", "--to", "seat.html")
        self.assertIn("goodput", (self.folder / "seat.html").read_text())
        page.measure("stairs")
        (first, second) = json.loads(self.inside("logbook", "places", "--json").stdout)
        self.assertEqual({first["place"], second["place"]}, {place, "stairs"})
        self.assertGreaterEqual(first["receive_bps"], second["receive_bps"])
        self.assertIn("Test 1 on Linux", self.inside("logbook", "places").stdout)
        process.terminate()
        out, err = process.communicate(timeout=30)
        self.assertEqual((process.returncode, err), (0, ""))
        self.assertIn(f"run {ended['run']}", out)

    def test_nobody_measures_beside_another(self) -> None:
        _, page = self.with_page("--host", "127.0.0.1")
        begun = page.ask("/visits", {"place": "window"})[1]["visit"]
        status, said = page.ask("/visits", {"place": "stairs"})
        self.assertEqual(status, 409)
        self.assertIn("the station serves a browser at window", said["error"])
        tcp = self.harvok("tcp", f"127.0.0.1:{self.control_port}", "--duration", "1s", code=4)
        self.assertIn("a browser at window", tcp.stderr)
        self.assertTrue(page.ask(f"/next/{begun}/0")[1]["number"])
        self.assertEqual(page.ask("/next/another/0")[0], 409)

    def test_a_page_that_is_closed_is_a_broken_run_with_what_there_was(self) -> None:
        _, page = self.with_page("--host", "127.0.0.1")
        self.assertEqual(page.measure("window", stop_at="receive")["silent"]["load"], "receive")
        until(lambda: self.only_run().state == "broken", 60)
        record = self.only_run()
        self.assertEqual(record.fault and record.fault.reference, "browser-lost")
        self.assertIsNotNone(find(record.figures, "page-response-median", load="idle"))
        until(lambda: page.ask("/visits", {"place": "window"})[0] == 200)


class Doors(PageTest):
    def test_only_the_page_itself_is_for_everybody(self) -> None:
        _, page = self.with_page("--host", "127.0.0.1")
        connection = http.client.HTTPConnection(*page.address, timeout=10)
        connection.request("GET", "/")
        answer = connection.getresponse()
        text = answer.read().decode()
        self.assertEqual(answer.status, 200)
        self.assertIn("default-src 'none'", answer.headers["Content-Security-Policy"])
        self.assertIn("hall: what this device gets", text)
        self.assertNotRegex(text, r'(src|href)="(?!data:,)', "it fetches nothing")
        for path, body in (("/visits", {"place": "x"}), ("/next/x/0", None), ("/receive/x/1/0", None), ("/v1", None)):
            self.assertEqual(page.ask(path, body, code="guess")[0], 401, path)
        self.assertEqual(page.ask("/visits", {"place": "x"}, code=TOKEN)[0], 401, "the token is for the control port")

    def test_nonsense_is_refused_with_a_reason(self) -> None:
        _, page = self.with_page("--host", "127.0.0.1")
        for body, place in (({"place": ""}, "place"), ({"place": "x" * 61}, "place"), ({}, "place"), ([], "request")):
            status, said = page.ask("/visits", body)
            self.assertEqual(status, 409)
            self.assertIn(place, said["error"])
        self.assertEqual(page.ask("/nowhere")[0], 404)
        visit = page.ask("/visits", {"place": "window"})[1]["visit"]
        self.assertEqual(page.ask(f"/receive/{visit}/99/0")[0], 404, "no such trial")
        self.assertEqual(page.ask(f"/report/{visit}/1", {"responses_s": [-1.0]})[0], 409)
        with socket.create_connection(page.address) as raw:
            raw.sendall(b"POST /send/x/1 HTTP/1.1\r\nAuthorization: Bearer %b\r\n" % code_of(TOKEN).encode())
            raw.sendall(b"Content-Length: 99999999999\r\n\r\n")
            self.assertIn(b" 409 ", raw.recv(100))

    def test_strangers_displace_one_another_and_nobody_who_measures(self) -> None:
        _, page = self.with_page("--host", "127.0.0.1")
        strangers = [socket.create_connection(page.address) for _ in range(20)]
        for sock in strangers:
            self.addCleanup(sock.close)
        strangers[0].settimeout(10)
        self.assertEqual(strangers[0].recv(1), b"", "the oldest had to go")
        self.assertEqual(page.ask("/visits", {"place": "window"})[0], 200)

    def test_the_code_is_of_the_token_and_stays(self) -> None:
        self.assertEqual(code_of(TOKEN), code_of(TOKEN))
        self.assertNotEqual(code_of(TOKEN), code_of(TOKEN + "2"))
        self.assertRegex(code_of(TOKEN), r"^([a-z2-9]{4}-){2}[a-z2-9]{4}$")
        taken = socket.create_server(("127.0.0.1", free_ports()))
        self.addCleanup(taken.close)
        port = str(taken.getsockname()[1])
        refused = self.harvok("station", "--browser", "--browser-port", port, "--host", "127.0.0.1", "--port",
                              str(free_ports()), code=4)  # fmt: skip
        self.assertIn(f"TCP port {port} is already in use", refused.stderr)


@unittest.skipUnless(CAN and CHROMIUM, "needs root on Linux, and Chromium (apt-get install chromium)")
class InChromium(PageTest):
    def test_it_agrees_with_tcp_on_a_shaped_path(self) -> None:
        """A token bucket of 97 Mb/s between two hosts; both methods have four connections."""
        pair = self.enterContext(NamespacePair(rate_bps=97e6))
        busy = Contention()
        _, page = self.with_page("--rated", "100M", room=pair.name("far"))
        browser = Chromium(before=("ip", "netns", "exec", pair.name("near")))
        self.addCleanup(browser.close)
        browser.open(f"http://{ADDRESSES['far']}:{page.address[1]}/?place=window#{code_of(TOKEN)}")
        until(lambda: browser.evaluate("document.body.dataset.state"), 120)
        self.assertEqual(browser.evaluate("document.getElementById('error').textContent"), "")
        self.assertIn("window", browser.evaluate("document.getElementById('places').innerText"))
        self.assertGreater(browser.evaluate("document.querySelectorAll('#chart polyline').length"), 1)
        visit = self.only_run()
        self.assertRegex(visit.near.name, r"^Chromium \d+ on Linux$")
        where = f"{ADDRESSES['far']}:{self.control_port}"
        words = ("tcp", where, "--flows", "4", "--duration", "3s", "--rated", "100M", "--json")
        tcp = RunRecord.model_validate_json(self.harvok(*words, room=pair.name("near")).stdout)
        for direction in ("receive", "send"):
            one, other = (find(run.figures, "goodput-settled", direction=direction) or 0.0 for run in (visit, tcp))
            if visit.limiters[direction] in ("browser", "cpu-far") and busy.waited > 0.25:
                self.skipTest(f"{BUSY}: {visit.limiters[direction]} fell short")
            self.assertTrue(0.97 <= one / other <= 1.03, (direction, one, other, visit.readings))
            self.assertEqual(visit.limiters[direction], "link")
