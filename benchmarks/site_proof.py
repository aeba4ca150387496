"""A site of ten stations in namespaces, behind two kernel switches and a router with a shared uplink of 200 Mb/s, and a
day of its schedule in six minutes, with faults: a station killed, one firewalled, the database stopped for a while, the
coordinator killed and started again. Then every test that was due is looked for.

    python -m benchmarks.site_proof

Needs root, nft and PostgreSQL. Everything that it makes is in namespaces of its own, and is gone afterwards.
"""

import os
import shutil
import signal
import subprocess
import sys
import tempfile
from collections import Counter
from collections.abc import Iterator, Mapping
from contextlib import closing, contextmanager
from datetime import UTC, datetime, timedelta
from itertools import pairwise
from pathlib import Path

from harvok.clock import SYSTEM
from harvok.core.site.outcome import SiteTest
from harvok.host.state import STATE_FOLDER
from harvok.logbook.site_book import SiteBook
from harvok.logbook.store import Logbook
from harvok.runner.site_files import outlook, read_site
from harvok.runner.site_runs import Coordinator
from harvok.runner.site_tests import Pace, SiteSetting
from harvok.station.keys import KEYS_FOLDER, Keys

HARVOK = str(Path(sys.executable).with_name("harvok"))
TIMES = 240.0
DAY = timedelta(days=1)
BEGINS = datetime(2026, 11, 2, tzinfo=UTC)
SUMMIT, VALLEY = tuple(f"s{n}" for n in range(1, 6)), tuple(f"s{n}" for n in range(6, 11))
KILLED, WALLED = "s2", "s3"
_POSTGRES = sorted(Path("/usr/lib/postgresql").glob("*/bin"))
_TOKEN = "summit-and-valley"
_ROUNDS = """
[[links]]
name = "uplink"
rated = "200M"
behind = ["summit"]

[[rounds]]
name = "across"
at = "0 */4 * * *"
late = "3h"
many = ["summit"]
to = "s6"
[rounds.step]
name = "tcp"
test = "tcp"
direction = "send"
duration = "1s"

[[rounds]]
name = "inside"
at = "30 */6 * * *"
late = "3h"
between = ["s7 > s8", "s9 > s10"]
[rounds.step]
name = "tcp"
test = "tcp"
direction = "send"
duration = "1s"
"""


def run(*words: str, **options: object) -> str:
    """What a command prints; an error ends the whole."""
    done = subprocess.run(words, check=True, capture_output=True, text=True, **options)  # type: ignore[call-overload]
    return str(done.stdout)


def address_of(station: str) -> str:
    number = int(station[1:])
    return f"10.77.{1 if station in SUMMIT else 2}.{10 + number}"


@contextmanager
def wired() -> Iterator[None]:
    """Namespaces: a router, two switches, ten stations, and the coordinator."""
    spaces = ["hvp-router", "hvp-a", "hvp-b", "hvp-lead", *(f"hvp-{one}" for one in (*SUMMIT, *VALLEY))]
    try:
        for space in spaces:
            run("ip", "netns", "add", space)
            run("ip", "-n", space, "link", "set", "lo", "up")
        for switch in ("a", "b"):
            run("ip", "-n", f"hvp-{switch}", "link", "add", "br0", "type", "bridge")
            run("ip", "-n", f"hvp-{switch}", "link", "set", "br0", "up")
        for number, switch in enumerate(("a", "b"), 1):
            _join("hvp-router", f"up{number}", f"10.77.{number}.1/24", f"hvp-{switch}", "uplink")
            run("tc", "-n", "hvp-router", "qdisc", "add", "dev", f"up{number}", "root", "tbf", *_SHAPE)
        _join("hvp-router", "lead", "10.77.3.1/24", "hvp-lead", "eth0", "10.77.3.2/24")
        run("ip", "netns", "exec", "hvp-router", "sysctl", "-qw", "net.ipv4.ip_forward=1")
        run("ip", "-n", "hvp-lead", "route", "add", "default", "via", "10.77.3.1")
        for station in (*SUMMIT, *VALLEY):
            switch, gateway = ("a", "10.77.1.1") if station in SUMMIT else ("b", "10.77.2.1")
            _join(f"hvp-{station}", "eth0", f"{address_of(station)}/24", f"hvp-{switch}", station)
            run("ip", "-n", f"hvp-{station}", "route", "add", "default", "via", gateway)
        yield
    finally:
        for space in spaces:
            subprocess.run(["ip", "netns", "del", space], capture_output=True)


