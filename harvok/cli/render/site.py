"""A site's schedule: how it fits, and what runs when."""

from collections import Counter
from collections.abc import Iterator
from datetime import datetime

from rich.console import Console
from rich.text import Text

from harvok.cli.render.console import print_hanging
from harvok.cli.render.tables import PlainTable, plain_table
from harvok.cli.render.words import DASH
from harvok.core.models.site import RoundKeys, SiteFile
from harvok.core.site.queue import Job
from harvok.core.units import counted, format_share, format_span, format_speed
from harvok.runner.site_files import Outlook

_MAX_MISSED = 5
_DAY_S = 86_400.0


def show_check(console: Console, site: SiteFile, found: Outlook) -> None:
    """The site, its rounds and its links, and whether the schedule fits."""
    _show_site(console, site)
    console.print()
    console.print(_rounds(site, found))
    console.print()
    console.print(_busy(site, found))
    console.print()
    length_s = (found.ends - found.begins).total_seconds()
    length = counted(round(length_s / _DAY_S), "day") if length_s % _DAY_S == 0 else format_span(length_s)
    span = f"{counted(len(found.jobs), 'test')} in {length} from {found.begins:%Y-%m-%d %H:%M}"
    if found.fits:
        console.print(Text.assemble(("fits ", "bold green"), f"every one of {span} begins in time"), soft_wrap=True)
        return
    missed = counted(len(found.forecast.missed), "test")
    console.print(Text.assemble(("does not fit ", "bold red"), f"{missed} of {span} would be missed"), soft_wrap=True)
    for line in _reasons(found):
        print_hanging(console, Text("  "), line)
    advice = "Test more seldom, shorter or between fewer, or allow more time with late."
    print_hanging(console, Text("  next: ", "bold"), advice)


def _show_site(console: Console, site: SiteFile) -> None:
    parts = [counted(len(site.stations), "station"), counted(len(site.links), "shared link")]
    parts += [counted(len(site.rounds), "round"), f"times in {site.zone}"]
    console.print(Text.assemble((site.name, "bold"), f"  {', '.join(parts)}"), soft_wrap=True)
    for link in site.links:
        rated = f", rated {format_speed(link.rated)}" if link.rated else ""
        print_hanging(console, Text("shared ", "bold"), f"{link.name}{rated}: before {', '.join(link.behind)}")


def _rounds(site: SiteFile, found: Outlook) -> PlainTable:
    table = plain_table(("round", "test", "due", "between"), ("takes", "tests", "longest wait", "missed"))
    tests = Counter(job.round for job in found.jobs)
    waits, missed = found.forecast.longest_wait_s(), found.forecast.missed_of()
    for one in site.rounds:
        table.add_row(
            one.name,
            one.step.words,
            one.at,
            _between(site, one),
            format_span(one.expected_s),
            str(tests[one.name]),
            format_span(waits.get(one.name, 0.0)),
            str(missed.get(one.name, 0)),
        )
    return table


def _between(site: SiteFile, one: RoundKeys) -> str:
    groups = list(site.groups_of(one))
    if one.together:
        return f"{counted(sum(len(near) for near, _ in groups), 'near end')} at once"
    return f"{groups[0][0][0]} – {groups[0][1]}" if len(groups) == 1 else counted(len(groups), "pair")


def _busy(site: SiteFile, found: Outlook) -> PlainTable:
    table = plain_table(("station or link",), ("busy",))
    busy = found.busy()
    for name in [*(link.name for link in site.links), *(station.name for station in site.stations)]:
        table.add_row(name, format_share(busy.get(name, 0.0)))
    return table


def _reasons(found: Outlook) -> Iterator[str]:
    """Why tests would be missed, most often first."""
    reasons = Counter((one.job.round, one.waited_for) for one in found.forecast.missed)
    for (name, waited_for), times in reasons.most_common(_MAX_MISSED):
        yield f"{name}: {times} of its tests would wait too long for {waited_for}"


def show_schedule(console: Console, site: SiteFile, found: Outlook) -> None:
    """A line for each test in the order in which they begin, then those that are missed."""
    table = plain_table(("due", "begins", "round", "near", "far"), ("waits", "takes"))
    for stay in sorted(found.forecast.stays, key=lambda stay: (stay.began_s, stay.job.name)):
        begins = f"{_at(site, stay.began_s):%H:%M:%S}"
        waits = format_span(stay.late_s) if stay.late_s else DASH
        table.add_row(*_row(site, stay.job, begins), waits, format_span(stay.ended_s - stay.began_s))
    for one in found.forecast.missed:
        table.add_row(*_row(site, one.job, "missed"), one.waited_for, DASH)
    console.print(table)


def _row(site: SiteFile, job: Job, begins: str) -> tuple[str, ...]:
    return f"{_at(site, job.due_s):%Y-%m-%d %H:%M}", begins, job.round, " + ".join(job.near), job.far


def _at(site: SiteFile, moment_s: float) -> datetime:
    return datetime.fromtimestamp(moment_s, site.clock)
