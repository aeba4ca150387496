"""Draws a sweep: a line with its intervals and the theory beside it, or a heat map over two settings."""

from pathlib import Path
from typing import TYPE_CHECKING, Any

from harvok.core.judgement.sweep import SweepReading, SweptPoint
from harvok.core.units import format_rate

if TYPE_CHECKING:
    from matplotlib.axes import Axes

_MEASURED, _THEORY, _BASELINE = "#1f4e79", "#b35c00", "#5a5a5a"
_SIZE_INCHES, _DPI = (10.0, 6.25), 128


def draw_sweep(readings: list[SweepReading], name: str, path: Path) -> None:
    """Writes a PNG or SVG, with a panel for each direction."""
    import matplotlib

    matplotlib.use("Agg")
    from matplotlib import pyplot

    figure, panels = pyplot.subplots(1, len(readings), figsize=_SIZE_INCHES, squeeze=False, layout="constrained")
    for reading, panel in zip(readings, panels[0], strict=True):
        if len(reading.points[0].settings) == 1:
            _line(panel, reading)
        else:
            _heat_map(panel, reading)
        panel.set_title(f"{reading.direction}")
    figure.suptitle(f"{name}: settled goodput over {' and '.join(s.name for s in readings[0].points[0].settings)}")
    figure.savefig(path, dpi=_DPI)
    pyplot.close(figure)


def _line(panel: "Axes", reading: SweepReading) -> None:
    places = list(range(len(reading.points)))
    means = [one.summary.mean / 1e6 for one in reading.points]
    lows, highs = zip(*(_span(one) for one in reading.points), strict=True)
    errors: Any = [
        [m - low for m, low in zip(means, lows, strict=True)],
        [h - m for h, m in zip(highs, means, strict=True)],
    ]
    panel.errorbar(places, means, yerr=errors, fmt="o-", color=_MEASURED, capsize=4, label="measured, 95 % interval")
    theory = [(place, one.theory / 1e6) for place, one in enumerate(reading.points) if one.theory]
    top = max(*highs, (reading.baseline.mean / 1e6 if reading.baseline else 0.0))
    shown = [(place, value) for place, value in theory if value <= 1.5 * top]
    if shown:
        panel.plot(*zip(*shown, strict=True), "s--", color=_THEORY, label="window / least RTT")
    if reading.baseline:
        panel.axhline(reading.baseline.mean / 1e6, color=_BASELINE, linestyle=":", label="baseline")
    if reading.knee:
        panel.axvline(reading.points.index(reading.knee), color=_BASELINE, linewidth=0.8)
        panel.annotate(
            "knee", (reading.points.index(reading.knee), top * 1.1), xytext=(5, 0), textcoords="offset points"
        )
    panel.set_xticks(places, [one.settings[0].text for one in reading.points])
    panel.set_xlabel(reading.points[0].settings[0].name)
    panel.set_ylabel("Mb/s of goodput")
    panel.set_ylim(0, top * 1.2)
    panel.grid(axis="y", alpha=0.3)
    panel.legend(loc="upper left")


def _span(point: SweptPoint) -> tuple[float, float]:
    """The interval in Mb/s; the mean alone where there is none."""
    if len(point.summary.values) < 2:
        return point.summary.mean / 1e6, point.summary.mean / 1e6
    interval = point.summary.interval()
    return max(interval.low, 0.0) / 1e6, interval.high / 1e6


def _heat_map(panel: "Axes", reading: SweepReading) -> None:
    across, down = ([*dict.fromkeys(one.settings[axis].text for one in reading.points)] for axis in (0, 1))
    values = [[0.0] * len(across) for _ in down]
    for one in reading.points:
        values[down.index(one.settings[1].text)][across.index(one.settings[0].text)] = one.summary.mean / 1e6
    image = panel.imshow(values, cmap="viridis", aspect="auto")
    panel.figure.colorbar(image, ax=panel, label="Mb/s of goodput")
    middle = (max(map(max, values)) + min(map(min, values))) / 2
    for row, line in enumerate(values):
        for column, value in enumerate(line):
            colour = "white" if value < middle else "black"
            panel.text(column, row, format_rate(value * 1e6), ha="center", va="center", color=colour, fontsize=9)
    panel.set_xticks(range(len(across)), across)
    panel.set_yticks(range(len(down)), down)
    panel.set_xlabel(reading.points[0].settings[0].name)
    panel.set_ylabel(reading.points[0].settings[1].name)
