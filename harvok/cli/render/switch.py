"""Results of RFC 2889 as tables: patterns over frame sizes, then what is of the switch as a whole."""

from collections.abc import Sequence

from rich.console import Console
from rich.text import Text

from harvok.cli.render.frames import limited_by
from harvok.cli.render.tables import PlainTable, plain_table
from harvok.cli.render.words import figure_cell
from harvok.core.figures import Figure, find
from harvok.core.labels import size_text
from harvok.core.models.run import RunRecord
from harvok.core.quantities import QUANTITIES, heading_of
from harvok.core.units import format_share, format_span

_THROUGHPUT = ("throughput", "throughput-share", "throughput-l1")
_AT_LINE_RATE = ("frame-loss", "forwarding-rate")
_DELAYS = ("latency-min", "latency-median", "latency-p999", "latency-max", "latency-jitter")
_FORWARDING = ("max-forwarding-rate", "max-forwarding-load")
_WHOLE = ("address-capacity", "address-learning-rate", "group-capacity")


def show_rfc2889(console: Console, record: RunRecord) -> None:
    """What one run comes to."""
    plain = [figure for figure in record.figures if "load" not in figure.labels]
    loaded = [figure for figure in record.figures if "load" in figure.labels]
    tables = (
        _table(record, plain, "throughput, each port that sends", _THROUGHPUT, limited=True),
        _table(record, loaded, "each port at line rate", _AT_LINE_RATE, leave_out="congestion"),
        _congestion(record),
        _table(record, plain, "forwarding at any load", _FORWARDING),
        _table(record, plain, "delay at the throughput", _DELAYS),
        _table(record, plain, "errored frames", ("errored-forwarded",)),
        _whole(record),
    )
    for table in filter(None, tables):
        console.print()
        console.print(table)
    if record.figures:
        console.print(Text(_remarks(record), style="dim"))


def show_rfc3918(console: Console, record: RunRecord) -> None:
    """What one run comes to."""
    plain = [figure for figure in record.figures if "load" not in figure.labels]
    tables = (
        _table(record, plain, "throughput, the port that sends", _THROUGHPUT, limited=True),
        _by_groups(record),
        _table(record, plain, "delay at the throughput", _DELAYS),
        _delays_of_groups(record),
        _whole(record, "groups"),
    )
    for table in filter(None, tables):
        console.print()
        console.print(table)
    if record.figures:
        test = record.test
        groups = f"{test.ports[0]} to {', '.join(test.ports[1:])}; {test.groups} groups; "
        console.print(Text(f"{groups}rates of one port, never added up over ports", style="dim"))


def _by_groups(record: RunRecord) -> PlainTable | None:
    """Loss at line rate: a row for each frame size and port, a column for each number of groups."""
    losses = [f for f in record.figures if f.quantity == "frame-loss"]
    if not losses:
        return None
    numbers = list(dict.fromkeys(figure.labels["load"] for figure in losses))
    table = plain_table(("loss at line rate",), numbers)
    for size, direction in dict.fromkeys((f.labels["frame-size"], f.labels["direction"]) for f in losses):
        row = {"frame-size": size, "direction": direction}
        cells = [figure_cell("frame-loss", find(losses, "frame-loss", **row, load=number)) for number in numbers]
        table.add_row(f"{size_text(size)}, {direction}", *cells)
    return table


def _delays_of_groups(record: RunRecord) -> PlainTable | None:
    found = [figure for figure in record.figures if figure.quantity in ("group-join-delay", "group-leave-delay")]
    if not found:
        return None
    table = plain_table(("joining and leaving",), ("delay",))
    for figure in found:
        table.add_row(figure.labels["direction"], figure_cell(figure.quantity, figure.value))
    return table


def _table(
    record: RunRecord,
    figures: Sequence[Figure],
    title: str,
    quantities: Sequence[str],
    limited: bool = False,
    leave_out: str = "\0",
) -> PlainTable | None:
    """A row for each frame size and port or pattern that has any of the quantities; None where there is none."""
    of_them = [
        figure
        for figure in figures
        if figure.quantity in quantities and not figure.labels["direction"].startswith(leave_out)
    ]
    if not of_them:
        return None
    shown = [quantity for quantity in quantities if any(figure.quantity == quantity for figure in of_them)]
    table = plain_table((title,), [*map(heading_of, shown), *(["limited by"] if limited else [])])
    for size, direction in dict.fromkeys((f.labels["frame-size"], f.labels["direction"]) for f in of_them):
        row = {"frame-size": size, "direction": direction}
        cells = [figure_cell(quantity, find(of_them, quantity, **row)) for quantity in shown]
        last = [_limit(record, of_them, size, direction)] if limited else []
        table.add_row(f"{size_text(size)}, {direction}", *cells, *last)
    return table


def _congestion(record: RunRecord) -> PlainTable | None:
    """A row for each frame size."""
    figures = [figure for figure in record.figures if figure.labels.get("direction", "").startswith("congestion")]
    if not figures:
        return None
    table = plain_table(("congestion",), ("lost at the free port", "lost at the congested port", "held back"))
    for size in dict.fromkeys(figure.labels["frame-size"] for figure in figures):
        shown = ("head-of-line-loss", "frame-loss", "back-pressure")
        values = [find(figures, quantity, **{"frame-size": size}) for quantity in shown]
        table.add_row(size_text(size), *map(figure_cell, shown, values))
    return table


def _limit(record: RunRecord, figures: Sequence[Figure], size: str, direction: str) -> str:
    """Line rate, which many ports that send to one share; the device; or the tester."""
    (figure,) = (
        f
        for f in figures
        if f.quantity == "throughput-share" and (f.labels["frame-size"], f.labels["direction"]) == (size, direction)
    )
    senders = len(record.test.ports) - 1
    return limited_by(figure, 1 / senders if direction == "many-to-one" else 1.0)


def _whole(record: RunRecord, title: str = "addresses") -> PlainTable | None:
    """What has no frame size."""
    found = [figure for figure in record.figures if figure.quantity in _WHOLE]
    if not found:
        return None
    table = plain_table((title,), ("", "limited by"))
    for figure in found:
        limit = "the TESTER" if figure.mark == "tester-limit" else "the device"
        table.add_row(QUANTITIES[figure.quantity].name, figure_cell(figure.quantity, figure.value), limit)
    return table


def _remarks(record: RunRecord) -> str:
    test = record.test
    settings = test.settings
    tolerance = f"loss tolerance {format_share(settings.loss_tolerance)}" if settings.loss_tolerance else "no loss"
    between = f"between {', '.join(test.ports)}; "
    waited = f"; the device was left to forget for {format_span(settings.aging_s)}" if _whole(record) else ""
    return (
        f"{between}throughput with {tolerance}, to within {format_share(settings.resolution)} of line rate and 1 % of "
        f"itself, confirmed for {settings.full_s:g} s; rates of one port, never added up over ports{waited}"
    )
