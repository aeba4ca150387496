"""Intervals in words, with as many digits as the verdict needs: printed numbers lie on the side of a printed limit on
which the real ones lie."""

from harvok.core.units import format_quantity

_MAX_DECIMALS = 6
MAX_TELLING_WIDTH = 2.0
"""Of an interval of a change, as a ratio: one that is wider says nothing, and its ends are no numbers to read."""


def change_span(low: float, high: float) -> str:
    """The interval of a change, as a ratio, in percent; unknown where it is too wide to tell anything."""
    if not high - low <= MAX_TELLING_WIDTH:
        return "unknown"
    first, last = f"{low * 100:+.1f}", f"{high * 100:+.1f}"
    return f"{first} %" if first == last else f"{first} to {last} %"


def percent_span(low: float, high: float, limit: float, signed: bool = False) -> str:
    """An interval of ratios in percent, to a tenth, or to more digits where a tenth would hide the verdict."""
    decimals = next((d for d in range(1, _MAX_DECIMALS) if _sides_show((low, high), limit, d)), _MAX_DECIMALS)
    first, last = (f"{value * 100:{'+' if signed else ''}.{decimals}f}" for value in (low, high))
    return f"{first} %" if first == last else f"{first} to {last} %"


def quantity_span(low: float, high: float, limit: float, unit: str) -> str:
    """An interval in a unit of the registry; where it looks like the limit, with how far it is from it."""
    if unit == "ratio":
        return percent_span(low, high, limit)
    first, last = format_quantity(low, unit), format_quantity(high, unit)
    span = first if first == last else f"{first} to {last}"
    nearest = min((low, high), key=lambda value: abs(value - limit))
    if nearest == limit or format_quantity(limit, unit) not in (first, last):
        return span
    gap = format_quantity(abs(nearest - limit), unit)
    return f"{span} ({gap} {'above' if nearest > limit else 'below'} the limit)"


def _sides_show(values: tuple[float, ...], limit: float, decimals: int) -> bool:
    shown = round(limit * 100, decimals)
    return all(_side(round(value * 100, decimals), shown) == _side(value, limit) for value in values)


def _side(value: float, limit: float) -> int:
    return (value > limit) - (value < limit)
