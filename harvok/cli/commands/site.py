"""`harvok site`: many stations, tested again and again on a schedule."""

from datetime import datetime, timedelta
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from harvok.cli.options import DAY_S, JsonOption, LogbookOption, Overwrite, duration, print_json

if TYPE_CHECKING:
    from harvok.core.models.site import SiteFile
    from harvok.core.site.outcome import SiteTest
    from harvok.core.site.queue import Job
    from harvok.runner.site_files import Outlook
    from harvok.runner.site_tests import SiteSetting

app = typer.Typer(
    add_completion=False, no_args_is_help=True, help="Coordinate tests between many stations, again and again."
)

SitePath = Annotated[Path, typer.Argument(metavar="SITE", help="The site, a TOML file.")]
_LONGEST_S = 92 * DAY_S
_Begin = Annotated[
    datetime | None,
    typer.Option(
        "--from",
        formats=["%Y-%m-%d", "%Y-%m-%dT%H:%M", "%Y-%m-%d %H:%M"],
        metavar="MOMENT",
        show_default="now",
        help="From when on, by the site's clocks: 2026-11-26T12:00.",
    ),
]


def _ahead(usual: str) -> Any:
    return typer.Option(
        "--for", parser=duration(60, _LONGEST_S), metavar="TIME", show_default=usual, help="How long to look ahead."
    )


@app.command()
def new(file: SitePath, overwrite: Overwrite = False) -> None:
    """Write a site with comments, to be changed."""
    from harvok.cli.files import check_free, writing
    from harvok.runner.site_files import SITE_TEXT

    check_free(file, overwrite)
    with writing(file) as out:
        out.write(SITE_TEXT)
    typer.echo(f"written: {file}; `harvok site check {file}` says whether its schedule fits")


@app.command(epilog="Exit codes: 0 it fits, 1 it does not, 2 the file is wrong.")
def check(
    file: SitePath,
    begin: _Begin = None,
    for_: Annotated[float, _ahead("7 days")] = 7 * DAY_S,
    json: JsonOption = False,
) -> None:
    """Check a site, and whether its schedule fits.

    Every round of the coming week is gone through in virtual time, each
    test as long as it should take: how busy stations and shared links
    are, how long tests wait for each other, and which would be missed.
    """
    site, found = _looked(file, begin, for_)
    if json:
        typer.echo(_as_json(found))
    else:
        from harvok.cli.render.console import stdout
        from harvok.cli.render.site import show_check

        show_check(stdout(), site, found)
    raise typer.Exit(0 if found.fits else 1)


@app.command()
def plan(
    file: SitePath,
    begin: _Begin = None,
    for_: Annotated[float, _ahead("1 day")] = DAY_S,
    json: JsonOption = False,
) -> None:
    """Show which tests run when, and how long each waits for its turn."""
    site, found = _looked(file, begin, for_)
    if json:
        typer.echo(_as_json(found))
        return
    from harvok.cli.render.console import stdout
    from harvok.cli.render.site import show_schedule

    show_schedule(stdout(), site, found)


@app.command(epilog="Exit codes: 0 ended as asked; with --once 1 REJECT, 3 RETEST, 4 a test failed; 2 wrong usage.")
def run(
    file: SitePath,
    logbook: LogbookOption,
    once: Annotated[bool, typer.Option("--once", help="Run every test of every round once, now, and end.")] = False,
    for_: Annotated[
        float | None,
        typer.Option(
            "--for",
            parser=duration(1, _LONGEST_S),
            metavar="TIME",
            show_default="until Ctrl-C or SIGTERM",
            help="End after so long.",
        ),
    ] = None,
    shared: Annotated[
        bool,
        typer.Option(
            "--shared", help="Share the work with coordinators elsewhere, through the logbook's PostgreSQL database."
        ),
    ] = False,
    page: Annotated[
        Path | None,
        typer.Option(metavar="FILE", help="Write the site's page into this .html file after tests."),
    ] = None,
    metrics: Annotated[
        Path | None,
        typer.Option(metavar="FILE", help="Write the newest figures as OpenMetrics text into this file after tests."),
    ] = None,
    compress: Annotated[
        float,
        typer.Option(
            min=1, max=1000, help="Have the site's clocks go so many times faster, to try a schedule; tests do not."
        ),
    ] = 1.0,
) -> None:
    """Coordinate a site: run each test when it is due.

    Never two at one time over one station or shared link. What was due
    while no coordinator ran is begun if it is not too late, and else told
    as missed. Each test's runs go into the logbook as series of their own.

    With --shared any number of coordinators work for one site: one plans,
    all run tests, and another one plans when that is gone.
    """
    from harvok.clock import SYSTEM
    from harvok.runner.site_files import read_site
    from harvok.runner.site_tests import Pace, SiteSetting

    if shared and (once or compress != 1):
        raise typer.BadParameter("goes with neither --once nor --compress", param_hint="'--shared'")
    begins = SYSTEM.utc()
    setting = SiteSetting(read_site(file), file.resolve(), logbook, Pace(SYSTEM, begins, compress))
    until = begins + timedelta(seconds=for_) if for_ else None
    raise typer.Exit(_coordinate(setting, until, once, shared, page, metrics))


