"""The page of a site: one HTML file that holds everything, in light and dark, on a phone and on paper."""

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from functools import cached_property
from pathlib import Path
from zoneinfo import ZoneInfo

from harvok import __version__
from harvok.core.quantities import QUANTITIES, Quantity
from harvok.core.site.failures import FAILURES
from harvok.core.site.history import History
from harvok.core.site.outcome import SiteTest
from harvok.core.units import format_quantity, format_share
from harvok.reports.history_chart import HistoryChart
from harvok.reports.whole import write_whole

SYMBOLS = {"ACCEPT": "✓", "REJECT": "✗", "RETEST": "?", "failed": "!", "missed": "–", "": "·"}


@dataclass(frozen=True, slots=True)
class Track:
    """One figure of a pair over time, with the limits that it is held to."""

    quantity: str
    of: str
    history: History
    limits: Sequence[float]

    @property
    def meaning(self) -> Quantity:
        return QUANTITIES[self.quantity]

    @property
    def newest(self) -> str:
        return self.shown(self.history.newest.value)

    def shown(self, value: float) -> str:
        """A value with its unit."""
        return format_quantity(value, self.meaning.unit)


@dataclass(frozen=True, slots=True)
class PairSection:
    """A pair in a round: its tests, oldest first, and what they found."""

    round: str
    near: str
    far: str
    tests: Sequence[SiteTest]
    tracks: Sequence[Track]

    @property
    def anchor(self) -> str:
        return f"{self.round}.{self.near}.{self.far}"

    @property
    def headline(self) -> list[Track]:
        """The figures that stand for the pair: those of the first quantity, in each direction."""
        return [track for track in self.tracks if track.quantity == self.tracks[0].quantity]

    @property
    def newest(self) -> SiteTest | None:
        return next((test for test in reversed(self.tests) if test.state in ("done", "failed", "missed")), None)

    @property
    def newest_run(self) -> str:
        """The run of the newest figure; empty where there is none."""
        return self.tracks[0].history.newest.run if self.tracks else ""

    @property
    def state(self) -> str:
        """What is to be seen at a glance: a verdict, failed, missed, done; empty before the first test."""
        newest = self.newest
        if newest is None:
            return ""
        return newest.verdict or "done" if newest.state == "done" else newest.state

    @property
    def said(self) -> str:
        """The same in words: the kind of failure, or the verdict with the newest figure."""
        newest = self.newest
        if newest and newest.failure:
            return FAILURES[newest.failure].name
        return self.state or "no test yet"

    @property
    def symbol(self) -> str:
        return SYMBOLS.get(self.state, "·")

    @property
    def availability(self) -> str:
        """Of the tests that were begun, how many came about."""
        states = Counter(test.state for test in self.tests)
        begun = states["done"] + states["failed"]
        return format_share(states["done"] / begun) if begun else "–"

    @property
    def failures(self) -> list[tuple[str, int]]:
        """How often each kind of failure came, most often first, and missed tests."""
        counts = Counter(
            FAILURES[test.failure].name if test.failure else test.state
            for test in self.tests
            if test.state in ("failed", "missed")
        )
        return counts.most_common()


@dataclass(frozen=True, slots=True)
class RoundSection:
    """A round and its pairs."""

    name: str
    words: str
    at: str
    pairs: Sequence[PairSection]
    groups: Sequence[PairSection] = ()
    """Near ends that begin together, with what they came to together."""

    @property
    def nears(self) -> list[str]:
        return list(dict.fromkeys(pair.near for pair in self.pairs))

    @property
    def fars(self) -> list[str]:
        return list(dict.fromkeys(pair.far for pair in self.pairs))

    def pair(self, near: str, far: str) -> PairSection | None:
        """The pair of these ends; None where the round has none."""
        return next((pair for pair in self.pairs if (pair.near, pair.far) == (near, far)), None)


@dataclass(frozen=True, slots=True)
class NextTests:
    """When a round is due next, and how many tests it has then."""

    round: str
    due: datetime
    tests: int


@dataclass(frozen=True)
class SitePage:
    """Everything that the page shows; times are UTC."""

    site: str
    zone: str
    made: datetime
    since: datetime
    counts: Mapping[str, int]
    running: Sequence[SiteTest]
    rounds: Sequence[RoundSection]
    next: Sequence[NextTests]
    failed: Sequence[SiteTest]
    reports: Mapping[str, str]
    """Where the report of a run is, seen from the page."""

    @cached_property
    def clock(self) -> ZoneInfo:
        return ZoneInfo(self.zone)

    def at(self, moment: datetime | None) -> str:
        """A moment by the site's clocks."""
        return f"{moment.astimezone(self.clock):%Y-%m-%d %H:%M}" if moment else "–"

    def at_s(self, moment_s: float) -> str:
        """The same of seconds since 1970."""
        return self.at(datetime.fromtimestamp(moment_s, self.clock))

    @property
    def counted(self) -> list[tuple[str, int]]:
        """What became of the tests, in words."""
        return [(FAILURES[key].name if key in FAILURES else key, number) for key, number in self.counts.items()]

    def chart(self, pair: PairSection, track: Track) -> HistoryChart:
        """The history of a figure as a drawing."""
        failed = [test.due.timestamp() for test in pair.tests if test.state == "failed"]
        return HistoryChart(
            track.history, track.limits, failed, self.since.timestamp(), self.made.timestamp(), self.clock, track.shown
        )


def write_site_page(page: SitePage, path: Path) -> None:
    """Writes it in place of an older one, whole or not at all. Raises UsageError for a file that cannot be written."""
    from jinja2 import Environment, PackageLoader

    pages = Environment(loader=PackageLoader("harvok", "reports"), autoescape=True, trim_blocks=True)
    pages.globals |= {"symbols": SYMBOLS, "failures": FAILURES}
    text = pages.get_template("site.html.j2").render(page=page, version=__version__)
    write_whole(text.encode(), path)
