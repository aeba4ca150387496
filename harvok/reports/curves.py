"""Curves over what was varied, in panels below each other: rates, loss and delay share one axis."""

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal

if TYPE_CHECKING:
    from matplotlib.axes import Axes

SIZE_INCHES, DPI = (10.0, 6.25), 128
_MARKERS = "osD^v"
GREY, LIMIT_RED = "#5a5a5a", "#b00020"
_MAX_LETTERS = 70  # more than these do not fit side by side
_MAX_LEGEND_ROWS = 4
_ROOM_FOR_LEGEND = 20  # on a logarithmic axis
_MAX_LINEAR = 30  # from the least to the greatest: beyond, the small ones would all lie on the axis

Style = Literal["measured", "expected", "reference"]


@dataclass(frozen=True, slots=True)
class Curve:
    """A line over the points; None is a gap. `low` and `high` are its band or interval, where it has one; `doubtful`
    points are drawn hollow, since they speak of the tester."""

    name: str
    values: Sequence[float | None]
    style: Style = "measured"
    low: Sequence[float | None] = ()
    high: Sequence[float | None] = ()
    doubtful: Sequence[bool] = ()


@dataclass(frozen=True, slots=True)
class Panel:
    """Curves of one unit; those that are only expected reach beyond the top where they have to. `name` says what they
    are where no legend does."""

    unit: str
    curves: Sequence[Curve]
    name: str = ""


@dataclass(frozen=True, slots=True)
class Column:
    """Panels over one row of points. `mark` is the number of a point and what is said of it."""

    title: str
    across: str
    points: Sequence[str]
    panels: Sequence[Panel]
    mark: tuple[int, str] | None = None


def draw_columns(title: str, columns: Sequence[Column], path: Path) -> None:
    """Writes a PNG or SVG: a column for each direction, a row for each panel."""
    import matplotlib

    matplotlib.use("Agg")
    from matplotlib import pyplot

    rows = max(len(column.panels) for column in columns)
    figure, places = pyplot.subplots(
        rows,
        len(columns),
        figsize=SIZE_INCHES,
        squeeze=False,
        sharex="col",
        layout="constrained",
        gridspec_kw={"height_ratios": [2.0] + [1.0] * (rows - 1)},
    )
    for number, column in enumerate(columns):
        for panel, axes in zip(column.panels, places[:, number], strict=False):
            _draw_panel(axes, panel, column)
        places[0, number].set_title(column.title)
        last = places[len(column.panels) - 1, number]
        crowded = sum(map(len, column.points)) * len(columns) > _MAX_LETTERS or len(column.points) > 12
        turned = {"rotation": 30, "ha": "right"} if crowded else {}
        last.set_xticks(range(len(column.points)), column.points, **turned)
        last.set_xlabel(column.across)
    if any(any(curve.doubtful) for column in columns for panel in column.panels for curve in panel.curves):
        title += "\nhollow: the tester fell short there, which says nothing of the path"
    figure.suptitle(title)
    figure.savefig(path, dpi=DPI)
    pyplot.close(figure)


def _draw_panel(axes: "Axes", panel: Panel, column: Column) -> None:
    measured = [curve for curve in panel.curves if curve.style != "expected"]
    top = max((value for c in measured for value in (*c.values, *c.high) if value is not None), default=0.0)
    for number, curve in enumerate(panel.curves):
        _draw_curve(axes, curve, number)
    minimum = min((value for c in measured for value in c.values if value is not None), default=0.0)
    if minimum > 0 and top > _MAX_LINEAR * minimum:
        axes.set_yscale("log")
        axes.set_ylim(minimum / 2, top * (_ROOM_FOR_LEGEND if len(panel.curves) > 1 else 2))
        axes.yaxis.set_major_formatter(lambda value, _: f"{value:g}")
    else:
        axes.set_ylim(-0.05 * (top or 1.0), 1.2 * (top or 1.0))
    axes.set_ylabel(panel.unit)
    if panel.name:
        axes.set_title(panel.name, loc="left", fontsize="small")
    axes.grid(axis="y", alpha=0.3)
    if column.mark:
        at, words = column.mark
        axes.axvline(at, color=GREY, linewidth=0.8)
        if panel is column.panels[0]:
            axes.annotate(words, (at, top * 1.1), xytext=(5, 0), textcoords="offset points", color=GREY)
    if len(panel.curves) > 1:
        axes.legend(fontsize="small", ncols=-(-len(panel.curves) // _MAX_LEGEND_ROWS))


def _draw_curve(axes: "Axes", curve: Curve, number: int) -> None:
    at = [place for place, value in enumerate(curve.values) if value is not None]
    values: Any = [curve.values[place] for place in at]
    if curve.style == "reference":
        axes.plot(at, values, ":", color=GREY, label=curve.name)
        return
    if curve.style == "expected":
        axes.plot(at, values, "--", marker="x", color=f"C{number}", label=curve.name)
        return
    axes.plot(at, values, marker=_MARKERS[number % len(_MARKERS)], color=f"C{number}", label=curve.name)
    hollow = [place for place in at if curve.doubtful and curve.doubtful[place]]
    if hollow:
        marker = _MARKERS[number % len(_MARKERS)]
        there: Any = [curve.values[place] for place in hollow]
        axes.plot(hollow, there, marker=marker, color=f"C{number}", markerfacecolor="white", linestyle="", zorder=5)
    if curve.low and curve.high:
        low: Any = [curve.low[place] for place in at]
        high: Any = [curve.high[place] for place in at]
        axes.fill_between(at, low, high, color=f"C{number}", alpha=0.2, linewidth=0)
