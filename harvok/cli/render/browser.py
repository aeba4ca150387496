"""A browser: what a run comes to, direction by direction and its responses, and the ranking of places."""

from collections.abc import Sequence

from rich.console import Console

from harvok.cli.render.tables import plain_table
from harvok.cli.render.tcp import show_tcp
from harvok.cli.render.words import DASH, maybe
from harvok.core.figures import find
from harvok.core.models.run import RunRecord
from harvok.core.trials.browser import BOTH, IDLE
from harvok.core.units import format_byte_rate, format_duration, format_rate
from harvok.runner.browser_places import PlaceFigures

_LOADS = {IDLE: "at rest", "receive": "while receiving", "send": "while sending", BOTH: "while both"}


def show_browser(console: Console, record: RunRecord) -> None:
    """Each direction as of TCP, then both at once, then how long answers took."""
    show_tcp(console, record)
    table = plain_table(("",), ("receive", "send", "response median", "p95"))
    for load, words in _LOADS.items():
        at_once = [find(record.figures, "goodput-both-ways", direction=way) for way in ("receive", "send")]
        goodput = at_once if load == BOTH else [None, None]
        times = [find(record.figures, f"page-response-{part}", load=load) for part in ("median", "p95")]
        cells = [maybe(value, format_rate) for value in goodput] + [maybe(value, format_duration) for value in times]
        table.add_row(words, *cells)
    console.print()
    console.print(table)


def show_places(console: Console, places: Sequence[PlaceFigures]) -> None:
    """The ranking, a table for each device."""
    if not places:
        console.print("No browser has measured here yet.", soft_wrap=True)
        console.print("`harvok station --browser` prints the address of the page that does.", soft_wrap=True)
        return
    for device in dict.fromkeys(one.device for one in places):
        table = plain_table(("place",), ("runs", "receive", "send", "response at rest", "under load"))
        table.add_column("limiter")
        for one in places:
            if one.device == device:
                table.add_row(*_cells(one))
        console.print(device, style="bold")
        console.print(table)
        console.print()
    console.print("Medians of the runs; the response under load is the slower of receiving and sending.", style="dim")


def _both_units(goodput_bps: float) -> str:
    return f"{format_rate(goodput_bps)} = {format_byte_rate(goodput_bps)}"


def _cells(one: PlaceFigures) -> list[str]:
    return [
        one.place,
        str(one.runs),
        *(maybe(value, _both_units) for value in (one.receive_bps, one.send_bps)),
        maybe(one.response_idle_s, format_duration),
        maybe(one.response_loaded_s, format_duration),
        ", ".join(dict.fromkeys(one.limiters.values())) or DASH,
    ]
