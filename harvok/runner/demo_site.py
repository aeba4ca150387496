"""The demo of a site: three stations on loopback and a coordinator, none of which needs root. The tests of today are
real traffic; the four weeks before them are made up, and each run of theirs says so.
"""

import contextlib
import os
import random
import tempfile
from collections.abc import Iterator
from contextlib import ExitStack, closing
from dataclasses import replace
from datetime import datetime, timedelta
from pathlib import Path

from harvok.clock import SYSTEM, Clock
from harvok.core.models.run import RunRecord
from harvok.core.models.site import RoundKeys, SiteFile
from harvok.core.observer import Observer
from harvok.core.site.outcome import SiteTest
from harvok.logbook.site_book import SiteBook
from harvok.logbook.store import Logbook
from harvok.reports.site import write_site_page
from harvok.rigs.stations import StationsSettings
from harvok.runner.demo import DemoStation, demo_station
from harvok.runner.places import place_between
from harvok.runner.request import TestRequest
from harvok.runner.run import run_test
from harvok.runner.site_files import read_site
from harvok.runner.site_page import pairs_of, reports_beside, site_page
from harvok.runner.site_runs import Coordinator
from harvok.runner.site_tests import Pace, SiteSetting, Tell
from harvok.station.address import resolve
from harvok.station.client import StationClient
from harvok.station.contact import Access
from harvok.station.keys import KEYS_FOLDER, Keys
from harvok.traffic.sockets import Source

NEAR_ENDS, FAR_END = ("dome", "spectro"), "hall"
DAYS = 28
_EVERY = timedelta(hours=3)
_USUAL_BPS = 93e6
_NOTE = "made up by harvok demo"
_SITE = """# Written by harvok demo site.
format = "harvok-site"
version = 1
name = "observatory"
zone = "Europe/Berlin"
{stations}
[[links]]
name = "uplink-summit"
rated = "100M"
behind = ["summit"]

[[rounds]]
name = "transfer"
at = "every 3h"
between = ["dome > hall", "spectro > hall"]
criteria = [{{figure = "goodput-settled", min = "85M"}}]
[rounds.step]
name = "tcp"
test = "tcp"
direction = "send"
duration = "2s"
pacing = "95M"

[[rounds]]
name = "delay"
at = "every 3h"
between = ["here > hall"]
[rounds.step]
name = "delay"
test = "delay"
packets = 50
gap = "10ms"
"""
_STATION = """
[[stations]]
name = "{name}"
address = "{address}"
token_file = "{name}.token"
code = "{code}"
groups = {groups}
"""


@contextlib.contextmanager
def demo_stations(folder: Path) -> Iterator[Path]:
    """Three stations that know the coordinator, whose keys are in `folder`; yields the file of their site there."""
    folder.mkdir(parents=True, exist_ok=True)
    with ExitStack() as stack:
        stack.enter_context(_keys_in(folder / "keys"))
        tables = []
        for name in (*NEAR_ENDS, FAR_END):
            errands = ("--pair", "--errands-to", "127.0.0.1") if name in NEAR_ENDS else ()
            station = stack.enter_context(demo_station(name, errands))
            if errands:
                _pair(station, folder)
            token = folder / f"{name}.token"
            token.touch(mode=0o600)
            token.write_text(station.access.token)
            groups = '["summit"]' if errands else "[]"
            code = station.access.keys.code
            tables.append(_STATION.format(name=name, address=station.address, code=code, groups=groups))
        site = folder / "site.toml"
        site.write_text(_SITE.format(stations="".join(tables)))
        yield site


def _pair(station: DemoStation, folder: Path) -> None:
    access = Access(station.access.token, station.access.keys.code, keys=Keys(folder / "keys"))
    with StationClient(resolve(station.address), access, Source(), SYSTEM) as client:
        client.pair("coordinator")


@contextlib.contextmanager
def _keys_in(folder: Path) -> Iterator[None]:
    """Has this process, and those that it starts, keep its keys in a folder of the demo."""
    before = os.environ.get(KEYS_FOLDER)
    os.environ[KEYS_FOLDER] = str(folder)
    try:
        yield
    finally:
        if before is None:
            del os.environ[KEYS_FOLDER]
        else:
            os.environ[KEYS_FOLDER] = before


