"""Rates, sizes and times as people write them, read into plain numbers and printed again.

Bits per second are decimal (1 Mb/s = 10^6 b/s, IEEE 802.3 usage). Sizes are bytes: `k`, `M`, `G` are decimal,
`Ki`, `Mi`, `Gi` binary.
"""

import math
import re
from collections.abc import Callable

from harvok.errors import BadQuantityError

_NUMBER = re.compile(r"\s*([0-9]+(?:\.[0-9]+)?|\.[0-9]+)\s*([A-Za-zµ/]*)\s*")

_DECIMAL = {"": 1.0, "k": 1e3, "K": 1e3, "M": 1e6, "G": 1e9, "T": 1e12}
_BINARY = {"Ki": 2.0**10, "Mi": 2.0**20, "Gi": 2.0**30, "Ti": 2.0**40}
_SECONDS = {"ns": 1e-9, "us": 1e-6, "µs": 1e-6, "ms": 1e-3, "s": 1.0, "min": 60.0, "h": 3600.0, "d": 86_400.0}

UNBOUNDED = "unbounded"
"""What an end of an interval is called that a single run has."""

RATE_FORM = "a rate in bits per second such as 100M, 2.5G or 941.5Mb/s"
SIZE_FORM = "a size in bytes such as 64k, 1500, 8M or 4Mi"
DURATION_FORM = "a time such as 1.5ms, 35ms, 60s or 2min"


def _split(text: str, form: str) -> tuple[float, str]:
    match = _NUMBER.fullmatch(text)
    if not match:
        raise BadQuantityError(f"'{text}' is not {form}", hint=f"Give {form}.")
    return float(match[1]), match[2]


def _scaled(text: str, suffixes: dict[str, float], endings: tuple[str, ...], form: str) -> float:
    number, suffix = _split(text, form)
    for ending in endings:
        if suffix.endswith(ending):
            suffix = suffix.removesuffix(ending)
            break
    if suffix not in suffixes:
        raise BadQuantityError(f"'{text}' is not {form}", hint=f"Give {form}.")
    return number * suffixes[suffix]


def parse_rate_bps(text: str) -> float:
    """Reads a rate in bits per second. `MB/s` is refused, since that is bytes: people mix the two up.

    Raises BadQuantityError.
    """
    if "B/s" in text:
        raise BadQuantityError(f"'{text}' is a rate in bytes; rates here are in bits", hint=f"Give {RATE_FORM}.")
    return _scaled(text, _DECIMAL, ("b/s", "bit/s"), RATE_FORM)


def parse_size_bytes(text: str) -> int:
    """Reads a size in bytes; raises BadQuantityError for anything else, and for a fraction of a byte."""
    size = _scaled(text, _DECIMAL | _BINARY, ("B",), SIZE_FORM)
    if size != int(size):
        raise BadQuantityError(f"'{text}' is not a whole number of bytes", hint=f"Give {SIZE_FORM}.")
    return int(size)


def parse_duration_s(text: str) -> float:
    """Reads a time into seconds. A bare number is refused: 60 what? Raises BadQuantityError."""
    number, suffix = _split(text, DURATION_FORM)
    if suffix not in _SECONDS:
        raise BadQuantityError(f"'{text}' is not {DURATION_FORM}", hint=f"Give {DURATION_FORM}, with its unit.")
    return number * _SECONDS[suffix]


def _prefixed(value: float, steps: tuple[tuple[float, str], ...], unit: str, uncertainty: float = 0.0) -> str:
    """With the largest prefix that leaves a whole, in four digits, or in as many as an uncertainty leaves."""
    if not value:
        return f"0 {unit}"
    factor, prefix = next((step for step in steps if abs(value) >= step[0] * 0.99995), steps[-1])
    return f"{_four_digits(value / factor, uncertainty / factor)} {prefix}{unit}"


