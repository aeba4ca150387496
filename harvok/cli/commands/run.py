"""`harvok run`: runs a plan and says ACCEPT, REJECT or RETEST."""

import contextlib
import sys
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from harvok.cli import completing
from harvok.cli.bundles import AccessOptions, RecordOptions, bundled
from harvok.cli.options import DAY_S, attributes, time_option, typed_command
from harvok.cli.verdicts import EXIT_CODES
from harvok.errors import UsageError

if TYPE_CHECKING:
    from harvok.core.judgement.finding import Verdict
    from harvok.core.models.plan import Plan
    from harvok.runner.plans import PlanRequest

app = typer.Typer(add_completion=False)


@app.command(epilog="Exit codes: 0 ACCEPT, 1 REJECT, 2 wrong usage, 3 RETEST, 4 could not measure or broken off.")
@bundled
def run(
    plan: Annotated[
        Path,
        typer.Argument(
            metavar="PLAN",
            autocompletion=completing.plans,
            help="A plan file, or the name of one at hand (`harvok plan list`).",
        ),
    ],
    keeping: RecordOptions,
    reaching: AccessOptions,
    name: Annotated[
        str | None,
        typer.Option(metavar="NAME", show_default="plan and unit", help="Name of this run of the plan."),
    ] = None,
    with_: Annotated[
        list[str] | None,
        typer.Option("--with", metavar="KEY=VALUE", help="A fact about the unit, such as asset=A-17. Repeatable."),
    ] = None,
    unattended: Annotated[bool, typer.Option("--unattended", help="Do not ask or wait between steps.")] = False,
    judge_only: Annotated[
        bool, typer.Option("--judge-only", help="Take no runs; judge those in the logbook under this name.")
    ] = False,
    station: Annotated[
        str | None,
        typer.Option(metavar="STATION", show_default="the plan's", help="Run the plan towards another station."),
    ] = None,
    wait: Annotated[float, time_option(0, DAY_S, "Wait up to this long for a busy host.", default="0s")] = 0.0,
) -> None:
    """Run a plan, and say ACCEPT, REJECT or RETEST.

    Tells you at the bench what to do between steps. A plan that broke
    off goes on where it stopped when it is run again for the same unit.
    """
    from harvok.runner.plan_files import read_plan
    from harvok.runner.plan_shelf import find_plan, plan_folders
    from harvok.runner.plans import PlanRequest

    by_name = not plan.suffix and len(plan.parts) == 1 and not plan.exists()
    file = read_plan(find_plan(str(plan), plan_folders()) if by_name else plan)
    asked = attributes(with_ or [])
    unit = _unit(file.plan, asked, ask=not unattended and sys.stdin.isatty() and not judge_only)
    request = PlanRequest(
        file=file,
        name=name or "-".join([file.plan.name, *(value for key, value in unit.items() if key in file.plan.unit)]),
        unit=unit,
        logbook=keeping.logbook,
        command=typed_command(sys.argv),
        access=reaching.access(any(step.needs_token for step in file.plan.steps) and not judge_only),
        wait_s=wait,
        station=station,
    )
    raise typer.Exit(EXIT_CODES[_carry_out(request, unattended, judge_only, keeping)])


def _carry_out(request: "PlanRequest", unattended: bool, judge_only: bool, keeping: RecordOptions) -> "Verdict":
    """Runs or only judges the plan, shows what came of it, and returns the verdict."""
    from harvok.cli.render.console import stderr, stdout
    from harvok.cli.render.plan import PlanView, show_outcome
    from harvok.clock import SYSTEM
    from harvok.runner.plans import document_of, judge_plan, run_plan

    if judge_only:
        outcome = judge_plan(request, SYSTEM)
    else:
        console = stderr() if keeping.json else stdout()
        view = PlanView(
            console, request.name, waits=not unattended and sys.stdin.isatty(), charted=not keeping.no_charts
        )
        with contextlib.closing(view):
            outcome = run_plan(request, view, view.record, view.bench, follow=view.follow)
    if keeping.json:
        typer.echo(document_of(request, outcome))
    else:
        show_outcome(stdout(), request.name, outcome)
    return outcome.judgement.verdict


def _unit(plan: "Plan", given: dict[str, str], ask: bool) -> dict[str, str]:
    """What is to be recorded of the unit: as given, else asked for. Raises UsageError when there is nobody to ask."""
    found = dict(given)
    for key in plan.unit:
        if key in found:
            continue
        if not ask:
            raise UsageError(f"the plan wants to know the unit's {key}", f"Give it: --with {key}=…")
        found[key] = str(typer.prompt(f"{key} of the unit under test")).strip()
    return found
