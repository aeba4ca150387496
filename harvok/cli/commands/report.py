"""`harvok report`: a result on one page, to be handed over and to be checked next year."""

from pathlib import Path
from typing import Annotated

import typer

from harvok.cli.options import LogbookOption

app = typer.Typer(add_completion=False, no_args_is_help=True, help="Write reports, and check them against the logbook.")


@app.command()
def make(
    names: Annotated[
        list[str], typer.Argument(metavar="NAME...", help="A run, a series, a sweep, or two series: before and after.")
    ],
    to: Annotated[
        Path,
        typer.Option(
            metavar="FILE", help="File to write; its suffix selects the format: .html .pdf .md .csv .json .xml (JUnit)."
        ),
    ],
    logbook: LogbookOption,
    plan: Annotated[
        Path | None,
        typer.Option(metavar="PLAN", help="Judge by this plan; NAME is then what the plan was run as."),
    ] = None,
    changed: Annotated[
        list[str] | None,
        typer.Option(metavar="CONDITION", help="What was changed on purpose between two series. Repeatable."),
    ] = None,
    over: Annotated[
        str, typer.Option(metavar="KEY", show_default=False, help="Draw over this numeric attribute, such as length.")
    ] = "",
    operator: Annotated[str, typer.Option(metavar="NAME", show_default="the user", help="Who signs the report.")] = "",
) -> None:
    """Write a report of runs, series, a sweep or a plan.

    On top the verdict and its reason, then the rig, the unit, the
    conditions, criteria and results, plots, every run and every trial;
    signed with a digest of the records.
    """
    from harvok.reports.written import PICTURES, write_report
    from harvok.runner.reports import Signature, report_of_plan, report_of_runs

    signature = Signature(operator, pictures=PICTURES.get(to.suffix), over=over)
    if plan:
        from harvok.runner.plan_files import read_plan
        from harvok.runner.plans import PlanRequest

        if len(names) != 1:
            raise typer.BadParameter("with --plan give one name: what the plan was run as", param_hint="'NAME'")
        request = PlanRequest(read_plan(plan), names[0], {}, logbook, [])
        report = report_of_plan(request, signature)
    else:
        report = report_of_runs(logbook, names, changed or [], signature)
    write_report(report, to)
    typer.echo(f"written: {to}")


@app.command(epilog="Exit codes: 0 unchanged, 1 changed, 2 wrong usage, 4 the logbook cannot be read.")
def verify(
    file: Annotated[Path, typer.Argument(metavar="FILE", help="A report, as HTML or JSON.")],
    logbook: LogbookOption,
) -> None:
    """Check that the logbook still has the very records of a report."""
    from harvok.reports.written import what_it_rests_on
    from harvok.runner import reports

    runs, digest = what_it_rests_on(file)
    if reports.verify(logbook, runs, digest):
        typer.echo(f"unchanged: the logbook has all {len(runs)} records as the report names them")
        return
    typer.echo(f"CHANGED: the {len(runs)} records in the logbook are not those that the report was made from")
    raise typer.Exit(1)