def _four_digits(value: float, uncertainty: float = 0.0) -> str:
    """Four significant digits, or fewer where an uncertainty leaves no more, without an exponent and never rounding
    away whole units."""
    size = abs(value)
    decimals = 3 if size < 9.9995 else 2 if size < 99.995 else 1 if size < 99999.95 else 0
    return f"{value:.{min(decimals, _telling_decimals(uncertainty))}f}"


_EVERY_DECIMAL = 99


def _telling_decimals(uncertainty: float) -> int:
    """How many decimals say something: to the first digit of the uncertainty, to the second where that is a 1 (the rule
    of the guide to uncertainty, JCGM 100 §7.2.6, that one or two digits of it are enough)."""
    if not 0 < uncertainty < math.inf:
        return _EVERY_DECIMAL
    place = math.floor(math.log10(uncertainty))
    return max(int(uncertainty < 2 * 10.0**place) - place, 0)


_RATE_STEPS = ((1e12, "T"), (1e9, "G"), (1e6, "M"), (1e3, "k"), (1.0, ""))


def format_rate(rate_bps: float, uncertainty_bps: float = 0.0) -> str:
    """Bits per second with an SI prefix: 941.5 Mb/s. Gigabits start at 10 Gb/s, so that 1000 Mb/s stays comparable."""
    steps = _RATE_STEPS if abs(rate_bps) >= 9.9995e9 else _RATE_STEPS[2:]
    return _prefixed(rate_bps, steps, "b/s", uncertainty_bps)


def format_frame_rate(rate_fps: float) -> str:
    """Frames per second, whole, in groups of three: 1 488 095."""
    if math.isinf(rate_fps):
        return UNBOUNDED
    return f"{int(rate_fps + 1e-6):,}".replace(",", " ")


def format_per_second(rate: float) -> str:
    """Things that happen each second, whole from 100 on, in groups of three: 12 480, 7.5."""
    return format_frame_rate(round(rate)) if rate >= 99.5 else f"{rate:.3g}"


def format_speed(speed_bps: float) -> str:
    """A rated or negotiated speed in its shortest form: 1 Gb/s, 2.5 Gb/s, 100 Mb/s."""
    for factor, prefix in _RATE_STEPS:
        if speed_bps >= factor:
            return f"{speed_bps / factor:g} {prefix}b/s"
    return f"{speed_bps:g} b/s"


def write_speed(speed_bps: float) -> str:
    """A speed as a file has it: 1G, 2.5G."""
    return format_speed(speed_bps).removesuffix("b/s").replace(" ", "")


def format_byte_rate(rate_bps: float, uncertainty_bps: float = 0.0) -> str:
    """The same rate in bytes per second, as a file copy shows it: 117.7 MB/s."""
    steps = _RATE_STEPS[1:] if abs(rate_bps) >= 80e9 else _RATE_STEPS[2:]
    return _prefixed(rate_bps / 8, steps, "B/s", uncertainty_bps / 8)


def format_size(size_bytes: float) -> str:
    """Bytes with an SI prefix: 4.375 MB; plain below 10 kB."""
    if abs(size_bytes) < 10_000:
        return f"{size_bytes:.0f} B"
    return _prefixed(size_bytes, _RATE_STEPS, "B")


def format_duration(duration_s: float, uncertainty_s: float = 0.0) -> str:
    """A time with the unit that suits it: 35.20 ms, 1.500 s, 2 min 5 s."""
    if not duration_s:
        return "0 s"
    if math.isinf(duration_s):
        return UNBOUNDED
    if duration_s >= 120:
        minutes, seconds = divmod(round(duration_s), 60)
        hours, minutes = divmod(minutes, 60)
        return f"{hours} h {minutes} min" if hours else f"{minutes} min {seconds} s"
    steps = ((1.0, ""), (1e-3, "m"), (1e-6, "µ"), (1e-9, "n"))
    return _prefixed(duration_s, steps, "s", uncertainty_s)


_TIME_STEPS = ((1.0, "s"), (1e-3, "ms"), (1e-6, "µs"))


