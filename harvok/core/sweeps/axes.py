"""What a sweep varies: axes with their values, the points that they span, and the order in which points are taken."""

import math
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from itertools import product
from typing import Literal

from harvok.core.units import parse_duration_s, parse_rate_bps, parse_share, parse_size_bytes
from harvok.errors import BadQuantityError, UsageError

Order = Literal["interleaved", "random"]
Role = Literal["setting", "condition", "load"]
_MAX_VALUES = 100
BASELINES = ("baseline-before", "baseline-after")
"""What the series of a sweep's name are called in which nothing is varied."""
MAX_AXES = 2


@dataclass(frozen=True, slots=True)
class Setting:
    """One value of what is varied: as it was written, and as a number where it is one."""

    name: str
    text: str
    number: float | None = None


Point = tuple[Setting, ...]
"""One setting for each of what is varied."""


@dataclass(frozen=True, slots=True)
class Axis:
    """What is varied, over which values. A `setting` is the engineer's to choose, a `condition` is what
    the path does, a `load` what is asked of it."""

    name: str
    values: tuple[Setting, ...]
    role: Role


@dataclass(frozen=True, slots=True)
class AxisKind:
    """How the values of an axis are read, None where they are names; and what they may be."""

    parse: Callable[[str], float] | None
    role: Role
    minimum: float = 0.0
    maximum: float = math.inf


def _number(text: str) -> float:
    if not text.isdigit():
        raise BadQuantityError(f"'{text}' is not a whole number", "Give a number such as 4.")
    return float(text)


def _duration(text: str) -> float:
    return 0.0 if text == "0" else parse_duration_s(text)


@dataclass(frozen=True, slots=True)
class AxisSet:
    """What can be varied of a kind of test, the impairments of its path left out; `of` names it in messages."""

    of: str
    kinds: Mapping[str, AxisKind]


_SHARED = {
    "socket-buffer": AxisKind(parse_size_bytes, "setting", 1024, 2**30),
    "flows": AxisKind(_number, "setting", 1, 64),
    "dscp": AxisKind(_number, "setting", 0, 63),
}
_FRAME_SIZE = AxisKind(_number, "condition", 64, 65_535)
TCP_AXES = AxisSet(
    "tcp",
    _SHARED
    | {
        "mss": AxisKind(_number, "setting", 88, 65_495),
        "pacing": AxisKind(parse_rate_bps, "setting", 1e3),
        "congestion-control": AxisKind(None, "setting"),
    },
)
UDP_AXES = AxisSet("udp", _SHARED | {"load": AxisKind(parse_rate_bps, "load", 1e3), "frame-size": _FRAME_SIZE})
FRAME_AXES = AxisSet("frames", {"load": AxisKind(parse_share, "load", 1e-6, 1), "frame-size": _FRAME_SIZE})
NO_AXES = AxisSet("this test", {})
_IMPAIRMENTS: dict[str, Callable[[str], float]] = {
    "delay": _duration,
    "variation": _duration,
    "loss": parse_share,
    "burst-loss": parse_share,
    "burst-length": _number,
    "reordering": parse_share,
    "reorder-by": _duration,
    "duplication": parse_share,
    "corruption": parse_share,
    "rate": parse_rate_bps,
    "queue": parse_size_bytes,
}
"""Keys of an impairment's file, for both directions or with `send.` or `receive.` before them for one."""


def is_impairment(name: str) -> bool:
    """Whether an axis is one of what an impairment does."""
    way, _, key = name.rpartition(".")
    return key in _IMPAIRMENTS and way in ("", "send", "receive")


def parse_axis(text: str, axes: AxisSet, min_values: int = 2) -> Axis:
    """Reads `flows=1,2,4`, `delay=0,5ms`, `load=10%..100%/10` (evenly spaced) or `socket-buffer=64k..4M*2` (each twice
    the one before). Raises UsageError naming what is wrong."""
    name, sign, values = text.partition("=")
    kinds = axes.kinds
    if not sign or not (name in kinds or is_impairment(name)):
        raise UsageError(
            f"'{text}' names nothing that can be varied of {axes.of}",
            f"Write NAME=VALUE,VALUE,… with one of {', '.join(kinds)}; or of an impairment {', '.join(_IMPAIRMENTS)}.",
        )
    kind = kinds.get(name) or AxisKind(_IMPAIRMENTS[name.rpartition(".")[2]], "condition")
    settings = tuple(Setting(name, value, number) for value, number in _values(name, values, kind))
    outside = next((s for s in settings if s.number is not None and not _may_be(s.number, kind)), None)
    if outside:
        raise UsageError(f"{name}: {outside.text} is not possible", f"{name} is to be {_bounds(kind)}.")
    if len({setting.text for setting in settings}) < min_values:
        raise UsageError(f"{name} has fewer than {min_values} values", "A sweep needs something to vary.")
    return Axis(name, settings, kind.role)


