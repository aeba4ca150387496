"""Figures over the months as a plot: of one with the band of its baseline, of several each in a colour of its own."""

from collections.abc import Mapping
from datetime import datetime, timedelta
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from harvok.core.judgement.trend import Point, Trend
from harvok.core.quantities import QUANTITIES
from harvok.core.units import format_quantity
from harvok.errors import UsageError

if TYPE_CHECKING:
    from matplotlib.axes import Axes

_INCHES, _DPI = (10.0, 6.25), 128
_MARKERS = "osD^vPX<>*hd"
_MAX_DOTS = 120
"""Of one line: of more, each dot is the median of a few, with a bar from the lowest to the highest of them."""


def draw_trends(found: Mapping[str, Trend], figure: str, path: Path) -> None:
    """Draws them into a PNG or SVG. Raises UsageError for another suffix, or a file that cannot be written."""
    if path.suffix not in (".png", ".svg"):
        raise UsageError(f"'{path.suffix}' is no form of a plot", "Name a .png or an .svg file.")
    from matplotlib.figure import Figure as Canvas

    quantity = QUANTITIES[figure]
    canvas = Canvas(figsize=_INCHES, layout="constrained")
    axes = canvas.add_subplot()
    if len(found) == 1:
        for name, one in found.items():
            _draw_one(axes, name, one)
    else:
        for number, (name, one) in enumerate(found.items()):
            _draw_line(axes, one, f"C{number % 10}", _MARKERS[number % len(_MARKERS)], name)
    what = f", {next(iter(found))}" if len(found) == 1 else ""
    axes.set(ylabel=quantity.name, title=f"{quantity.name}{what}")
    axes.yaxis.set_major_formatter(lambda value, _: format_quantity(value, quantity.unit))
    axes.tick_params(axis="x", rotation=20)
    axes.grid(alpha=0.3)
    axes.legend(loc="best", framealpha=0.9)
    try:
        canvas.savefig(path, dpi=_DPI)
    except OSError as error:
        raise UsageError(f"{path} cannot be written: {error.strerror}", "Give --to another file.") from error


def _draw_one(axes: "Axes", name: str, found: Trend) -> None:
    axes.axhspan(found.low, found.high, color="C0", alpha=0.15, label=f"band of the first {found.baseline} runs")
    axes.axhline(found.mean, color="C0", linestyle="--", linewidth=1)
    _draw_line(axes, found, "C0", "o", name)
    if found.outside:
        outside: list[Any] = [_moment(found, point) for point in found.outside]
        axes.plot(outside, [p.value for p in found.outside], "x", color="C3", markersize=5, label="outside")
    for change in found.changes:
        axes.axvline(_moment(found, found.points[change.index]), color="#8a5a00", linestyle=":")  # type: ignore[arg-type]


def _draw_line(axes: "Axes", found: Trend, colour: str, marker: str, name: str) -> None:
    groups = np.array_split(np.arange(len(found.points)), min(len(found.points), _MAX_DOTS))
    chosen = [[found.points[index] for index in group] for group in groups]
    moments: list[Any] = [_moment(found, few[len(few) // 2]) for few in chosen]
    middles = [float(np.median([point.value for point in few])) for few in chosen]
    if len(found.points) > _MAX_DOTS:
        values = [[point.value for point in few] for few in chosen]
        axes.vlines(moments, [min(few) for few in values], [max(few) for few in values], color=colour, alpha=0.35)
    axes.plot(moments, middles, marker, color=colour, markersize=4, linestyle="-", linewidth=0.6, label=name)


def _moment(found: Trend, point: Point) -> datetime | float:
    """When it was; days since the first where nobody says when that was."""
    return found.first + timedelta(days=point.day) if found.first else point.day