def _three_digits(value: float) -> str:
    """Three significant digits without trailing zeros behind the point: 216, 4.72, 0.459."""
    text = f"{value:.3g}"
    return text if "e" not in text else f"{value:.0f}"


def format_size_briefly(size_bytes: float) -> str:
    """Bytes in three digits, for columns: 216 kB."""
    for factor, prefix in _RATE_STEPS:
        if abs(size_bytes) >= factor * 0.9995:
            return f"{_three_digits(size_bytes / factor)} {prefix}B"
    return "0 B"


def format_times_briefly(*durations_s: float) -> str:
    """Several times in one unit, for columns: 4/459 µs."""
    largest = max(durations_s)
    factor, unit = next((step for step in _TIME_STEPS if largest >= step[0]), _TIME_STEPS[-1])
    return f"{'/'.join(_three_digits(durations_ / factor) for durations_ in durations_s)} {unit}"


def format_span(duration_s: float) -> str:
    """A planned or set time, in its shortest form: 8 s, 1.5 s, 5 min, 1 h."""
    for unit_s, unit in ((3600.0, "h"), (60.0, "min")):
        if duration_s >= unit_s and duration_s % unit_s == 0:
            return f"{duration_s / unit_s:g} {unit}"
    return f"{duration_s:g} s" if duration_s < 120 else format_duration(duration_s)


def format_share(share: float) -> str:
    """A ratio as a percentage: 99.1 %, or 0.012 % where it is small; what is not zero never looks like it."""
    if 0 < share < 0.000_005:
        return "<0.001 %"
    return f"{share * 100:.3f} %" if 0 < abs(share) < 0.00995 else f"{share * 100:.1f} %"


FORMATS: dict[str, Callable[[float], str]] = {
    "b/s": format_rate,
    "frames/s": lambda value: f"{format_frame_rate(value)} frames/s",
    "/s": lambda value: f"{format_per_second(value)} /s",
    "ratio": format_share,
    "s": format_duration,
    "B": format_size,
    "count": lambda value: f"{value:,.0f}".replace(",", " "),
}
"""How a value of each unit of a quantity is shown, with its unit."""


def format_quantity(value: float, unit: str) -> str:
    """A value in a unit of the registry, as people read it."""
    return FORMATS[unit](value)


def format_measured(value: float, unit: str, uncertainty: float) -> str:
    """The same with the digits that its uncertainty leaves, half the width of an interval in the same unit: 941 Mb/s of
    941.4 ± 3; as always where that is not known."""
    if unit == "b/s":
        return format_rate(value, uncertainty)
    if unit == "s":
        return format_duration(value, uncertainty)
    if unit == "frames/s" and 1 <= uncertainty < math.inf:
        return format_quantity(round(value, -math.floor(math.log10(uncertainty))), unit)
    return format_quantity(value, unit)


def counted(number: int, thing: str) -> str:
    """A number of things, in the plural where it is not one."""
    return f"{number} {thing}{'' if number == 1 else 's'}"


def parse_share(text: str) -> float:
    """Reads a percentage with its sign: of a bare 1, nobody knows whether it is one percent or all."""
    try:
        share = float(text.removesuffix("%")) / 100
    except ValueError:
        share = -1.0
    if not 0 <= share <= 1 or (share and not text.endswith("%")):
        raise BadQuantityError(f"'{text}' is not a percentage such as 0.1%", "Give it with its sign, from 0 to 100%.")
    return share


def parse_quantity(text: str, unit: str) -> float:
    """Reads a value written for a unit of the registry. Raises BadQuantityError, saying which form it wants."""
    if unit == "b/s":
        return parse_rate_bps(text)
    if unit == "s":
        return parse_duration_s(text)
    if unit == "B":
        return parse_size_bytes(text)
    number = text.strip().removesuffix("frames/s").removesuffix("/s").replace(" ", "").replace("_", "")
    try:
        return float(number.removesuffix("%")) / (100 if number.endswith("%") else 1)
    except ValueError:
        raise BadQuantityError(f"'{text}' is not a number such as 95% or 81000", "Give a number.") from None