def parse_loads(text: str, axes: AxisSet) -> tuple[float, ...]:
    """The loads of a ramp, in their order; one may come again. Raises UsageError."""
    return tuple(setting.number or 0.0 for setting in parse_axis(f"load={text}", axes, min_values=1).values)


def parse_axes(texts: Sequence[str], axis_set: AxisSet) -> tuple[Axis, ...]:
    """The axes of a sweep, one or two different ones. Raises UsageError."""
    axes = tuple(parse_axis(text, axis_set) for text in texts)
    if not 1 <= len(axes) <= MAX_AXES or len({axis.name for axis in axes}) < len(axes):
        raise UsageError("a sweep varies one or two different things", "Name each once.")
    return axes


def _may_be(number: float, kind: AxisKind) -> bool:
    return kind.minimum <= number <= kind.maximum and (kind.parse is not _number or number == int(number))


def _bounds(kind: AxisKind) -> str:
    if kind.parse is parse_share:
        return f"from {kind.minimum * 100:g}% to {kind.maximum * 100:g}%"
    whole = "a whole number " if kind.parse is _number else ""
    return (
        f"{kind.minimum:g} at least"
        if kind.maximum == math.inf
        else f"{whole}from {kind.minimum:g} to {kind.maximum:.10g}"
    )


def _values(name: str, text: str, kind: AxisKind) -> Iterator[tuple[str, float | None]]:
    for part in filter(None, (part.strip() for part in text.split(","))):
        try:
            if kind.parse is None:
                yield part, None
            elif ".." in part:
                yield from span(part, kind.parse)
            else:
                yield part, kind.parse(part)
        except BadQuantityError as error:
            raise UsageError(f"{name}: {error.message}", error.hint) from error


def span(text: str, parse: Callable[[str], float]) -> list[tuple[str, float]]:
    """The values of `FIRST..LAST/COUNT` or `FIRST..LAST*FACTOR`, upwards or downwards, each with how it is written.
    Raises BadQuantityError."""
    ends, by, step = text.rpartition("/") if "/" in text else text.rpartition("*")
    first_text, _, last_text = ends.partition("..")
    wrong = BadQuantityError(
        f"'{text}' is no range", "Write FIRST..LAST/COUNT, or FIRST..LAST*FACTOR for steps that grow."
    )
    if not by or not step.replace(".", "", 1).isdigit():
        raise wrong
    first, last, size = parse(first_text), parse(last_text), float(step)
    if by == "/":
        if not 2 <= size <= _MAX_VALUES or size != int(size):
            raise wrong
        numbers = [first + (last - first) * n / (size - 1) for n in range(int(size))]
    else:
        if size <= 1 or first <= 0 or last <= 0:
            raise wrong
        numbers = list(_multiplied(first, last, size))
    units = sorted(_unit(end, value) for end, value in ((first_text, first), (last_text, last)) if value)
    return [(_written(number, units), number) for number in numbers]


def _multiplied(first: float, last: float, factor: float) -> Iterator[float]:
    """First, first × factor and so on up to last; or divided, down to it."""
    number, step = first, factor if last >= first else 1 / factor
    low, high = sorted((first, last))
    for _ in range(_MAX_VALUES):
        if not low * 0.9999 <= number <= high * 1.0001:
            return
        yield number
        number *= step


def _unit(written: str, number: float) -> tuple[float, str]:
    """(what one of it is, the unit) of a number as it was written: 4M is in units of 1 000 000, called M."""
    digits = written.rstrip("%abcdefghijklmnopqrstuvwxyzµABCDEFGHIJKLMNOPQRSTUVWXYZ/")
    return number / float(digits), written[len(digits) :]


def _written(number: float, units: Sequence[tuple[float, str]]) -> str:
    """A number in the largest of the units that makes one or more of it; the smallest where none does."""
    size, unit = next((one for one in reversed(units) if number >= one[0] * 0.9999), units[0] if units else (1.0, ""))
    return f"{number / size:.6g}{unit}"


def points_of(axes: Sequence[Axis]) -> list[Point]:
    """Every combination of the values of all axes."""
    return list(product(*(axis.values for axis in axes)))


def point_name(point: Point) -> str:
    """A point as part of a series' name."""
    return "_".join(f"{setting.name}-{setting.text}" for setting in point)


def order_of(points: int, repeats: int, shuffle: Callable[[list[int]], None] | None = None) -> list[int]:
    """The sequence in which points are measured: each once in every round, so that drift does not pass for a trend.

    With `shuffle` every round has an order of its own, otherwise that in which the points were given.
    """
    sequence = []
    for _ in range(repeats):
        turn = list(range(points))
        if shuffle:
            shuffle(turn)
        sequence += turn
    return sequence