_SHAPE = ("rate", "200mbit", "burst", "64k", "limit", "512k")


def _join(space: str, port: str, address: str, other: str, other_port: str, other_address: str = "") -> None:
    """A cable between two namespaces; a port without an address belongs to the other's switch."""
    run("ip", "-n", space, "link", "add", port, "type", "veth", "peer", "name", other_port, "netns", other)
    run("ip", "-n", space, "addr", "add", address, "dev", port)
    run("ip", "-n", space, "link", "set", port, "up")
    run("ip", "-n", other, "link", "set", other_port, "up")
    if other_address:
        run("ip", "-n", other, "addr", "add", other_address, "dev", other_port)
    else:
        run("ip", "-n", other, "link", "set", other_port, "master", "br0")


class Site:
    """Ten stations, their database, and the file of the site, in a folder."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.url = f"postgresql+psycopg://harvok@/postgres?host={folder / 'db'}"
        self.stations: dict[str, subprocess.Popen[str]] = {}
        self.env = os.environ | {
            "HARVOK_TOKEN": _TOKEN,
            "HARVOK_LOGBOOK": self.url,
            KEYS_FOLDER: str(folder / "lead"),
            STATE_FOLDER: str(folder / "lead-state"),
            "XDG_DATA_HOME": str(folder / "data"),
        }

    def start(self) -> None:
        (self.folder / "db").mkdir()
        shutil.chown(self.folder / "db", "postgres")
        self.postgres("initdb", "--username=harvok", "--auth=trust", "--no-sync")
        self.postgres("pg_ctl", "start", *self._options())
        tables = ""
        for name in (*SUMMIT, *VALLEY):
            self.start_station(name)
            code, groups = Keys(self.folder / name).code, '["summit"]' if name in SUMMIT else "[]"
            tables += (
                f'[[stations]]\nname = "{name}"\naddress = "{address_of(name)}"\ncode = "{code}"\ngroups = {groups}\n'
            )
            pairing = ["pairing", "make", address_of(name), "--name", "lead"]
            run("ip", "netns", "exec", "hvp-lead", HARVOK, *pairing, env=self.env | {"HARVOK_CODE": code})
        head = 'format = "harvok-site"\nversion = 1\nname = "proof"\nzone = "UTC"\n'
        (self.folder / "site.toml").write_text(head + tables + _ROUNDS)

    def start_station(self, name: str) -> None:
        own = {KEYS_FOLDER: str(self.folder / name), STATE_FOLDER: str(self.folder / f"{name}-state")}
        words = ["station", "--host", address_of(name), "--name", name, "--pair", "--errands-to", "10.77.0.0/16"]
        process = subprocess.Popen(
            ["ip", "netns", "exec", f"hvp-{name}", HARVOK, *words],
            env=self.env | own,
            stdout=subprocess.PIPE,
            stderr=subprocess.STDOUT,
            text=True,
        )
        assert process.stdout
        print(process.stdout.readline().strip(), flush=True)
        self.stations[name] = process

    def coordinate(self, origin: datetime) -> "subprocess.Popen[str]":
        words = [sys.executable, "-m", "benchmarks.site_proof", "coordinate", str(self.folder), origin.isoformat()]
        return subprocess.Popen(["ip", "netns", "exec", "hvp-lead", *words], env=self.env, text=True)

    def postgres(self, program: str, *arguments: str) -> None:
        command = [str(_POSTGRES[-1] / program), *arguments, "--pgdata", str(self.folder / "db" / "data")]
        subprocess.run(command, check=True, stdout=subprocess.DEVNULL, cwd="/", user="postgres")

    def stop_database(self) -> None:
        self.postgres("pg_ctl", "stop", "--mode=immediate", "--wait")

    def start_database(self) -> None:
        self.postgres("pg_ctl", "start", *self._options())

    def _options(self) -> tuple[str, ...]:
        place = self.folder / "db"
        return "--wait", "--log", f"{place}/log", "-o", f"-k {place} -h '' -F"

    def end(self) -> None:
        for process in self.stations.values():
            process.kill()
            process.wait()
        subprocess.run(
            [str(_POSTGRES[-1] / "pg_ctl"), "stop", "--mode=immediate", "--pgdata", str(self.folder / "db/data")],
            user="postgres",
            cwd="/",
            capture_output=True,
        )


def coordinate(folder: Path, origin: datetime) -> None:
    """The coordinator, whose day began at a real moment, however often it is started again."""
    site, path = read_site(folder / "site.toml"), folder / "site.toml"
    pace = _Shifted(origin)

    def tell(test: SiteTest) -> None:
        said = test.failure or test.verdict or test.state
        print(f"{pace.now():%H:%M}  {test.round}  {test.pair}  {said}  {test.reason}", flush=True)

    Coordinator(SiteSetting(site, path, os.environ["HARVOK_LOGBOOK"], pace), tell, print).run(BEGINS + DAY)


class _Shifted(Pace):
    """The site's day begins at a real moment."""

    def __init__(self, origin: datetime) -> None:
        super().__init__(SYSTEM, origin, TIMES)

    def now(self) -> datetime:
        return BEGINS + (self.clock.utc() - self.begins) * self.times


