"""Small words and formats that several views share."""

from collections.abc import Callable
from typing import TYPE_CHECKING, TypeVar

from rich.text import Text

from harvok.core.quantities import QUANTITIES
from harvok.core.units import FORMATS as UNIT_FORMATS
from harvok.core.units import format_frame_rate

if TYPE_CHECKING:
    from harvok.core.judgement.finding import Verdict

FORMATS: dict[str, Callable[[float], str]] = UNIT_FORMATS | {"frames/s": format_frame_rate}
"""How a value of each unit is shown in a column whose heading names the unit."""

DASH = "–"
ARROWS = {"send": "→", "receive": "←"}
"""Directions as seen from the near end."""
_VERDICT_STYLES: "dict[Verdict, str]" = {"ACCEPT": "bold green", "REJECT": "bold red", "RETEST": "bold yellow"}


ValueT = TypeVar("ValueT")


def span_words(start_s: float, end_s: float) -> str:
    """A span of a trial's time axis, to a tenth of a second; what began just before the origin began at 0.0."""
    return f"{max(start_s, 0.0):.1f} to {end_s:.1f} s"


def maybe(value: ValueT | None, show: Callable[[ValueT], str]) -> str:
    """The value as shown, or a dash where there is none."""
    return DASH if value is None else show(value)


def figure_cell(quantity: str, value: float | None) -> str:
    """A value in a column whose heading names quantity and unit; a dash where there is none."""
    return maybe(value, FORMATS[QUANTITIES[quantity].unit])


def direction_words(direction: str) -> str:
    """A direction with its arrow, as seen from the near end."""
    return f"{direction} {ARROWS[direction]}" if direction in ARROWS else direction


def verdict_text(verdict: "Verdict") -> Text:
    """The verdict, in a colour that only repeats what the word says."""
    return Text(verdict, style=_VERDICT_STYLES[verdict])
