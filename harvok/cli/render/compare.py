"""A comparison: the verdict first, then its reasons, then the figures and what differs."""

from rich.console import Console
from rich.padding import Padding
from rich.text import Text

from harvok.cli.render.run_view import list_and_count_findings
from harvok.cli.render.tables import PlainTable, plain_table
from harvok.cli.render.words import DASH, verdict_text
from harvok.core.judgement.compare import ComparedFigure, Comparison
from harvok.core.judgement.spans import change_span
from harvok.core.labels import label_text
from harvok.core.measures.statistics import Summary
from harvok.core.quantities import QUANTITIES
from harvok.core.units import format_measured, format_quantity, format_share

_NO_BREAK = "\u00a0"
_WIDE = 104  # columns that the table with its spreads takes


def show_comparison(console: Console, found: Comparison) -> None:
    """Prints the whole comparison."""
    show_verdict(console, found)
    console.print()
    console.print(_figures(found, with_spread=console.width >= _WIDE))
    console.print(Padding(Text(_how(found), style="dim"), 0, expand=False))
    _show_differences(console, found)
    for remark in found.remarks:
        console.print(f"remark: {remark}", soft_wrap=True)
    for series in (found.before, found.after):
        if series.left_out:
            console.print(f"left out of {series.name}: {', '.join(series.left_out)}", soft_wrap=True)


def show_verdict(console: Console, found: Comparison) -> None:
    """The verdict and its reasons alone."""
    console.print(Text.assemble(verdict_text(found.verdict), f"  {found.after.name} against {found.before.name}"))
    list_and_count_findings(console, found.findings)


def _figures(found: Comparison, with_spread: bool) -> PlainTable:
    interval = f"{found.criteria.confidence * 100:.0f} % interval"
    columns = ("before", "spread", "after", "spread", "change", interval)
    shown = [heading for heading in columns if with_spread or heading != "spread"]
    table = plain_table(("", "of"), shown, gap=2 if with_spread else 1)
    for row in found.rows:
        if QUANTITIES[row.quantity].rank != "detail" or _tells(row):
            table.add_row(*_cells(row, with_spread))
    return table


def _tells(row: ComparedFigure) -> bool:
    """Whether a detail belongs into the table: one that is judged, and is anything at all."""
    return QUANTITIES[row.quantity].judged and bool(row.before.mean or row.after.mean)


def _cells(row: ComparedFigure, with_spread: bool) -> list[str]:
    meaning = QUANTITIES[row.quantity]
    relative = _is_relative(row)

    def spread(summary: Summary) -> str:
        return format_share(summary.spread) if relative else DASH

    return [
        meaning.name,
        label_text(row.labels),
        format_measured(row.before.mean, meaning.unit, row.before.uncertainty),
        *([spread(row.before)] if with_spread else []),
        format_measured(row.after.mean, meaning.unit, row.after.uncertainty),
        *([spread(row.after)] if with_spread else []),
        *change_cells(row),
    ]


def _is_relative(row: ComparedFigure) -> bool:
    """How much a share changed in proportion to itself only misleads."""
    return QUANTITIES[row.quantity].unit != "ratio"


def change_cells(row: ComparedFigure) -> list[str]:
    """The change of a figure, and the interval in which it lies."""
    if not row.change or not _is_relative(row):
        return [DASH, DASH]
    return [f"{row.change.ratio * 100:+.1f} %", change_span(row.change.interval.low, row.change.interval.high)]


def _how(found: Comparison) -> str:
    before, after = (len(series.runs) for series in (found.before, found.after))
    first = found.rows[0]
    how = "means without the highest and the lowest run" if first.before.dropped else "plain means, too few to trim"
    return (
        f"{before} runs before, {after} after; {how}{_left_out(first)}; all are held against the others; "
        "spread is (max − min) / median of all"
    )


def _left_out(row: ComparedFigure) -> str:
    """What the trimmed means of the first figure leave out."""
    if not row.before.dropped or not row.after.dropped:
        return ""
    unit = QUANTITIES[row.quantity].unit
    before, after = (
        " and ".join(
            format_quantity(value, unit).replace(" ", _NO_BREAK) for value in (min(one.values), max(one.values))
        )
        for one in (row.before, row.after)
    )
    return f" (of the first line {before} before, {after} after)"


def _show_differences(console: Console, found: Comparison) -> None:
    if not found.differences:
        console.print("Conditions: alike in everything that is recorded.")
        return
    console.print()
    table = plain_table(("condition that differs", "before", "after", ""))
    for difference in found.differences:
        why = "changed on purpose" if difference.declared else "not declared"
        table.add_row(difference.condition, ", ".join(difference.before), ", ".join(difference.after), why)
    console.print(table)