def run_rounds(site: Path, place: str, tell: Tell, clock: Clock = SYSTEM) -> list[SiteTest]:
    """Each test of each round once."""
    return Coordinator(SiteSetting(read_site(site), site, place, Pace(clock, clock.utc())), tell, _quiet).run_once()


def _quiet(_: str) -> None:
    """The demo's logbook is a file, which is never away."""


def make_up_the_past(file: Path, place: str, clock: Clock = SYSTEM) -> int:
    """Four weeks before the tests of today, in the likeness of one of each round; returns how many runs that are. The
    transfer from spectro loses a tenth for five days, and one night the dome is not there."""
    site, chance, now = read_site(file), random.Random(2026), clock.utc()
    records, tests = list[RunRecord](), list[SiteTest]()
    for keys in site.rounds:
        template = _measured(site, keys, file.parent)
        for near, far in pairs_of(site, keys):
            series = site.series(keys.name, near, far)
            for number in range(1, DAYS * 8):
                due = (now - number * _EVERY).replace(minute=0, second=0, microsecond=0)
                test = _past_test(site, SiteTest(keys.name, (near,), far, due), now)
                if test.state == "done":
                    run = f"{due:%Y%m%d-%H%M%S}-demo{len(records):05d}"
                    factor = _factor(test, now) * _noise(test, chance)
                    records.append(_past_run(template, run, series, near, due, factor))
                    test = replace(test, runs=(run,))
                tests.append(test)
    with closing(Logbook(place)) as logbook:
        logbook.add_all(records)
        SiteBook(logbook, site.name).enter(tests)
    return len(records)


def _measured(site: SiteFile, keys: RoundKeys, folder: Path) -> RunRecord:
    """One run of a round from this host, into a logbook of its own."""
    far = site.station(FAR_END)
    settings = StationsSettings(far.address, Access((folder / f"{FAR_END}.token").read_text(), far.code))
    found: list[RunRecord] = []
    with tempfile.TemporaryDirectory() as scratch:
        place = str(Path(scratch) / "template.sqlite")
        request = TestRequest(place_between(settings, keys.step), keys.step.build(), place, ["harvok", "demo", "site"])
        run_test(request, Observer(), found.append)
    return found[-1]


def _noise(test: SiteTest, chance: random.Random) -> float:
    return chance.lognormvariate(0, 0.12) if test.round == "delay" else 1 - abs(chance.gauss(0, 0.01))


def _factor(test: SiteTest, now: datetime) -> float:
    """What had become of the level by then."""
    days_ago = (now - test.due) / timedelta(days=1)
    return 0.88 if test.round == "transfer" and "spectro" in test.near and 4 < days_ago < 9 else 1.0


def _past_test(site: SiteFile, test: SiteTest, now: datetime) -> SiteTest:
    """What became of a test of the past: it was done, but for a night in which the dome was not there."""
    hours_ago = (now - test.due) / timedelta(hours=1)
    if "dome" in test.near and 250 < hours_ago < 262:
        reason = f"no answer from {site.station('dome').address} in 5 s, nor to a ping"
        return replace(test, state="failed", failure="host-down", reason=reason, began=test.due, ended=test.due)
    verdict = "ACCEPT" if site.round(test.round).criteria else ""
    return replace(test, state="done", verdict=verdict, began=test.due, ended=test.due + timedelta(seconds=6))


def _past_run(template: RunRecord, run: str, series: str, near: str, due: datetime, factor: float) -> RunRecord:
    level = next((one.value for one in template.figures if one.quantity == "goodput-settled"), 0.0)
    factor *= _USUAL_BPS / level if level else 1.0
    figures = [replace(one, value=one.value * factor) for one in template.figures if one.meaning.unit in ("b/s", "s")]
    return template.model_copy(
        update={
            "id": run,
            "series": series,
            "near": template.near.model_copy(update={"name": near}),
            "started": due,
            "ended": due + timedelta(seconds=6),
            "note": _NOTE,
            "trials": [],
            "figures": figures,
            "readings": [],
            "preflight": [],
        }
    )


def write_demo_page(file: Path, place: str, path: Path, clock: Clock = SYSTEM) -> None:
    """The page of the site."""
    write_site_page(site_page(read_site(file), place, clock.utc(), DAYS, reports_beside(path, place)), path)
