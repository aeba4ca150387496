"""Draws what became of users at several levels, over their number, and what was found for objects of several sizes."""

from collections.abc import Sequence
from pathlib import Path

from harvok.core.figures import Figure, find
from harvok.core.models.run import RunRecord
from harvok.core.procedures.rfc9411 import SEARCHED
from harvok.core.quantities import QUANTITIES
from harvok.reports.curves import Column, Curve, Panel, draw_columns

_PARTS = {"application", "action"}


def draw_levels(record: RunRecord, path: Path) -> bool:
    """Writes a PNG or SVG, with a column for each end that users are at; False where there are not several levels."""
    figures = [f for f in record.figures if "level" in f.labels and not f.labels.keys() & _PARTS]
    levels = list(dict.fromkeys(figure.labels["level"] for figure in figures))
    if len(levels) < 2:
        return False
    ends = list(dict.fromkeys(figure.labels.get("users", "") for figure in figures))
    columns = [_column(end, [f for f in figures if f.labels.get("users", "") == end], levels) for end in ends]
    draw_columns(f"{record.series or record.between}: {record.test.title}, by level", columns, path)
    return True


def _column(end: str, figures: Sequence[Figure], levels: Sequence[str]) -> Column:
    ways = list(dict.fromkeys(f.labels["direction"] for f in figures if f.quantity == "app-goodput"))
    names = dict(zip(ways, ("requests", "responses"), strict=False))
    panels = [
        Panel(
            "transactions/s",
            [_curve(figures, "transactions-rate", levels, "transactions per second")],
            "transactions that were answered whole",
        ),
        Panel("Mb/s", [_curve(figures, "app-goodput", levels, f"{names[way]}, L7", 1e-6, way) for way in ways]),
        Panel("ms", [_times(figures, levels, "response"), _times(figures, levels, "first-byte")]),
    ]
    if any(f.value for f in figures if f.quantity == "failed-transactions"):
        panels.append(
            Panel("%", [_curve(figures, "failed-transactions", levels, "failed", 100)], "failed transactions")
        )
    return Column(f"users at the {end} end" if end else "", "level", levels, panels)


def _values(
    figures: Sequence[Figure], quantity: str, levels: Sequence[str], factor: float, direction: str = ""
) -> list[float | None]:
    labels = {"direction": direction} if direction else {}
    found = [find(figures, quantity, level=level, **labels) for level in levels]
    return [None if value is None else value * factor for value in found]


def _curve(
    figures: Sequence[Figure], quantity: str, levels: Sequence[str], name: str, factor: float = 1.0, direction: str = ""
) -> Curve:
    doubtful = [
        any(f.mark and f.labels["level"] == level and f.quantity == quantity for f in figures) for level in levels
    ]
    return Curve(name, _values(figures, quantity, levels, factor, direction), doubtful=doubtful)


def _times(figures: Sequence[Figure], levels: Sequence[str], what: str) -> Curve:
    """The median in a band from min to p99.9."""
    name = {"response": "response", "first-byte": "first byte"}[what]
    return _band(name, *(_values(figures, f"{what}-{which}", levels, 1e3) for which in _OF_A_BAND))


_OF_A_BAND = ("min", "median", "p999")


def _band(
    name: str, low: Sequence[float | None], middle: Sequence[float | None], high: Sequence[float | None]
) -> Curve:
    return Curve(f"{name}: median, in a band from min to p99.9", middle, low=low, high=high)


_UNITS_OF_SEARCHED = (("connections/s", 1.0), ("Mb/s", 1e-6), ("connections", 1.0))


def draw_objects(record: RunRecord, path: Path) -> bool:
    """Writes a PNG or SVG of what was found, and the times at half of it, over the size of objects; False where nothing
    was."""
    figures = [figure for figure in record.figures if "object" in figure.labels]
    sizes = list(dict.fromkeys(figure.labels["object"] for figure in figures))
    panels = [
        Panel(unit, [_of_objects(figures, key, sizes, factor)], QUANTITIES[key].name)
        for key, (unit, factor) in zip(SEARCHED, _UNITS_OF_SEARCHED, strict=True)
        if any(figure.quantity == key for figure in figures)
    ]
    if any(figure.quantity == "response-median" for figure in figures):
        times = (_of_objects(figures, f"response-{which}", sizes, 1e3).values for which in _OF_A_BAND)
        curve = _band("response at half of the throughput", *times)
        panels.append(Panel("ms", [curve], curve.name))
    if panels:
        draw_columns(f"{record.series or record.between}: RFC 9411", [Column("", "object", sizes, panels)], path)
    return bool(panels)


def _of_objects(figures: Sequence[Figure], quantity: str, sizes: Sequence[str], factor: float) -> Curve:
    found = {f.labels["object"]: f for f in figures if f.quantity == quantity}
    values = [found[size].value * factor if size in found else None for size in sizes]
    doubtful = [bool(size in found and found[size].mark) for size in sizes]
    return Curve(QUANTITIES[quantity].name, values, doubtful=doubtful)