def _coordinate(
    setting: "SiteSetting", until: "datetime | None", once: bool, shared: bool, page: Path | None, metrics: Path | None
) -> int:
    """Runs a site until it is asked to end; returns the exit code."""
    from harvok.cli.render.console import print_note, stdout
    from harvok.cli.render.site_runs import SiteView
    from harvok.runner.alarms import Alarms
    from harvok.runner.page_writer import PageWriter
    from harvok.runner.site_runs import Coordinator

    site, logbook = setting.site, setting.logbook
    view = SiteView(stdout(), site, logbook)
    with PageWriter(setting.path, page, metrics, logbook) as writer, Alarms(site, logbook, print_note) as alarms:

        def hear(test: "SiteTest") -> None:
            writer.is_due(test)
            alarms.hear(test)

        def tell(test: "SiteTest") -> None:
            view.tell(test)
            hear(test)

        if once:
            return view.exit_code(Coordinator(setting, tell, print_note).run_once())
        view.begins()
        if shared:
            from harvok.runner.site_shared import SharedCoordinator  # whose packages need not be there

            SharedCoordinator(setting, view.tell, hear, print_note).run(until)
        else:
            Coordinator(setting, tell, print_note).run(until)
        view.ended()
    return 0


@app.command()
def status(
    file: SitePath,
    logbook: LogbookOption,
    json: JsonOption = False,
) -> None:
    """Show what runs, what is next, and what failed last."""
    from harvok.cli.render.console import stdout
    from harvok.cli.render.site_runs import show_status
    from harvok.clock import SYSTEM
    from harvok.runner.site_files import read_site
    from harvok.runner.site_status import site_status

    found = site_status(read_site(file), logbook, SYSTEM.utc())
    if json:
        print_json(found)
        return
    show_status(stdout(), found)


@app.command()
def page(
    file: SitePath,
    logbook: LogbookOption,
    to: Annotated[Path | None, typer.Option(metavar="FILE", help="Where to write it, an .html file.")] = None,
    metrics: Annotated[
        Path | None, typer.Option(metavar="FILE", help="Write the newest figures as OpenMetrics text into this file.")
    ] = None,
    days: Annotated[int, typer.Option(min=1, max=366, help="How much of the past it shows, in days.")] = 28,
    reports: Annotated[
        bool, typer.Option("--reports", help="Write a report of each pair's newest run beside it, and link them.")
    ] = False,
) -> None:
    """Write the site's page: verdicts, histories and changes of level.

    One HTML file that needs nothing else, unless --reports puts others
    beside it. `harvok site run --page FILE` writes it anew after tests.
    """
    from harvok.clock import SYSTEM
    from harvok.reports.site import write_site_page
    from harvok.runner.site_files import read_site
    from harvok.runner.site_page import no_reports, reports_beside, site_page

    if to is None and metrics is None:
        raise typer.BadParameter("name a file to write", param_hint="'--to'")
    beside = reports_beside(to, logbook) if reports and to else no_reports
    found = site_page(read_site(file), logbook, SYSTEM.utc(), days, beside)
    if to:
        write_site_page(found, to)
        typer.echo(f"written: {to}")
    if metrics:
        from harvok.reports.metrics import write_metrics

        write_metrics(found, metrics)
        typer.echo(f"written: {metrics}")


@app.command()
def unit(
    file: SitePath,
    user: Annotated[str, typer.Option(help="The user that coordinates: whose keys the stations know.")] = "harvok",
    shared: Annotated[bool, typer.Option("--shared", help="Share the work with coordinators elsewhere.")] = False,
) -> None:
    """Print a systemd unit that coordinates this site."""
    from harvok.runner.site_files import read_site
    from harvok.runner.units import site_unit

    typer.echo(site_unit(read_site(file).name, file.resolve(), user, shared), nl=False)


def _looked(file: Path, begin: datetime | None, for_s: float) -> "tuple[SiteFile, Outlook]":
    from harvok.clock import SYSTEM
    from harvok.runner.site_files import outlook, read_site

    site = read_site(file)
    begins = begin.replace(tzinfo=site.clock) if begin else SYSTEM.utc().astimezone(site.clock)
    return site, outlook(site, begins, timedelta(seconds=for_s))


def _as_json(found: "Outlook") -> str:
    from pydantic_core import to_json

    def told(job: "Job", **more: object) -> dict[str, object]:
        due = datetime.fromtimestamp(job.due_s, found.begins.tzinfo)
        return {"round": job.round, "near": job.near, "far": job.far, "due": due, **more}

    tests = [
        told(stay.job, wait_s=round(stay.late_s, 3), needs=sorted(stay.job.needs)) for stay in found.forecast.stays
    ]
    missed = [told(one.job, waited_for=one.waited_for, held_by=one.held_by) for one in found.forecast.missed]
    about = {"fits": found.fits, "from": found.begins, "to": found.ends, "busy": found.busy()}
    return to_json(about | {"tests": tests, "missed": missed}, indent=2).decode()
