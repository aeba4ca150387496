"""What a site's coordinator does and did, as its logbook and its file say it."""

from collections import Counter
from contextlib import closing
from dataclasses import dataclass
from datetime import datetime, timedelta

from harvok.core.models.site import SiteFile
from harvok.core.site.outcome import SiteTest
from harvok.core.site.rounds import jobs_between
from harvok.logbook.site_book import SiteBook
from harvok.logbook.store import Logbook
from harvok.reports.site import NextTests
from harvok.runner.site_files import rounds_of

_AHEAD = timedelta(days=32)
_NEXT, _FAILED, _ENDED = 8, 8, 8
_COUNTED = timedelta(days=7)


@dataclass(frozen=True, slots=True)
class SiteStatus:
    """What runs, what waits, what is next; what ended last, what failed or was missed last; and how many tests of the
    last seven days came to what. Times are by the site's clocks."""

    site: str
    zone: str
    running: list[SiteTest]
    waiting: list[SiteTest]
    next: list[NextTests]
    ended: list[SiteTest]
    failed: list[SiteTest]
    week: dict[str, int]


def site_status(site: SiteFile, logbook: str, now: datetime) -> SiteStatus:
    """The status of a site. Raises LogbookError."""
    with closing(Logbook(logbook)) as opened:
        book = SiteBook(opened, site.name)
        return SiteStatus(
            site=site.name,
            zone=site.zone,
            running=book.of_state("running"),
            waiting=book.of_state("waiting"),
            next=next_tests(site, now),
            ended=book.newest(_ENDED, "done"),
            failed=book.newest(_FAILED, "failed", "missed"),
            week=dict(Counter(test.failure or test.state for test in book.since(now - _COUNTED))),
        )


def next_tests(site: SiteFile, now: datetime) -> list[NextTests]:
    """When each round is due next, the soonest first; one that is not due within a month is left out."""
    found = []
    for one in rounds_of(site):
        moment = next(one.due(site.clock, now, now + _AHEAD), None)
        if moment:
            found.append(NextTests(one.name, moment, len(jobs_between([one], site.clock, now, moment))))
    return sorted(found, key=lambda each: each.due)[:_NEXT]
