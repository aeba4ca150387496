"""`harvok plan`: plans, which a senior engineer writes once and anyone can run."""

from pathlib import Path
from typing import Annotated

import typer

from harvok.cli import completing
from harvok.cli.options import DAY_S, JsonOption, LogbookOption, Overwrite, print_json, rate, time_option
from harvok.runner.plan_text import DURATIONS_S, Job, plan_text

app = typer.Typer(
    add_completion=False, no_args_is_help=True, help="List, write, check and show plans; `harvok run` runs one."
)

_WEEK_S = 7 * DAY_S
PlanPath = Annotated[
    Path, typer.Argument(metavar="PLAN", autocompletion=completing.plan_files, help="The plan, a TOML file.")
]


@app.command("list")
def list_plans(
    logbook: LogbookOption,
    shared: Annotated[
        list[Path] | None,
        typer.Option(metavar="FOLDER", help="A folder of plans besides; HARVOK_PLANS names some for good. Repeatable."),
    ] = None,
    json: JsonOption = False,
) -> None:
    """List the plans at hand, with the last verdict of each.

    Looks here, in the folder `plans` of this user's data, and in shared
    folders; those first that were used most often. `harvok run NAME` runs
    one by its name.
    """
    from contextlib import closing

    from harvok.logbook.store import Logbook
    from harvok.runner.plan_shelf import plan_folders, shelved_plans

    with closing(Logbook(logbook)) as opened:
        found = shelved_plans(plan_folders(shared or []), opened)
    if json:
        print_json(found)
        return
    from harvok.cli.render.console import stdout
    from harvok.cli.render.plan import show_shelf

    show_shelf(stdout(), found)


@app.command()
def new(
    file: PlanPath,
    job: Annotated[
        Job,
        typer.Option(prompt="Job: cable, nic, switch, router, link or change", help="The job to write a plan for."),
    ],
    rated: Annotated[
        float,
        typer.Option(
            parser=rate(), prompt="Rated speed, such as 1G", metavar="RATE", help="Rated speed of the equipment."
        ),
    ],
    station: Annotated[
        str | None, typer.Option(metavar="STATION", help="The far end, for cable, nic, link and change.")
    ] = None,
    rig: Annotated[str | None, typer.Option(metavar="RIG", help="The rig file, for switch and router.")] = None,
    name: Annotated[
        str | None, typer.Option(metavar="NAME", show_default="from the file", help="Name of the plan.")
    ] = None,
    repeats: Annotated[int, typer.Option(min=1, max=1000, help="Number of runs of each step.")] = 5,
    within: Annotated[
        float | None, time_option(1, _WEEK_S, "Time that the plan may take; trials are shortened to fit.")
    ] = None,
    overwrite: Overwrite = False,
) -> None:
    """Write a commented plan for a usual job, ready to run."""
    from harvok.cli.files import check_free, writing
    from harvok.core.units import format_span, write_speed
    from harvok.errors import UsageError
    from harvok.runner.plan_files import expected_s, parse_plan_file

    check_free(file, overwrite)
    if job in ("switch", "router"):
        where = rig or typer.prompt("Rig file (`harvok rig new` writes one)")
    else:
        where = station or typer.prompt("Station at the far end")
    speed = write_speed(rated)

    def text(duration_s: int | None = None) -> str:
        return plan_text(job, name or file.stem, where, speed, repeats, duration_s)

    fitting = text()
    if within is not None:
        every = (text(duration_s) for duration_s in DURATIONS_S)
        fitting = next((one for one in every if expected_s(parse_plan_file(one, file)) <= within), "")
    if not fitting:
        raise UsageError(
            f"no such plan fits into {format_span(within or 0)}", "Allow more time, or ask for fewer --repeats."
        )
    with writing(file) as out:
        out.write(fitting)
    typer.echo(f"written: {file}; `harvok plan check {file}` says what it would do, `harvok run {file}` does it")


@app.command()
def check(file: PlanPath, json: JsonOption = False) -> None:
    """Check a plan and its rig file; say what would be done, and for how long."""
    from harvok.runner.plan_files import expected_s, read_plan

    found = read_plan(file)
    rig = found.rig
    if json:
        typer.echo(found.plan.model_dump_json(indent=2, by_alias=True))
        return
    from harvok.cli.render.console import stdout
    from harvok.cli.render.plan import show_plan

    show_plan(stdout(), found.plan, rig, expected_s(found))


@app.command()
def show(file: PlanPath) -> None:
    """Print a plan as it is written."""
    from harvok.runner.plan_files import read_plan

    read_plan(file)
    typer.echo(file.read_text(encoding="utf-8"), nl=False)
