"""A test whose near end is a station that somebody else asks."""

import json
import os
import sqlite3
from pathlib import Path
from typing import Any

import psutil

from harvok.host.state import STATE_FOLDER
from harvok.station.keys import KEYS_FOLDER, Keys
from tests.whole.program import TOKEN, Process, ProgramTest, until


class StationsTest(ProgramTest):
    """This user coordinates; `dome` is to be the near end and `hall` the far end, each with keys of its own."""

    def setUp(self) -> None:
        super().setUp()
        self.env |= {KEYS_FOLDER: str(self.folder / "lead")}
        self.dome_keys, self.hall_keys = Keys(self.folder / "dome"), Keys(self.folder / "hall")

    def stand(self, keys: Keys, *arguments: str, token: str = TOKEN) -> tuple[Process, str]:
        own = {KEYS_FOLDER: str(keys.folder), STATE_FOLDER: str(keys.folder / "state"), "HARVOK_TOKEN": token}
        return self.station(*arguments, env=self.env | own)

    def dome(self, *arguments: str) -> tuple[Process, str]:
        process, address = self.stand(self.dome_keys, "--pair", *arguments)
        self.env |= {"HARVOK_CODE": self.dome_keys.code}
        self.inside("pairing", "make", address, "--name", "lead")
        self.env |= {"HARVOK_CODE": self.hall_keys.code}
        return process, address


