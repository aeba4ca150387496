"""A figure is one number with its meaning: a quantity, the labels that say of what, and the value."""

from collections import Counter
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from typing import Literal

from harvok.core.quantities import QUANTITIES, Quantity

Mark = Literal["", "tester-limit", "lossy"]
FigureKey = tuple[str, tuple[tuple[str, str], ...]]
"""What a figure is of: its quantity, and its labels in the order of their names."""


def figure_key(quantity: str, labels: Mapping[str, str]) -> FigureKey:
    """What a figure of a quantity with these labels is of."""
    return quantity, tuple(sorted(labels.items()))


def numbered(names: Iterable[str]) -> list[str]:
    """Names as labels of figures: one that comes again is numbered."""
    seen: Counter[str] = Counter()
    made = []
    for name in names:
        seen[name] += 1
        made.append(name if seen[name] == 1 else f"{name} ({seen[name]})")
    return made


@dataclass(frozen=True, slots=True)
class Figure:
    """`value` is in the unit of the quantity; `labels` name direction, frame size, flow, service and the like.

    `mark` is `tester-limit` where the tester could not do more, so that the device may well, and `lossy` where a delay
    is of a stream that lost frames: no verdict rests on either.
    `resolution` is how much higher the true value may be, in the unit of the quantity, since the search that found it
    looked no closer; of a share that was counted, one in all that were; 0 where neither is so.
    """

    quantity: str
    value: float
    labels: dict[str, str] = field(default_factory=dict)
    mark: Mark = ""
    resolution: float = 0.0

    @property
    def meaning(self) -> Quantity:
        return QUANTITIES[self.quantity]

    @property
    def key(self) -> FigureKey:
        """What this figure is of; figures of different runs with one key may be compared."""
        return figure_key(self.quantity, self.labels)


def counted_share(quantity: str, seen: int, of: int, labels: dict[str, str], mark: Mark = "") -> Figure:
    """A figure of so many that were counted of so many; of none it is 0."""
    return Figure(quantity, seen / of if of else 0.0, labels, mark, 1 / of if of else 0.0)


def find(figures: Iterable[Figure], quantity: str, **labels: str) -> float | None:
    """The value of the first figure of a quantity with all the given labels, or None."""
    for figure in figures:
        if figure.quantity == quantity and labels.items() <= figure.labels.items():
            return figure.value
    return None
