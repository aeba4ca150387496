"""`harvok logbook`: what was measured, and records in and out."""

import sys
from collections import Counter
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from harvok.cli import completing
from harvok.cli.options import DAY_S, JsonOption, LogbookOption, Overwrite, Picture, check_picture, duration, print_json
from harvok.errors import LogbookError
from harvok.logbook.places import without_password

if TYPE_CHECKING:
    from harvok.core.models.run import RunRecord
    from harvok.logbook.listing import RunLine
    from harvok.logbook.store import Logbook

app = typer.Typer(add_completion=False, no_args_is_help=True, help="List, show, export, import and remove runs.")

_REASONS_SHOWN = 5
_RUN_HELP = "A run's id, its unique beginning or ending, or `last`."


@contextmanager
def _open(place: str) -> "Iterator[Logbook]":
    from harvok.logbook.store import Logbook

    logbook = Logbook(place)
    try:
        yield logbook
    finally:
        logbook.close()


@app.command("list")
def list_runs(
    logbook: LogbookOption,
    series: Annotated[
        str | None, typer.Option(metavar="NAME", autocompletion=completing.series, help="Only this series.")
    ] = None,
    limit: Annotated[int, typer.Option(min=1, help="Maximum number of runs to list, newest first.")] = 20,
    everything: Annotated[bool, typer.Option("--all", help="List every run.")] = False,
    json: JsonOption = False,
) -> None:
    """List runs, newest first."""
    lines, total = _lines(logbook, None if everything else limit, series)
    if json:
        from harvok.cli.render.logbook import lines_as_json

        typer.echo(lines_as_json(lines))
        return
    from harvok.cli.render.console import stdout
    from harvok.cli.render.logbook import show_lines

    show_lines(stdout(), lines, total, without_password(logbook))


def _lines(place: str, limit: int | None, series: str | None) -> "tuple[list[RunLine], int]":
    """At a glance where that is enough, else from the open logbook."""
    from harvok.logbook.listing import glance

    found = glance(place, limit, series)
    if found:
        return found
    with _open(place) as book:
        return book.lines(limit, series), book.count(series)


@app.command()
def show(
    logbook: LogbookOption,
    run: Annotated[str, typer.Argument(metavar="RUN", autocompletion=completing.runs, help=_RUN_HELP)] = "last",
    plot: Annotated[
        Path | None,
        typer.Option(metavar="FILE", help="Draw a trial over time (PNG, SVG), or write all its samples (CSV)."),
    ] = None,
    trial: Annotated[
        int | None, typer.Option(min=1, help="Which trial to draw.", show_default="that with events, or the last")
    ] = None,
    json: JsonOption = False,
) -> None:
    """Show a run: result, conditions, every interval; or draw it over time."""
    check_picture(plot, ".csv")
    with _open(logbook) as book:
        record = book.record(book.find(run))
    if plot is not None:
        _plot(record, plot, trial)
        return
    if json:
        typer.echo(record.model_dump_json(indent=2))
        return
    from harvok.cli.render.console import stdout
    from harvok.cli.render.record import show_record

    show_record(stdout(), record)


def _plot(record: "RunRecord", file: Path, trial: int | None) -> None:
    """Draws a trial over time, or writes everything that was seen as a table."""
    from harvok.cli.files import writing
    from harvok.cli.render.console import stderr
    from harvok.reports.timeline import draw_timeline, write_axis

    if file.suffix.lower() == ".csv":
        with writing(file) as out:
            write_axis(record, out)
    else:
        draw_timeline(record, file, trial)
    stderr().print(f"{'written to' if file.suffix == '.csv' else 'drawn in'} {file}", soft_wrap=True)


@app.command()
def salvage(
    logbook: LogbookOption,
    to: Annotated[Path, typer.Option(metavar="FILE", help="File to write, as `export` does.")],
    overwrite: Overwrite = False,
) -> None:
    """Write every run that a damaged logbook still has.

    Nothing is changed; `harvok logbook import` takes the file.
    """
    from harvok.cli.files import check_free, writing
    from harvok.logbook.exchange import write_records
    from harvok.logbook.salvage import salvage as every_run

    check_free(to, overwrite)
    lost: list[str] = []

    def readable() -> "Iterator[RunRecord]":
        for found in every_run(logbook):
            if isinstance(found, LogbookError):
                lost.append(found.message)
            else:
                yield found

    with writing(to) as out:
        count = write_records(readable(), out)
    print(f"{count} runs written to {to}, {len(lost)} rows could not be read", file=sys.stderr)
    for reason in lost[:_REASONS_SHOWN]:
        print(f"  {reason}", file=sys.stderr)


@app.command()
def sweep(
    logbook: LogbookOption,
    name: Annotated[str, typer.Argument(metavar="SWEEP", help="What all series of the sweep begin with.")],
    plot: Picture = None,
    json: JsonOption = False,
) -> None:
    """Show a sweep again: its matrix, and what it says."""
    from harvok.cli.render.sweep import show_readings
    from harvok.runner.stored_sweeps import stored_sweep

    check_picture(plot)
    with _open(logbook) as book:
        readings = stored_sweep(book, name).readings()
    show_readings(name, readings, plot, json)


