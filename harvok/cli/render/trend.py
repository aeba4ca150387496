"""A figure over the months, for a quick look on a terminal."""

from collections.abc import Iterator, Mapping
from datetime import timedelta

from rich.console import Console
from rich.text import Text

from harvok.cli.render.tables import plain_table
from harvok.core.judgement.trend import Point, Trend
from harvok.core.measures.changes import LevelChange
from harvok.core.quantities import QUANTITIES
from harvok.core.units import format_quantity

_BAR = 40
_MAX_ROWS = 30


def show_trends(console: Console, figure: str, found: Mapping[str, Trend]) -> None:
    """One with its runs; of several what each comes to."""
    if len(found) == 1:
        for name, one in found.items():
            show_trend(console, figure, name, one)
        return
    quantity = QUANTITIES[figure]
    console.print(Text(quantity.name, style="bold"))
    table = plain_table(("of",), ("runs", "baseline", "newest"))
    table.add_column("what became of it")
    for name, one in found.items():
        newest, mean = one.points[-1].value, one.mean
        shown = [format_quantity(value, quantity.unit) for value in (mean, newest)]
        table.add_row(name, str(len(one.points)), *shown, "; ".join(_became(one, quantity.unit)))
    console.print(table)


def _became(found: Trend, unit: str) -> Iterator[str]:
    """Steady changes, and changes of level."""
    if found.beyond_chance and found.change_a_month is not None:
        way = "falls" if found.change_a_month < 0 else "rises"
        yield f"{way} by {abs(found.change_a_month) * 100:.2g} % a month"
    for change in found.changes:
        yield change_words(found, change, unit)
    if not found.beyond_chance and not found.changes:
        yield "no change beyond chance"


def change_words(found: Trend, change: LevelChange, unit: str) -> str:
    """A change of level in words: when, from what to what."""
    days = found.points[change.index].day
    when = f"{found.first + timedelta(days=days):%Y-%m-%d}" if found.first else f"day {days:.1f}"
    return f"{format_quantity(change.before, unit)} to {format_quantity(change.after, unit)} on {when}"


def show_trend(console: Console, figure: str, rig: str, found: Trend) -> None:
    """What it comes to, then a line for each run with its place between the lowest and the highest."""
    quantity = QUANTITIES[figure]
    name = f"{quantity.name} of {rig}"
    console.print(Text.assemble((name, "bold"), f": {trend_words(found, quantity.unit)}"), soft_wrap=True)
    low = min(found.low, *(point.value for point in found.points))
    high = max(found.high, *(point.value for point in found.points))
    table = plain_table(("day", "run"), ("value",))
    table.add_column(f"{format_quantity(low, quantity.unit)} … {format_quantity(high, quantity.unit)}")
    for point in found.points[-_MAX_ROWS:]:
        mark = " outside" if point in found.outside else ""
        place = _place(point, found, low, high)
        table.add_row(f"{point.day:.1f}", point.run, format_quantity(point.value, quantity.unit), f"{place}{mark}")
    console.print(table)
    for change in found.changes:
        console.print(Text(f"level changed: {change_words(found, change, quantity.unit)}"), soft_wrap=True)
    if len(found.points) > _MAX_ROWS:
        console.print(Text(f"{len(found.points) - _MAX_ROWS} earlier runs are not shown", style="dim"))


def trend_words(found: Trend, unit: str) -> str:
    """The trend in a sentence."""
    band = f"baseline {format_quantity(found.mean, unit)} of the first {found.baseline} runs"
    outside = f"{len(found.outside)} of {len(found.points)} runs outside its band"
    if not found.beyond_chance or found.change_a_month is None:
        return f"{band}; {outside}; no steady change beyond chance"
    way = "falls" if found.change_a_month < 0 else "rises"
    return f"{band}; {outside}; it {way} by {abs(found.change_a_month) * 100:.2g} % a month, more than chance"


def _place(point: Point, found: Trend, low: float, high: float) -> str:
    """A line with the band as dots and the run as a mark."""

    def at(value: float) -> int:
        return round((value - low) / (high - low) * (_BAR - 1)) if high > low else 0

    cells = ["·" if at(found.low) <= n <= at(found.high) else " " for n in range(_BAR)]
    cells[at(point.value)] = "●"
    return "".join(cells)
