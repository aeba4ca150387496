"""`harvok compare`: two series side by side, and the verdict."""

from typing import Annotated

import typer

from harvok.cli.options import JsonOption, LogbookOption, percent_option
from harvok.cli.verdicts import EXIT_CODES

app = typer.Typer(add_completion=False)


@app.command(epilog="Exit codes: 0 ACCEPT, 1 REJECT, 2 wrong usage, 3 RETEST, 4 the logbook cannot be read.")
def compare(
    before: Annotated[str, typer.Argument(metavar="BEFORE", help="Series to compare against: the baseline.")],
    after: Annotated[str, typer.Argument(metavar="AFTER", help="Series to judge.")],
    logbook: LogbookOption,
    min_share: Annotated[
        float | None, percent_option("Smallest acceptable share of the ceiling or of line rate.")
    ] = None,
    max_regression: Annotated[float, percent_option("Largest acceptable regression.", default="2%")] = 0.02,
    min_repeats: Annotated[int, typer.Option(min=2, max=1000, help="Complete runs needed on each side.")] = 5,
    changed: Annotated[
        list[str] | None,
        typer.Option(
            metavar="CONDITION", help="A condition that was changed on purpose, such as socket-buffer. Repeatable."
        ),
    ] = None,
    ignore_conditions: Annotated[
        bool, typer.Option("--ignore-conditions", help="Judge even though the conditions differ.")
    ] = False,
    json: JsonOption = False,
) -> None:
    """Compare two series and say ACCEPT, REJECT or RETEST.

    A limit is judged by the 95 % confidence interval of the change, not by two single numbers. Series that were
    taken under unlike conditions get no verdict, unless what differs is named with --changed.
    """
    from harvok.core.judgement.compare import Criteria
    from harvok.runner.compare import compare_series

    criteria = Criteria(min_share, max_regression, min_repeats, ignore_conditions=ignore_conditions)
    found = compare_series(logbook, before, after, criteria, changed or [])
    if json:
        from harvok.core.models.comparison import encode_comparison

        typer.echo(encode_comparison(found))
    else:
        from harvok.cli.render.compare import show_comparison
        from harvok.cli.render.console import stdout

        show_comparison(stdout(), found)
    raise typer.Exit(EXIT_CODES[found.verdict])
