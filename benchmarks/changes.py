"""How often changes of level are found that there are not, and how soon those that there are: a test every hour, looked
at over four weeks each time. python -m benchmarks.changes [YEARS] [TRIES] prints the tables of
docs/decision-quality.md. Deterministic; takes some minutes.
"""

import sys
from collections.abc import Callable

import numpy as np
import numpy.typing as npt

from harvok.core.measures.changes import find_changes

Values = npt.NDArray[np.float64]
Noise = Callable[[np.random.Generator, int], Values]

_WINDOW, _WEEK, _YEAR = 672, 168, 8760
_LEVEL = 940e6
_LOOK_EVERY = 2
_DROPS = (0.02, 0.03, 0.05, 0.1, 0.3)


def _normal(chance: np.random.Generator, count: int) -> Values:
    return _LEVEL * (1 + 0.01 * chance.normal(size=count))


def _heavy(chance: np.random.Generator, count: int) -> Values:
    values = _LEVEL * (1 - 0.01 * np.abs(chance.standard_t(2, size=count)))
    values[chance.random(count) < 0.02] *= 0.5
    return np.maximum(values, 1.0)


def _leaning(chance: np.random.Generator, count: int) -> Values:
    steps, state = chance.normal(size=count), np.zeros(count)
    for at in range(1, count):
        state[at] = 0.5 * state[at - 1] + 0.866 * steps[at]
    return _LEVEL * (1 + 0.01 * state)


def _daily(chance: np.random.Generator, count: int) -> Values:
    hour = np.arange(count) % 24
    return _normal(chance, count) * (1 - 0.1 * ((hour > 8) & (hour < 18)))


def _delay(chance: np.random.Generator, count: int) -> Values:
    return 200e-6 * np.exp(0.1 * chance.normal(size=count))


_NOISE: dict[str, Noise] = {
    "normal, 1 %": _normal,
    "heavy tail, 2 % of runs at half": _heavy,
    "each leans on the last (0.5), 1 %": _leaning,
    "a tenth less by day, 1 %": _daily,
    "delay, log-normal, 10 %": _delay,
}


def false_alarms(noise: Noise, years: int, chance: np.random.Generator) -> float:
    """Changes found a year where there is none; after one, the history begins anew there."""
    values, begins, found = noise(chance, years * _YEAR), 0, 0
    for now in range(24, len(values), _LOOK_EVERY):
        first = max(begins, now - _WINDOW)
        changes = find_changes(values[first:now], np.arange(first, now, dtype=np.float64))
        if changes:
            found, begins = found + 1, first + changes[-1].index
    return found / years


def hours_to_find(noise: Noise, drop: float, decline: bool, chance: np.random.Generator) -> int | None:
    """How many hours of a level that fell four weeks after the beginning it takes to find; None for more than a week.
    With `decline` it falls evenly over that week instead."""
    values = noise(chance, _WINDOW + _WEEK)
    values[_WINDOW:] *= 1 - drop * (np.arange(_WEEK) / _WEEK if decline else 1.0)
    for hours in range(5, _WEEK + 1, 3):
        now = _WINDOW + hours
        changes = find_changes(values[hours:now], np.arange(hours, now, dtype=np.float64))
        if any(abs(change.index + hours - _WINDOW) < 2 * 24 or decline for change in changes):
            return hours
    return None


def main() -> None:
    years, tries = (int(text) for text in [*sys.argv[1:], "2", "40"][:2])
    for name, noise in _NOISE.items():
        print(f"{name}: {false_alarms(noise, years, np.random.default_rng(2026)):.1f} false a year", flush=True)
        for decline in (False, True):
            for drop in _DROPS:
                found = [hours_to_find(noise, drop, decline, np.random.default_rng(number)) for number in range(tries)]
                hours = [one for one in found if one is not None]
                after = f", after {np.median(hours):.0f} h in the median" if hours else ""
                what = "decline over a week" if decline else "drop"
                print(f"  {what} of {drop:.0%}: {len(hours) / tries:.0%} within a week{after}", flush=True)


if __name__ == "__main__":
    main()
