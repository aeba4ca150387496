"""Runs a request and shows it: the view of its kind of test on the way and at the end, or the records alone."""

import contextlib
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import typer

from harvok.cli.verdicts import exit_code_of

if TYPE_CHECKING:
    from harvok.cli.bundles import RecordOptions
    from harvok.cli.render.run_view import RunView
    from harvok.core.models.run import RunRecord
    from harvok.runner.request import TestRequest


def measure(request: "TestRequest", showing: "RecordOptions") -> "list[RunRecord]":
    """Runs the request and returns its records. Raises whatever broke it off, after that was shown."""
    from harvok.cli.render.console import stderr, stdout
    from harvok.cli.render.records import RecordsOnly
    from harvok.cli.render.views import live_view
    from harvok.runner.run import run_test

    if showing.json:
        view: RecordsOnly | RunView = RecordsOnly(stdout(), stderr())
    else:
        view = live_view(stdout(), request, not showing.no_charts)
    with contextlib.closing(view):
        run_test(request, view, view.record)
    return view.records


def leave_with_verdict(records: "Sequence[RunRecord]") -> None:
    """Ends the command with the exit code of what its tests judged; 0 where nothing was judged."""
    raise typer.Exit(exit_code_of([finding for record in records for finding in record.findings]))


def draw_last(records: "Sequence[RunRecord]", picture: Path | None) -> None:
    """Draws what became of the load, of users by their level or of objects, in the last of some runs, and says where;
    nothing where no picture is wanted."""
    if picture is None or not records:
        return
    from harvok.cli.render.console import stderr
    from harvok.reports.levels import draw_levels, draw_objects
    from harvok.reports.ramp import draw_ramp

    if any(draw(records[-1], picture) for draw in (draw_ramp, draw_levels, draw_objects)):
        stderr().print(f"drawn in {picture}", soft_wrap=True)
