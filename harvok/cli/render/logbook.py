"""Lists of runs."""

import json
from collections.abc import Sequence

from rich.console import Console
from rich.table import Table
from rich.text import Text

from harvok.cli.render.words import DASH
from harvok.core.units import format_rate
from harvok.logbook.listing import RunLine

_HEADLINES = ("goodput-settled", "udp-throughput", "udp-received")
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
                    {"quantity": quantity, "direction": direction, "value": value}
                    for (quantity, direction), value in line.headline.items()
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
    table = Table(box=None, padding=(0, 2 if wide else 1, 0, 0), header_style="bold")
    for heading in ("run", "state", "test", *(["between"] if wide else []), "series"):
        table.add_column(heading, no_wrap=True)
    for heading in ("send →", "receive ←"):
        table.add_column(heading, justify="right", no_wrap=True)
    if wide:
        table.add_column("limiter")
    for line in lines:
        state = Text(line.state, style="" if line.state == "complete" else "bold red")
        goodputs = [_headline(line, direction) for direction in ("send", "receive")]
        table.add_row(
            line.id,
            state,
            line.test,
            *([line.rig] if wide else []),
            line.series or DASH,
            *(DASH if value is None else format_rate(value) for value in goodputs),
            *([", ".join(dict.fromkeys(line.limiters.values())) or DASH] if wide else []),
        )
    console.print(table)
    if total > len(lines):
        console.print(f"{total - len(lines)} older runs are not shown; --all shows them.")


def _headline(line: RunLine, direction: str) -> float | None:
    """The rate that a run is known by: settled goodput, or the UDP rate that was found or that arrived."""
    found = (line.headline.get((quantity, direction)) for quantity in _HEADLINES)
    return next((value for value in found if value is not None), None)