class Errands(StationsTest):
    def asked(self, *arguments: str) -> dict[str, Any]:
        record: dict[str, Any] = json.loads(self.harvok(*arguments, "--json").stdout)
        self.assertEqual(record["state"], "complete")
        return record

    def test_every_kind_of_test_between_stations(self) -> None:
        _, hall = self.stand(self.hall_keys, token="another-token")
        _, dome = self.dome("--errands-to", "127.0.0.1")
        (self.folder / "dome.token").write_text(TOKEN)
        self.env |= {"HARVOK_TOKEN": "another-token"}
        way = ("--from", dome, "--from-token-file", "dome.token")
        tcp = self.asked("tcp", hall, "--duration", "1s", "--series", "before", "--with", "length=15", *way)
        self.assertEqual((tcp["near"]["name"], tcp["far"]["name"]), ("hall", "hall"))
        self.assertEqual(tcp["rig"]["asked_by"], os.uname().nodename)
        self.assertEqual((tcp["series"], tcp["attributes"]), ("before", {"length": "15"}))
        self.assertEqual([len(trial["samples"]) > 0 for trial in tcp["trials"]], [True, True])
        self.assertEqual({reading["direction"] for reading in tcp["readings"]}, {"send", "receive"})
        udp = self.asked("udp", hall, "--rate", "1M", "--duration", "500ms", "--direction", "send", *way)
        self.assertTrue(udp["figures"])
        reflector = f"127.0.0.1:{int(hall.rpartition(':')[2]) + 2}"
        delay = self.asked("delay", reflector, "--packets", "5", "--gap", "10ms", *way)
        self.assertTrue(any(figure["quantity"] == "two-way-delay-median" for figure in delay["figures"]))
        users = ("--mix", "web", "--users", "1", "--ramp", "0.5s", "--hold", "1s")
        self.assertTrue(self.asked("app", hall, *users, *way)["figures"])
        shown = self.inside("logbook", "show", tcp["id"]).stdout
        self.assertIn("asked for by", shown)
        self.assertEqual(len(json.loads(self.inside("logbook", "list", "--json").stdout)), 4)

    def test_what_the_operator_does_not_allow(self) -> None:
        _, hall = self.stand(self.hall_keys)
        _, dome = self.dome()
        err = self.harvok("tcp", hall, "--duration", "1s", "--from", dome, code=2).stderr
        self.assertIn("the station takes no errands", err)
        _, dome = self.dome("--errands-to", "192.0.2.0/24", "--max-duration", "1s")
        err = self.harvok("tcp", hall, "--duration", "500ms", "--from", dome, code=2).stderr
        self.assertIn("may not be sent toward 127.0.0.1", err)
        err = self.harvok("tcp", hall, "--duration", "1s", "--from", dome, code=2).stderr
        self.assertIn("errands of at most 1 s", err)

    def test_only_who_is_paired_is_obeyed(self) -> None:
        _, hall = self.stand(self.hall_keys)
        _, dome = self.dome("--errands-to", "any")
        self.dome_keys.forget("lead")
        err = self.harvok("tcp", hall, "--duration", "1s", "--from", dome, code=4).stderr
        self.assertIn("takes errands of near ends alone that are paired with it", err)

    def test_options_of_a_near_end_on_this_host_are_refused(self) -> None:
        for words in (("--local", "127.0.0.1"), ("--event", "1s: tell x"), ("--plain",)):
            err = self.inside("tcp", "127.0.0.1:9", "--from", "127.0.0.1:9", *words, code=2).stderr
            self.assertIn(f"{words[0]} is of a near end on this host", err)
        self.assertIn("no other near end", self.inside("tcp", "127.0.0.1:9", "--reached-at", "x", code=2).stderr)
        err = self.inside("station", "--errand-hours", "06:00-18:00", code=2).stderr
        self.assertIn("--errands-to", err)

    def test_a_far_end_that_cannot_be_reached_from_there_is_said_and_the_station_is_free_again(self) -> None:
        _, hall = self.stand(self.hall_keys)
        _, dome = self.dome("--errands-to", "any")
        err = self.harvok("tcp", hall, "--from", dome, "--reached-at", "127.0.0.1:9", code=4).stderr
        self.assertIn("127.0.0.1:9", err)
        self.assertEqual(self.asked("tcp", hall, "--duration", "500ms", "--from", dome)["state"], "complete")

    def test_a_near_end_that_dies_leaves_a_broken_run_with_what_was_seen(self) -> None:
        _, hall = self.stand(self.hall_keys)
        station, dome = self.dome("--errands-to", "any")
        process = self.start("tcp", hall, "--duration", "60s", "--no-charts", "--from", dome)
        until(lambda: self.entries() > 5)
        children = [child for child in psutil.Process(station.pid).children(recursive=True) if _is_errand(child)]
        self.assertEqual(len(children), 1)
        children[0].kill()
        _, err = process.communicate(timeout=60)
        self.assertEqual(process.returncode, 4, err)
        run = json.loads(self.inside("logbook", "list", "--json").stdout)[0]
        self.assertEqual(run["state"], "broken")
        record = json.loads(self.inside("logbook", "show", run["id"], "--json").stdout)
        self.assertTrue(record["trials"][0]["samples"])

    def test_breaking_off_ends_the_test_at_both_stations(self) -> None:
        _, hall = self.stand(self.hall_keys)
        station, dome = self.dome("--errands-to", "any")
        process = self.start("tcp", hall, "--duration", "60s", "--no-charts", "--from", dome)
        until(lambda: self.entries() > 5)
        self.interrupt(process)
        process.communicate(timeout=60)
        self.assertEqual(process.returncode, 4)
        until(lambda: not any(map(_is_errand, psutil.Process(station.pid).children(recursive=True))))
        self.assertEqual(self.asked("tcp", hall, "--duration", "500ms", "--from", dome)["state"], "complete")

    def entries(self) -> int:
        """How many lines the journal of the run under way has."""
        if not Path(self.logbook).exists():
            return 0
        with sqlite3.connect(self.logbook) as book:
            try:
                return int(book.execute("select count(*) from journal").fetchone()[0])
            except sqlite3.OperationalError:
                return 0


def _is_errand(process: psutil.Process) -> bool:
    try:
        return "harvok.runner.errand_process" in process.cmdline()
    except psutil.NoSuchProcess:
        return False