def wait_until(hour: float, origin: datetime) -> None:
    """Until that hour of the site's day."""
    due = origin + timedelta(hours=hour) / TIMES
    SYSTEM.sleep(max((due - SYSTEM.utc()).total_seconds(), 0.0))


def a_day(site: Site) -> None:
    """The schedule of a day, with its faults."""
    origin = SYSTEM.utc() + timedelta(seconds=2)
    coordinator = site.coordinate(origin)
    wait_until(6, origin)
    site.stations[KILLED].send_signal(signal.SIGKILL)
    subprocess.run(["ip", "netns", "pids", f"hvp-{KILLED}"], capture_output=True)
    wait_until(9, origin)
    rule = "table inet wall {\nchain input {\ntype filter hook input priority 0;\ntcp dport 26470 drop\n}\n}\n"
    run("ip", "netns", "exec", f"hvp-{WALLED}", "nft", rule)
    wait_until(11, origin)
    site.stop_database()
    wait_until(14, origin)
    site.start_database()
    wait_until(16.2, origin)
    coordinator.kill()
    coordinator.wait()
    wait_until(17, origin)
    site.coordinate(origin).wait()


def look(site: Site) -> bool:
    """Whether every test is accounted for, and what became of them."""
    file = read_site(site.folder / "site.toml")
    due = {(job.round, job.near, job.far, job.due_s) for job in outlook(file, BEGINS, DAY - timedelta(hours=1)).jobs}
    with closing(Logbook(site.url)) as logbook:
        tests = SiteBook(logbook, "proof").every()
        records = {record.id: record for record in logbook.records([line.id for line in logbook.lines()])}
    found = Counter((test.round, test.near, test.far, test.due.timestamp()) for test in tests)
    missing, twice = due - set(found), [key for key, times in found.items() if times > 1]
    print(f"\n{len(due)} tests were due; {len(missing)} have no record, {len(twice)} have two")
    print("became:", dict(Counter(test.failure or test.state for test in tests)))
    across = sorted(
        (records[run].started, records[run].ended or records[run].started)
        for test in tests
        if test.round == "across"
        for run in test.runs
    )
    overlaps = sum(later[0] < earlier[1] for earlier, later in pairwise(across))
    print(f"{len(across)} runs crossed the uplink, {overlaps} of them while another did")
    kinds: Mapping[str, Counter[str]] = {
        name: Counter(test.failure for test in tests if name in test.near and test.failure) for name in (KILLED, WALLED)
    }
    print("failures of the killed and the firewalled station:", {name: dict(of) for name, of in kinds.items()})
    right = kinds[KILLED]["refused"] > 0 and kinds[WALLED]["filtered-control"] > 0
    in_mid = [test for test in tests if test.reason.startswith("the coordinator was killed")]
    print(f"{len(in_mid)} in mid-test when the coordinator was killed; {len(records)} runs in the logbook")
    good = not missing and not twice and not overlaps and right
    print("all accounted for" if good else "NOT as it should be")
    return good


def main() -> None:
    if sys.argv[1:2] == ["coordinate"]:
        coordinate(Path(sys.argv[2]), datetime.fromisoformat(sys.argv[3]))
        return
    with tempfile.TemporaryDirectory(prefix="harvok-site-") as folder, wired():
        Path(folder).chmod(0o755)
        site = Site(Path(folder))
        try:
            site.start()
            a_day(site)
            good = look(site)
        finally:
            site.end()
    sys.exit(0 if good else 1)


if __name__ == "__main__":
    main()
