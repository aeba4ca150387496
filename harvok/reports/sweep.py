"""Draws a sweep: curves with their intervals and what arithmetic expects, or a heat map over two axes."""

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from harvok.core.quantities import QUANTITIES
from harvok.core.sweeps.reading import SweepReading, SweptPoint
from harvok.core.units import format_rate
from harvok.reports.curves import DPI, SIZE_INCHES, Column, Curve, Panel, draw_columns

if TYPE_CHECKING:
    from matplotlib.axes import Axes

UNITS: dict[str, tuple[str, float]] = {"ratio": ("%", 100.0), "s": ("ms", 1e3), "b/s": ("Mb/s", 1e-6)}
"""How a unit is drawn, and by what its values are multiplied."""


def draw_sweep(readings: Sequence[SweepReading], name: str, path: Path) -> None:
    """Writes a PNG or SVG, with a column for each direction."""
    what = QUANTITIES[readings[0].quantity].name
    title = f"{name}: {what} over {' and '.join(readings[0].roles)}"
    if len(readings[0].roles) == 1:
        draw_columns(title, [_column(reading) for reading in readings], path)
    else:
        _draw_maps(title, readings, path)


def _column(reading: SweepReading) -> Column:
    points = reading.points
    measured = Curve(
        "measured, 95 % interval",
        [point.summary.mean / 1e6 for point in points],
        low=[_interval(point)[0] for point in points],
        high=[_interval(point)[1] for point in points],
        doubtful=[point.by_tester for point in points],
    )
    main = [measured]
    if reading.baseline:
        main.append(Curve("baseline", [reading.baseline.mean / 1e6] * len(points), "reference"))
    for bound in dict.fromkeys(name for point in points for name in point.bounds):
        main.append(Curve(bound, [_in_megabits(point.bounds.get(bound)) for point in points], "expected"))
    knee = reading.knee
    words = {"gain": "knee", "harm": "nothing lost up to here"}
    return Column(
        title=reading.direction,
        across=next(iter(reading.roles)),
        points=[point.settings[0].text for point in points],
        panels=[Panel("Mb/s", main), *_beside(reading)],
        mark=([point.settings for point in points].index(knee.point.settings), words[knee.kind]) if knee else None,
    )


def _beside(reading: SweepReading) -> list[Panel]:
    """A panel for each unit of what stands beside."""
    panels = []
    for unit, (drawn, factor) in UNITS.items():
        curves = [
            Curve(QUANTITIES[name].name, [_times(point.beside.get(name), factor) for point in reading.points])
            for name in reading.beside
            if QUANTITIES[name].unit == unit and any(name in point.beside for point in reading.points)
        ]
        if curves:
            panels.append(Panel(drawn, curves, curves[0].name if len(curves) == 1 else ""))
    return panels


def _times(value: float | None, factor: float) -> float | None:
    return None if value is None else value * factor


def _in_megabits(value: float | None) -> float | None:
    return _times(value, 1e-6)


def _interval(point: SweptPoint) -> tuple[float, float]:
    """The interval in Mb/s; the mean alone where there is none."""
    if len(point.summary.values) < 2:
        return point.summary.mean / 1e6, point.summary.mean / 1e6
    interval = point.summary.interval()
    return max(interval.low, 0.0) / 1e6, interval.high / 1e6


def _draw_maps(title: str, readings: Sequence[SweepReading], path: Path) -> None:
    import matplotlib

    matplotlib.use("Agg")
    from matplotlib import pyplot

    figure, panels = pyplot.subplots(1, len(readings), figsize=SIZE_INCHES, squeeze=False, layout="constrained")
    for reading, panel in zip(readings, panels[0], strict=True):
        _heat_map(panel, reading)
        panel.set_title(reading.direction)
    figure.suptitle(title)
    figure.savefig(path, dpi=DPI)
    pyplot.close(figure)


def _heat_map(panel: "Axes", reading: SweepReading) -> None:
    across, down = ([*dict.fromkeys(point.settings[axis].text for point in reading.points)] for axis in (0, 1))
    values = [[float("nan")] * len(across) for _ in down]
    for point in reading.points:
        values[down.index(point.settings[1].text)][across.index(point.settings[0].text)] = point.summary.mean / 1e6
    image = panel.imshow(values, cmap="viridis", aspect="auto", vmin=0)
    panel.figure.colorbar(image, ax=panel, label="Mb/s")
    middle = max(point.summary.mean for point in reading.points) / 2e6
    for row, line in enumerate(values):
        for column, value in enumerate(line):
            words = format_rate(value * 1e6) if value == value else "none"
            colour = "white" if value < middle else "black"
            panel.text(column, row, words, ha="center", va="center", color=colour, fontsize=9)
    panel.set_xticks(range(len(across)), across)
    panel.set_yticks(range(len(down)), down)
    panel.set_xlabel(reading.points[0].settings[0].name)
    panel.set_ylabel(reading.points[0].settings[1].name)
