"""What a site's coordinator says as it goes on, and its status."""

from collections.abc import Sequence
from datetime import datetime
from zoneinfo import ZoneInfo

from rich.console import Console
from rich.text import Text

from harvok.cli.render.console import print_hanging
from harvok.cli.render.tables import PlainTable, plain_table
from harvok.cli.render.words import DASH
from harvok.cli.verdicts import EXIT_CODES, worst_of
from harvok.core.models.site import SiteFile
from harvok.core.site.failures import FAILURES
from harvok.core.site.outcome import SiteTest
from harvok.core.units import counted, format_span
from harvok.errors import HarvokError
from harvok.logbook.places import without_password
from harvok.runner.site_status import SiteStatus

_STYLES = {"ACCEPT": "green", "REJECT": "red", "RETEST": "yellow", "failed": "red", "missed": "yellow"}


class SiteView:
    """A line for each thing that happens."""

    def __init__(self, console: Console, site: SiteFile, logbook: str) -> None:
        self._console, self._site = console, site
        self._logbook = without_password(logbook)

    def begins(self) -> None:
        """What is about to be done."""
        rounds, stations = counted(len(self._site.rounds), "round"), counted(len(self._site.stations), "station")
        said = f"  {rounds} between {stations}, times in {self._site.zone}, into {self._logbook}; Ctrl-C ends"
        self._console.print(Text.assemble((self._site.name, "bold"), said), soft_wrap=True)

    def ended(self) -> None:
        self._console.print("ended; what waits is gone on with by the next `harvok site run`", soft_wrap=True)

    def tell(self, test: SiteTest) -> None:
        """One test that begins, or is over."""
        moment = (test.began if test.state == "running" else test.ended) or test.due
        at = f"{moment.astimezone(self._site.clock):%H:%M:%S}  "
        parts = [(at, "dim"), (f"{test.round}  {test.pair}  ", ""), _said(test)]
        self._console.print(Text.assemble(*parts), soft_wrap=True)
        if test.failure:
            print_hanging(self._console, Text("          next: ", "bold"), FAILURES[test.failure].advice)
        self._console.file.flush()

    def exit_code(self, tests: Sequence[SiteTest]) -> int:
        """That of what became of some tests: one that failed weighs most."""
        if any(test.state == "failed" for test in tests):
            return HarvokError.exit_code
        return worst_of(EXIT_CODES[test.verdict] for test in tests if test.verdict)


def _said(test: SiteTest) -> tuple[str, str]:
    """What became of a test, in words, and how they look."""
    if test.state == "running":
        return "begins", ""
    if test.state == "done":
        return test.verdict or "done", _STYLES.get(test.verdict, "")
    what = FAILURES[test.failure].name if test.failure else "missed"
    return f"{what}: {test.reason}", _STYLES[test.state]


def show_status(console: Console, found: SiteStatus) -> None:
    """What runs, what is next, what ended and what failed last."""
    zone = ZoneInfo(found.zone)
    week = ", ".join(f"{number} {FAILURES[key].name if key in FAILURES else key}" for key, number in found.week.items())
    console.print(Text.assemble((found.site, "bold"), f"  in seven days: {week or 'nothing yet'}"), soft_wrap=True)
    console.print()
    if found.running or found.waiting:
        console.print(_under_way(found, zone))
        console.print()
    table = plain_table(("next", "due"), ("tests",))
    for one in found.next:
        table.add_row(one.round, _at(one.due, zone), str(one.tests))
    console.print(table)
    if found.ended:
        console.print()
        console.print(_ended(found.ended, zone))
    if found.failed:
        console.print()
        console.print("failed or missed last", style="bold")
        for test in found.failed:
            print_hanging(console, Text(f"{_at(test.due, zone)}  {test.round}  {test.pair}  "), _said(test)[0])


def _under_way(found: SiteStatus, zone: ZoneInfo) -> PlainTable:
    table = plain_table(("now", "round", "pair", "due", "began"))
    for state, tests in (("runs", found.running), ("waits", found.waiting)):
        for test in tests:
            table.add_row(state, test.round, test.pair, _at(test.due, zone), _at(test.began, zone))
    return table


def _ended(tests: Sequence[SiteTest], zone: ZoneInfo) -> PlainTable:
    table = plain_table(("ended last", "pair", "due", "took", "what became of it"))
    for test in tests:
        took = format_span(round((test.ended - test.began).total_seconds())) if test.began and test.ended else DASH
        said, style = _said(test)
        table.add_row(test.round, test.pair, _at(test.due, zone), took, Text(said, style))
    return table


def _at(moment: datetime | None, zone: ZoneInfo) -> str:
    return f"{moment.astimezone(zone):%Y-%m-%d %H:%M:%S}" if moment else DASH
