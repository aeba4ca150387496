"""A figure over the months as a plot, with the band of its baseline."""

from pathlib import Path

from harvok.core.judgement.trend import Trend
from harvok.core.quantities import QUANTITIES
from harvok.core.units import format_quantity
from harvok.errors import UsageError

_INCHES, _DPI = (8.0, 4.5), 160


def draw_trend(found: Trend, figure: str, rig: str, path: Path) -> None:
    """Draws it into a PNG or SVG. Raises UsageError for another suffix, or a file that cannot be written."""
    if path.suffix not in (".png", ".svg"):
        raise UsageError(f"'{path.suffix}' is no form of a plot", "Name a .png or an .svg file.")
    from matplotlib.figure import Figure as Canvas

    quantity = QUANTITIES[figure]
    canvas = Canvas(figsize=_INCHES, layout="constrained")
    axes = canvas.add_subplot()
    axes.axhspan(found.low, found.high, color="C0", alpha=0.15, label=f"band of the first {found.baseline} runs")
    axes.axhline(found.mean, color="C0", linestyle="--", linewidth=1)
    inside = [point for point in found.points if point not in found.outside]
    axes.plot([p.day for p in inside], [p.value for p in inside], "o", color="C0", label="within the band")
    axes.plot([p.day for p in found.outside], [p.value for p in found.outside], "X", color="C3", label="outside")
    axes.set(xlabel="days since the first run", ylabel=quantity.name, title=f"{quantity.name}, {rig}")
    axes.yaxis.set_major_formatter(lambda value, _: format_quantity(value, quantity.unit))
    axes.grid(alpha=0.3)
    axes.legend()
    try:
        canvas.savefig(path, dpi=_DPI)
    except OSError as error:
        raise UsageError(f"{path} cannot be written: {error.strerror}", "Give --to another file.") from error
