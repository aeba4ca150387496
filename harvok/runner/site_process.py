"""The process in which a coordinator runs one test of a round: it keeps the runs in the logbook, judges them, and says
what it came to. It breaks the test off when its input ends."""

import os
import shlex
import subprocess
import sys
from collections.abc import Sequence
from contextlib import closing, suppress
from dataclasses import asdict
from pathlib import Path

from harvok.core.judgement.assessment import Rules
from harvok.core.judgement.criteria import judge
from harvok.core.models.rig import Port, PortsRig
from harvok.core.models.run import RunRecord
from harvok.core.models.site import HERE, RoundKeys, SiteFile, StationKeys
from harvok.core.observer import Observer
from harvok.core.site.failures import BROKEN
from harvok.errors import HarvokError, LogbookError, NothingFoundError, SiteError
from harvok.logbook.store import Logbook
from harvok.rigs.stations import StationsSettings
from harvok.runner.places import place_between
from harvok.runner.request import Label, Place, RigPlace, Sent, TestRequest
from harvok.runner.run import run_test
from harvok.runner.samples import as_series
from harvok.runner.site_files import read_site
from harvok.runner.site_orders import LOGBOOK, Came, SiteOrders, decode_orders
from harvok.runner.site_together import run_together, together
from harvok.signals import heed_no_more
from harvok.station.contact import Access
from harvok.worker.child import break_off_at_end_of_input, say

_BROKEN_OFF = "broken off by the coordinator"
_COMMAND_S = 120.0
"""How long a command before or after a test may take."""


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
        if not orders.start:
            run_commands(keys.before)
        if len(orders.near) > 1:
            came = run_together(orders, keys)
            came.figures = _figures_of(came.runs)
        else:
            request = _request(site, path.parent, keys, orders)
            run_test(request, Observer(), lambda record: came.runs.append(record.id))
            with suppress(LogbookError):  # it is away now; the next test is judged again
                came.verdict = _verdict(keys, request)
    except HarvokError as error:
        came.fail(error)
    except KeyboardInterrupt:
        came.failure, came.reason = BROKEN.key, _BROKEN_OFF
    return came


def _figures_of(runs: Sequence[str]) -> list[tuple[str, float, dict[str, str]]]:
    """What several near ends came to together."""
    try:
        with closing(Logbook(os.environ[LOGBOOK])) as logbook:
            found = together(list(logbook.records(runs))) if runs else []
    except (LogbookError, NothingFoundError):  # it is away now, and the runs wait for it
        return []
    return [(one.quantity, one.value, one.labels) for one in found]


def _request(site: SiteFile, folder: Path, keys: RoundKeys, orders: SiteOrders) -> TestRequest:
    far, near = site.station(orders.far), orders.near[0]
    rated_bps = site.rated_of(near, orders.far)
    sent: Sent | None = None
    place: Place | None = None
    if keys.step.place == "rig":
        place = _rig_place(site, folder, near, orders.far)
    if place is None:
        settings = StationsSettings(far.address, _access(far, folder), rated_bps=rated_bps, start=orders.start)
        place = place_between(settings, keys.step)
    if near != HERE and keys.step.place == "station":
        asked = site.station(near)
        sent = Sent(asked.address, _access(asked, folder), far.reached_at)
    return TestRequest(
        place=place,
        test=keys.step.build(rated_bps or 0.0),
        logbook=os.environ[LOGBOOK],
        command=["harvok", "site", "run", orders.site],
        label=Label(
            site.series(keys.name, near, orders.far),
            {"site": site.name, "round": keys.name, "near": near, "far": orders.far},
        ),
        repeat=keys.repeats,
        sent=sent,
    )


def _rig_place(site: SiteFile, folder: Path, near: str, far: str) -> RigPlace:
    """The ports that two stations lend, as a rig."""
    ports = {name: _port(site.station(name), folder) for name in (near, far)}
    rated_bps = site.rated_of(near, far) or 0.0
    return RigPlace(PortsRig(version=1, name=f"{near}-{far}", rated=rated_bps, kind="remote", ports=ports))


def _port(station: StationKeys, folder: Path) -> Port:
    token_file = str((folder / station.token_file).resolve()) if station.token_file else None
    return Port(interface=station.frame_port or "", station=station.address, code=station.code, token_file=token_file)


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
    orders = decode_orders(sys.argv[1])
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
