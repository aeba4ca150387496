"""The process in which a coordinator runs one test of a round: it keeps the runs in the logbook, judges them, and says
what it came to. It breaks the test off when its input ends."""

import json
import os
import shlex
import subprocess
import sys
from collections.abc import Sequence
from contextlib import closing
from dataclasses import asdict, dataclass, field
from pathlib import Path

from harvok.core.judgement.assessment import Rules
from harvok.core.judgement.criteria import judge
from harvok.core.models.run import RunRecord
from harvok.core.models.site import HERE, RoundKeys, SiteFile, StationKeys
from harvok.core.observer import Observer
from harvok.core.site.failures import BROKEN, failure_of
from harvok.errors import HarvokError, SiteError
from harvok.logbook.store import Logbook
from harvok.rigs.stations import StationsSettings
from harvok.runner.places import place_between
from harvok.runner.request import Label, Sent, TestRequest
from harvok.runner.run import run_test
from harvok.runner.samples import as_series
from harvok.runner.site_files import read_site
from harvok.station.contact import Access
from harvok.worker.child import break_off_at_end_of_input, heed_no_more, say

LOGBOOK = "HARVOK_LOGBOOK"
"""The environment variable that says where runs are kept."""
_BROKEN_OFF = "broken off by the coordinator"
_COMMAND_S = 120.0
"""How long a command before or after a test may take."""


@dataclass(frozen=True, slots=True)
class SiteOrders:
    """Which test of the site in a file is to be run. Where its runs are kept is in the environment: an address of a
    database may hold a password, which no command line may show."""

    site: str
    round: str
    near: list[str]
    far: str

    def encode(self) -> str:
        return json.dumps(asdict(self))


@dataclass(slots=True)
class Came:
    """What a test came to: the ids of its runs, the verdict of its pair, where it failed the kind and the reason."""

    runs: list[str] = field(default_factory=list)
    verdict: str = ""
    failure: str = ""
    reason: str = ""

    def fail(self, error: HarvokError) -> None:
        self.failure, self.reason = failure_of(error.reference).key, error.message


def run_commands(commands: Sequence[str]) -> None:
    """Runs commands on this host, all of them. Raises SiteError for the first that failed."""
    failed = []
    for text in commands:
        try:
            done = subprocess.run(shlex.split(text), capture_output=True, text=True, timeout=_COMMAND_S)
        except (OSError, subprocess.SubprocessError) as error:
            failed.append(f"'{text}' could not be run: {error}")
            continue
        if done.returncode:
            said = (done.stderr or done.stdout).strip().partition("\n")[0]
            failed.append(f"'{text}' ended with exit code {done.returncode}{f': {said}' if said else ''}")
    if failed:
        raise SiteError(failed[0], "Run it by hand, as the user of the coordinator.")


def run_site_test(orders: SiteOrders) -> Came:
    """Runs one test and judges its pair; whatever goes wrong is in what it came to."""
    came, path = Came(), Path(orders.site)
    site = read_site(path)
    keys = site.round(orders.round)
    try:
        run_commands(keys.before)
        for near in orders.near:
            request = _request(site, path.parent, keys, near, orders)
            run_test(request, Observer(), lambda record: came.runs.append(record.id))
            came.verdict = _verdict(keys, request)
    except HarvokError as error:
        came.fail(error)
    except KeyboardInterrupt:
        came.failure, came.reason = BROKEN.key, _BROKEN_OFF
    return came


def _request(site: SiteFile, folder: Path, keys: RoundKeys, near: str, orders: SiteOrders) -> TestRequest:
    far = site.station(orders.far)
    rated_bps = site.rated_of(near, orders.far)
    settings = StationsSettings(far.address, _access(far, folder), rated_bps=rated_bps)
    sent = None
    if near != HERE:
        asked = site.station(near)
        sent = Sent(asked.address, _access(asked, folder), far.reached_at)
    return TestRequest(
        place=place_between(settings, keys.step),
        test=keys.step.build(),
        logbook=os.environ[LOGBOOK],
        command=["harvok", "site", "run", orders.site],
        label=Label(
            site.series(keys.name, near, orders.far),
            {"site": site.name, "round": keys.name, "near": near, "far": orders.far},
        ),
        repeat=keys.repeats,
        sent=sent,
    )


def _access(station: StationKeys, folder: Path) -> Access:
    """What opens a station's door. Raises SiteError for a token that is not there."""
    if station.token_file is None:
        token = os.environ.get("HARVOK_TOKEN", "")
        if not token:
            raise SiteError(f"there is no token for {station.name}", "Name its token_file, or set HARVOK_TOKEN.")
        return Access(token, station.code)
    file = folder / station.token_file
    try:
        return Access(file.read_text(encoding="utf-8").strip(), station.code)
    except (OSError, UnicodeDecodeError) as error:
        raise SiteError(f"the token of {station.name} cannot be read: {error}", "Correct token_file.") from error


def _verdict(keys: RoundKeys, request: TestRequest) -> str:
    """What the latest runs of a pair come to by the criteria of their round; empty without criteria, and before there
    are as many as are judged."""
    series = request.label.series or ""
    criteria = keys.criteria_of(series)
    if not criteria:
        return ""
    with closing(Logbook(request.logbook)) as logbook:
        lines = [line.id for line in logbook.lines(limit=keys.judged_over, series=series)]
        if len(lines) < keys.judged_over:
            return ""
        records: list[RunRecord] = list(logbook.records(lines[::-1]))
    return judge(criteria, {series: as_series(series, records)}, Rules(min_repeats=keys.judged_over)).verdict


def main() -> None:
    orders = SiteOrders(**json.loads(sys.argv[1]))
    try:
        break_off_at_end_of_input()
        came = run_site_test(orders)
    except KeyboardInterrupt:
        came = Came(failure=BROKEN.key, reason=_BROKEN_OFF)
    except Exception as error:  # whatever it is, the coordinator goes on
        fault = error.message if isinstance(error, HarvokError) else f"{type(error).__name__}: {error}"
        came = Came(failure=BROKEN.key, reason=fault)
    heed_no_more()
    say(asdict(came))


if __name__ == "__main__":
    main()
