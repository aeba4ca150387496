"""Gathers from the logbook what a site's page shows."""

from collections import Counter, defaultdict
from collections.abc import Callable, Mapping, Sequence
from contextlib import closing
from datetime import datetime, timedelta
from pathlib import Path

from harvok.core.judgement.assessment import Criterion
from harvok.core.kinds.table import kind_of
from harvok.core.labels import label_text
from harvok.core.models.site import RoundKeys, SiteFile
from harvok.core.site.history import History, Seen, history_of
from harvok.core.site.outcome import AND, SiteTest
from harvok.logbook.site_book import SiteBook
from harvok.logbook.store import Logbook
from harvok.reports.site import PairSection, RoundSection, SitePage, Track
from harvok.reports.written import PICTURES, write_report
from harvok.runner.reports import Signature, report_of_runs
from harvok.runner.site_status import next_tests

_MAX_TRACKS = 4
_MAX_FAILED = 20
Key = tuple[str, str, tuple[tuple[str, str], ...]]
"""A series, a quantity and labels."""


def site_page(
    site: SiteFile, logbook: str, now: datetime, days: float, reports: Callable[[Sequence[str]], Mapping[str, str]]
) -> SitePage:
    """The page of a site, with the history of so many days; `reports` says where those of some runs are. Raises
    LogbookError."""
    since = now - timedelta(days=days)
    with closing(Logbook(logbook)) as opened:
        book = SiteBook(opened, site.name)
        tests, histories = book.since(since), _histories(site, opened, since)
        running = book.of_state("running")
    by_pair: dict[tuple[str, str, str], list[SiteTest]] = defaultdict(list)
    for test in tests:
        for near in test.near:
            by_pair[test.round, near, test.far].append(test)
    rounds = [_round(site, keys, by_pair, histories) for keys in site.rounds]
    newest = [pair.newest_run for one in rounds for pair in one.pairs]
    return SitePage(
        site=site.name,
        zone=site.zone,
        made=now,
        since=since,
        counts=Counter(test.failure or test.state for test in tests),
        running=running,
        rounds=rounds,
        next=next_tests(site, now),
        failed=[test for test in reversed(tests) if test.state in ("failed", "missed")][:_MAX_FAILED],
        reports=reports([run for run in newest if run]),
    )


def no_reports(runs: Sequence[str]) -> dict[str, str]:  # noqa: ARG001
    """For a page that stands alone."""
    return {}


def reports_beside(page: Path, logbook: str) -> Callable[[Sequence[str]], dict[str, str]]:
    """Writes the reports of runs into a folder beside a page, and removes those that it no longer names."""

    def write(runs: Sequence[str]) -> dict[str, str]:
        folder = page.with_name(f"{page.stem}-reports")
        folder.mkdir(exist_ok=True)
        wanted = {run: folder / f"{run}.html" for run in runs}
        for run, file in wanted.items():
            if not file.exists():
                write_report(report_of_runs(logbook, [run], [], Signature(pictures=PICTURES[".html"])), file)
        for old in set(folder.glob("*.html")) - set(wanted.values()):
            old.unlink()
        return {run: f"{folder.name}/{file.name}" for run, file in wanted.items()}

    return write


def quantities_of_round(keys: RoundKeys) -> list[str]:
    """What a round's history is of: the figures that stand for a run, and those with limits."""
    limited = [one.figure for one in keys.criteria]
    return list(dict.fromkeys([*kind_of(keys.step.example).headline[:1], *limited]))


def pairs_of(site: SiteFile, keys: RoundKeys) -> list[tuple[str, str]]:
    """Each near end of a round with its far end."""
    return [(near, far) for group, far in site.groups_of(keys) for near in group]


def _histories(site: SiteFile, logbook: Logbook, since: datetime) -> dict[str, dict[Key, History]]:
    """By series, what each of its figures was."""
    found: dict[str, dict[Key, History]] = defaultdict(dict)
    for keys in site.rounds:
        for key, values in seen_of(site, logbook, keys, pairs_of(site, keys), since).items():
            found[key[0]][key] = history_of(values, utc_offset_s(site, values))
    return found


def seen_of(
    site: SiteFile, logbook: Logbook, keys: RoundKeys, pairs: Sequence[tuple[str, str]], since: datetime
) -> dict[Key, list[Seen]]:
    """What was measured between some pairs of a round since a moment, in the order of time."""
    seen: dict[Key, list[Seen]] = defaultdict(list)
    series = [site.series(keys.name, near, far) for near, far in pairs]
    for name, quantity, one in logbook.series_values(series, quantities_of_round(keys), since):
        labels = tuple(sorted(one.labels.items()))
        seen[name, quantity, labels].append(Seen(one.started.timestamp(), one.value, one.run))
    return seen


def _round(
    site: SiteFile,
    keys: RoundKeys,
    by_pair: Mapping[tuple[str, str, str], Sequence[SiteTest]],
    histories: Mapping[str, Mapping[Key, History]],
) -> RoundSection:
    pairs, quantities = [], quantities_of_round(keys)
    for near, far in pairs_of(site, keys):
        series = site.series(keys.name, near, far)
        tests = by_pair.get((keys.name, near, far), ())
        limits = keys.criteria_of(series)
        found = sorted(histories.get(series, {}).items(), key=lambda one: quantities.index(one[0][1]))
        pairs.append(PairSection(keys.name, near, far, tests, _tracks(dict(found), limits)))
    groups = [] if not keys.together else [_group(site, keys, near, far, by_pair) for near, far in site.groups_of(keys)]
    return RoundSection(keys.name, keys.step.words, keys.at, pairs, groups)


def _group(
    site: SiteFile,
    keys: RoundKeys,
    near: tuple[str, ...],
    far: str,
    by_pair: Mapping[tuple[str, str, str], Sequence[SiteTest]],
) -> PairSection:
    """What near ends that begin together came to together."""
    tests = by_pair.get((keys.name, near[0], far), ())
    seen: dict[Key, list[Seen]] = defaultdict(list)
    for test in tests:
        for one in test.figures:
            key = ("", one.quantity, tuple(sorted(one.labels.items())))
            seen[key].append(Seen(test.due.timestamp(), one.value, ""))
    histories = {key: history_of(values, utc_offset_s(site, values)) for key, values in seen.items()}
    return PairSection(keys.name, AND.join(near), far, tests, _tracks(histories, []))


def utc_offset_s(site: SiteFile, seen: Sequence[Seen]) -> float:
    """What the site's clocks are ahead of UTC by."""
    offset = datetime.fromtimestamp(seen[-1].at_s, site.clock).utcoffset() or timedelta()
    return offset.total_seconds()


def _tracks(histories: Mapping[Key, History], limits: Sequence[Criterion]) -> list[Track]:
    tracks = []
    for (_, quantity, labels), history in list(histories.items())[:_MAX_TRACKS]:
        named = dict(labels)
        about = [one for one in limits if one.quantity == quantity and one.labels.items() <= named.items()]
        lowest = [one.minimum for one in about if one.minimum is not None]
        highest = [one.maximum for one in about if one.maximum is not None]
        tracks.append(Track(quantity, label_text(named), history, [*lowest, *highest]))
    return tracks