@app.command()
def export(
    logbook: LogbookOption,
    runs: Annotated[
        list[str] | None,
        typer.Argument(metavar="[RUN]...", autocompletion=completing.runs, help=_RUN_HELP, show_default="all"),
    ] = None,
    series: Annotated[
        str | None, typer.Option(metavar="NAME", autocompletion=completing.series, help="Every run of this series.")
    ] = None,
    to: Annotated[
        Path | None, typer.Option(metavar="FILE", help="File to write.", show_default="standard output")
    ] = None,
) -> None:
    """Write runs as JSON Lines, one whole record a line."""
    from harvok.cli.files import writing
    from harvok.logbook.exchange import write_records

    with _open(logbook) as book:
        ids = [book.find(run) for run in runs or []]
        ids += [line.id for line in reversed(book.lines(series=series))] if series or not runs else []
        with writing(to) as out:
            count = write_records(book.records(ids), out)
    print(f"{count} runs written{f' to {to}' if to else ''}", file=sys.stderr)


@app.command("import")
def import_runs(
    logbook: LogbookOption,
    files: Annotated[list[Path], typer.Argument(metavar="FILE...", help="Files that `export` wrote.")],
) -> None:
    """Add runs from files; what is there already is left alone.

    A run that broke off here and is whole in a file is replaced by it.
    """
    from harvok.logbook.exchange import read_records

    records = [record for file in files for record in read_records(file)]  # all are read before any is added
    with _open(logbook) as book:
        became = Counter(book.add(record) for record in records)
    replaced = f"{became['replaced']} took the place of what had broken off, " if became["replaced"] else ""
    typer.echo(f"{became['added']} runs added, {replaced}{became['there']} were there already")


@app.command()
def remove(
    logbook: LogbookOption,
    runs: Annotated[list[str], typer.Argument(metavar="RUN...", autocompletion=completing.runs, help=_RUN_HELP)],
    yes: Annotated[bool, typer.Option("--yes", help="Remove without asking for confirmation.")] = False,
) -> None:
    """Remove runs for good."""
    with _open(logbook) as book:
        ids = list(dict.fromkeys(book.find(run) for run in runs))
        if not yes and not typer.confirm(f"Remove {', '.join(ids)} for good?"):
            ids = []
        book.remove(ids)
    typer.echo(f"{len(ids)} runs removed")


@app.command()
def thin(
    logbook: LogbookOption,
    older_than: Annotated[
        float,
        typer.Option(parser=duration(86_400, 3650 * DAY_S), metavar="TIME", help="Thin runs that are older: 90d."),
    ],
    yes: Annotated[bool, typer.Option("--yes", help="Thin without asking for confirmation.")] = False,
) -> None:
    """Remove the intervals of old runs for good, and keep all else.

    Figures, readings, conditions and events stay; what a run was from
    moment to moment goes, and the run says so. A report that was made
    of it before no longer verifies.
    """
    from datetime import timedelta

    from harvok.clock import SYSTEM
    from harvok.logbook.thin import thin_runs

    with _open(logbook) as book:
        ids = book.ids_before(SYSTEM.utc() - timedelta(seconds=older_than))
        if ids and not yes and not typer.confirm(f"Remove the intervals of {len(ids)} runs for good?"):
            ids = []
        thinned = thin_runs(book, ids, SYSTEM.utc())
    typer.echo(f"{thinned} runs thinned")


@app.command()
def places(logbook: LogbookOption, json: JsonOption = False) -> None:
    """Rank the places that were measured with a browser.

    For each device by itself, since two devices at one place
    differ as well: medians over its runs at each place.
    """
    from harvok.runner.browser_places import ranked_places

    with _open(logbook) as book:
        found = ranked_places(book)
    if json:
        print_json(found)
        return
    from harvok.cli.render.browser import show_places
    from harvok.cli.render.console import stdout

    show_places(stdout(), found)


@app.command()
def trend(
    figure: Annotated[
        str,
        typer.Argument(
            metavar="FIGURE",
            autocompletion=completing.figures,
            help="Figure to follow, such as throughput or goodput-settled.",
        ),
    ],
    rig: Annotated[
        list[str],
        typer.Option(metavar="NAME", help="A rig, two hosts as 'dome > hall', one of them, or a series. Repeatable."),
    ],
    logbook: LogbookOption,
    test: Annotated[str, typer.Option(metavar="TEST", help="Only runs of this test, as `logbook list` shows it.")] = "",
    direction: Annotated[str | None, typer.Option(metavar="DIRECTION", help="Only figures of this direction.")] = None,
    frame_size: Annotated[str | None, typer.Option(metavar="SIZE", help="Only figures of this frame size.")] = None,
    load: Annotated[str | None, typer.Option(metavar="LOAD", help="Only figures at this load, such as '90 %'.")] = None,
    baseline: Annotated[int, typer.Option(min=2, max=100, help="Number of first runs that form the baseline.")] = 5,
    to: Annotated[Path | None, typer.Option(metavar="FILE", help="Also draw it to this file, as PNG or SVG.")] = None,
    json: JsonOption = False,
) -> None:
    """Show the trend of one figure against its first runs.

    Points out runs outside the band of the baseline, a steady decline
    or rise that is more than chance, and changes of level. Several pairs
    are compared in one table, and drawn in one plot.
    """
    from harvok.cli.render.console import stdout
    from harvok.cli.render.trend import show_trends
    from harvok.runner.trends import TrendQuery, find_trends

    asked = {"direction": direction, "frame-size": frame_size, "load": load}
    labels = {key: value for key, value in asked.items() if value is not None}
    found = find_trends(logbook, TrendQuery(figure, rig, test, labels, baseline))
    if json:
        print_json(found)
    else:
        show_trends(stdout(), figure, found)
    if to:
        from harvok.reports.trend import draw_trends

        draw_trends(found, figure, to)
        if not json:
            typer.echo(f"drawn: {to}")
