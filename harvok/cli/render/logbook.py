"""Lists of runs."""

import json
from collections.abc import Sequence

from rich.console import Console
from rich.text import Text

from harvok.cli.render.tables import plain_table
from harvok.cli.render.words import ARROWS, DASH
from harvok.core.quantities import QUANTITIES, of_rank
from harvok.core.units import format_quantity
from harvok.logbook.listing import RunLine

_WIDE = 108  # columns that the whole table takes


def lines_as_json(lines: Sequence[RunLine]) -> str:
    """The list as a JSON array; headline figures in b/s and ratios."""
    return json.dumps(
        [
            {
                "id": line.id,
                "started": line.started.isoformat(),
                "state": line.state,
                "test": line.test,
                "rig": line.rig,
                "series": line.series,
                "note": line.note,
                "limiters": line.limiters,
                "figures": [
                    {"quantity": figure.quantity, "labels": figure.labels, "value": figure.value}
                    for figure in line.headline
                ],
            }
            for line in lines
        ],
        indent=2,
    )


def show_lines(console: Console, lines: Sequence[RunLine], total: int, place: str) -> None:
    """The list as a table."""
    if not lines:
        console.print(f"No runs here yet ({place}).", soft_wrap=True)
        console.print("`harvok tcp STATION` takes the first; `harvok demo` shows how.")
        return
    wide = console.width >= _WIDE
    table = plain_table(("run", "test", *(["between"] if wide else []), "series", "result"), gap=2 if wide else 1)
    if wide:
        table.add_column("limiter")
    for line in lines:
        table.add_row(
            line.id,
            line.test,
            *([line.rig] if wide else []),
            line.series or DASH,
            _result(line),
            *([", ".join(dict.fromkeys(line.limiters.values())) or DASH] if wide else []),
        )
    console.print(table)
    if total > len(lines):
        console.print(f"{total - len(lines)} older runs are not shown; --all shows them.")


def _result(line: RunLine) -> Text:
    """What a run is known by: its first headline quantity, or else a main one, a rate first, each way; a range where it
    has several values; or its state, where it is not complete."""
    if line.state != "complete":
        return Text(line.state, style="bold red")
    if not line.headline:
        return Text(DASH)
    order = [*of_rank("headline"), *sorted(of_rank("main"), key=lambda key: QUANTITIES[key].unit != "b/s")]
    quantity = min((figure.quantity for figure in line.headline), key=order.index)
    values: dict[str, list[float]] = {}
    for figure in line.headline:
        if figure.quantity == quantity:
            values.setdefault(figure.labels.get("direction", ""), []).append(figure.value)
    unit = QUANTITIES[quantity].unit
    return Text(" ".join(f"{ARROWS.get(way, '')} {_range(found, unit)}".strip() for way, found in values.items()))


def _range(values: Sequence[float], unit: str) -> str:
    low, high = format_quantity(min(values), unit), format_quantity(max(values), unit)
    if low == high:
        return low
    number, _, of_low = low.rpartition(" ")
    return f"{number if high.endswith(f' {of_low}') else low} … {high}"
