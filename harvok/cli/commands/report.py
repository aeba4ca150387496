"""`harvok report`: a result on one page, to be handed over and to be checked next year."""

from pathlib import Path
from typing import Annotated

import typer

from harvok.cli import completing
from harvok.cli.options import JsonOption, LogbookOption, print_json

app = typer.Typer(add_completion=False, no_args_is_help=True, help="Write reports, and check them against the logbook.")


@app.command()
def make(
    names: Annotated[
        list[str],
        typer.Argument(
            metavar="NAME...",
            autocompletion=completing.series_and_runs,
            help="A run, a series, a sweep, or two series: before and after.",
        ),
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
    from harvok.runner.sealing import MadeOf, seal

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
    key = seal(report, to, MadeOf(names, str(plan) if plan else "", tuple(changed or [])))
    typer.echo(f"written: {to}, {f'signed by the key {key}' if key else 'sealed, and not signed'}")


@app.command()
def key(json: JsonOption = False) -> None:
    """Make this user's report key, once, and print its public half.

    Reports are signed with it from then on (Ed25519). Give the public
    half to whoever receives reports: `harvok report verify --key`.
    """
    from harvok.runner.sealing import make_key

    path, public, is_new = make_key()
    if json:
        print_json({"file": str(path), "key": public, "made_now": is_new})
        return
    typer.echo(f"{'made' if is_new else 'there is'} {path}, which nobody else may read; its public half is\n{public}")


@app.command(epilog="Exit codes: 0 all holds, 1 something does not, 2 wrong usage, 4 the logbook cannot be read.")
def verify(
    file: Annotated[Path, typer.Argument(metavar="FILE", help="A report that Harvok wrote.")],
    logbook: LogbookOption,
    expected_key: Annotated[
        str, typer.Option("--key", metavar="KEY", show_default=False, help="The public key that has to have signed it.")
    ] = "",
    json: JsonOption = False,
) -> None:
    """Check a report: its text, its signature, its records, its verdict.

    Says whether the text was altered, whether the key that is named
    signed it, whether the logbook still has the very records, and whether
    judging them again gives the same verdict.
    """
    from harvok.runner.sealing import held

    every = list(held(file, logbook, expected_key))
    if json:
        print_json(every)
    else:
        typer.echo("\n".join(one.words for one in every))
    if any(one.holds is False for one in every):
        raise typer.Exit(1)
