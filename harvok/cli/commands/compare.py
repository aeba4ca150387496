"""`harvok compare`: two series side by side, and the verdict."""

from typing import Annotated

import typer

from harvok.cli import completing
from harvok.cli.options import JsonOption, LogbookOption, percent_option
from harvok.cli.verdicts import EXIT_CODES

app = typer.Typer(add_completion=False)


@app.command(epilog="Exit codes: 0 ACCEPT, 1 REJECT, 2 wrong usage, 3 RETEST, 4 the logbook cannot be read.")
def compare(
    before: Annotated[
        str,
        typer.Argument(
            metavar="BEFORE", autocompletion=completing.series, help="Series or sweep to compare against: the baseline."
        ),
    ],
    after: Annotated[
        str, typer.Argument(metavar="AFTER", autocompletion=completing.series, help="Series or sweep to judge.")
    ],
    logbook: LogbookOption,
    min_share: Annotated[
        float | None, percent_option("Smallest acceptable share of the ceiling or of line rate.")
    ] = None,
    max_regression: Annotated[
        float, percent_option("Largest acceptable regression of goodput and throughput.", default="2%")
    ] = 0.02,
    max_spread: Annotated[float | None, percent_option("Largest acceptable (max − min) / median of repeats.")] = None,
    limit: Annotated[
        list[str] | None,
        typer.Option(
            metavar='"FIGURE KEY=VALUE …"',
            help='A limit as in a plan, such as "rtt-mean max=2ms" or "jitter max_regression=20%". Repeatable.',
        ),
    ] = None,
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
    """Compare two series or sweeps and say ACCEPT, REJECT or RETEST.

    A limit is judged by the 95 % confidence interval of the change, not by two single numbers, and every repeat is held
    against the others. Rates may regress by --max-regression, latency by 10 %, loss by 0.05 % or half of what it was;
    --limit sets others. Series that were taken under unlike conditions get no verdict, unless what differs is named
    with --changed.
    """
    from harvok.core.judgement.compare import Criteria
    from harvok.core.models.plan import parse_limit
    from harvok.runner.compare import compare_series

    criteria = Criteria(
        min_share=min_share,
        max_regression=max_regression,
        min_repeats=min_repeats,
        ignore_conditions=ignore_conditions,
        max_spread=max_spread,
        limits=tuple(parse_limit(text) for text in limit or []),
    )
    found = compare_series(logbook, before, after, criteria, changed or [])
    if json:
        from harvok.core.models.comparison import encode_comparison

        typer.echo(encode_comparison(found))
    else:
        from harvok.cli.render.compare import show_comparison
        from harvok.cli.render.console import stdout

        show_comparison(stdout(), found)
    raise typer.Exit(EXIT_CODES[found.verdict])
