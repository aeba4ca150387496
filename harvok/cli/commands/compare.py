"""`harvok compare`: two series side by side, and the verdict."""

from typing import Annotated

import typer

from harvok.cli.options import JsonOption, LogbookOption, percent
from harvok.cli.verdicts import EXIT_CODES

app = typer.Typer(add_completion=False)


@app.command(epilog="Exit codes: 0 ACCEPT, 1 REJECT, 2 wrong usage, 3 RETEST, 4 the logbook cannot be read.")
def compare(
    before: Annotated[str, typer.Argument(metavar="BEFORE", help="Series to compare against: the baseline.")],
    after: Annotated[str, typer.Argument(metavar="AFTER", help="Series to judge.")],
    logbook: LogbookOption,
    min_share: Annotated[
        float | None,
        typer.Option(parser=percent, metavar="PERCENT", help="Least settled goodput, in percent of the ceiling."),
    ] = None,
    largest_regression: Annotated[
        float, typer.Option(parser=percent, metavar="PERCENT", help="Largest loss of goodput allowed.")
    ] = "2",  # type: ignore[assignment]
    min_repeats: Annotated[int, typer.Option(min=2, max=1000, help="Fewest complete runs on each side.")] = 5,
    changed: Annotated[
        list[str] | None,
        typer.Option(metavar="CONDITION", help="What was changed on purpose, such as socket-buffer. Repeatable."),
    ] = None,
    despite_conditions: Annotated[
        bool, typer.Option("--despite-conditions", help="Judge although the conditions differ.")
    ] = False,
    json: JsonOption = False,
) -> None:
    """Compare two series and say ACCEPT, REJECT or RETEST.

    A limit is judged by the 95 % confidence interval of the change, not by two single numbers. Series that were
    taken under unlike conditions get no verdict, unless what differs is named with --changed.
    """
    from harvok.core.judgement.compare import Criteria
    from harvok.runner.compare import compare_series

    criteria = Criteria(min_share, largest_regression, min_repeats, despite_conditions=despite_conditions)
    found = compare_series(logbook, before, after, criteria, changed or [])
    if json:
        from harvok.core.models.comparison import encode_comparison

        typer.echo(encode_comparison(found))
    else:
        from harvok.cli.render.compare import show_comparison
        from harvok.cli.render.console import stdout

        show_comparison(stdout(), found)
    raise typer.Exit(EXIT_CODES[found.verdict])
