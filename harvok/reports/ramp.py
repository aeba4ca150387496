"""Draws a load that was raised or lowered in steps: what arrived, what was lost and what it took, over the load."""

from collections.abc import Sequence
from pathlib import Path

from harvok.core.figures import Figure, find
from harvok.core.kinds.table import kind_of
from harvok.core.models.run import RunRecord
from harvok.core.quantities import QUANTITIES
from harvok.reports.curves import Column, Curve, Panel, draw_columns
from harvok.reports.sweep import UNITS

_UNITS = ("b/s", "ratio", "s")
_REFERENCE = "udp-offered"
_DRAWN = {
    _REFERENCE, "udp-received", "datagram-loss", "one-way-delay-mean", "delay-variation-p99", "forwarding-rate-l2",
    "frame-loss", "latency-median", "latency-p999",
}  # fmt: skip
"""Of all that was measured at each load, what a reader looks for in a picture."""


def draw_ramp(record: RunRecord, path: Path) -> bool:
    """Writes a PNG or SVG, with a column for each direction; False when there is nothing to draw."""
    found = [figure for figure in record.figures if "load" in figure.labels]
    columns = [
        _column(kind_of(record.test).quantities, of_way, way)
        for way in ("send", "receive")
        if (of_way := [figure for figure in found if figure.labels["direction"] == way])
    ]
    if columns:
        draw_columns(f"{record.series or record.rig.name}: what became of the load", columns, path)
    return bool(columns)


def _column(quantities: Sequence[str], figures: Sequence[Figure], direction: str) -> Column:
    loads = list(dict.fromkeys(figure.labels["load"] for figure in figures))
    sizes = list(dict.fromkeys(figure.labels.get("frame-size", "") for figure in figures))
    panels = []
    for unit in _UNITS:
        names = [name for name in quantities if QUANTITIES[name].unit == unit and name in _DRAWN]
        drawn, factor = UNITS[unit]
        curves = [curve for name in names for size in sizes if (curve := _curve(figures, name, size, loads, factor))]
        if unit == "s":
            curves = _delays(figures, sizes, loads, factor) or curves
        if curves:
            panels.append(Panel(drawn, curves, curves[0].name if len(curves) == 1 else ""))
    return Column(direction, "load", loads, panels)


def _delays(figures: Sequence[Figure], sizes: Sequence[str], loads: Sequence[str], factor: float) -> list[Curve]:
    """The median latency of each frame size, in a band from min to p99.9; empty where none was taken."""
    made = []
    for size in sizes:
        low, median, high = (
            _curve(figures, name, size, loads, factor) for name in ("latency-min", "latency-median", "latency-p999")
        )
        if low and median and high:
            name = f"median latency, {size} B, in a band from min to p99.9"
            made.append(Curve(name, median.values, low=low.values, high=high.values))
    return made


def _curve(figures: Sequence[Figure], name: str, size: str, loads: Sequence[str], factor: float) -> Curve | None:
    labels = {"frame-size": size} if size else {}
    values = [find(figures, name, load=load, **labels) for load in loads]
    if all(value is None for value in values):
        return None
    words = f"{QUANTITIES[name].name}, {size} B" if size else QUANTITIES[name].name
    style = "reference" if name == _REFERENCE else "measured"
    scaled = [None if value is None else value * factor for value in values]
    doubtful = [any(f.mark == "tester-limit" for f in figures if f.labels["load"] == load) for load in loads]
    return Curve(words, scaled, style, doubtful=doubtful if style == "measured" else ())  # type: ignore[arg-type]
