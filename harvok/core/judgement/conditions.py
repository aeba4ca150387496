"""Whether two series were taken under like conditions. What was changed on purpose is named beforehand."""

from collections.abc import Collection, Iterable
from dataclasses import dataclass

from harvok.core.judgement.sample import RunSample, Series
from harvok.errors import UsageError

_DEVICE = "device."
NOTHING = "—"
"""Stands for a condition that a run does not tell."""


@dataclass(frozen=True, slots=True)
class Difference:
    """A condition that is not the same in all runs; `declared` when the user said that it was changed on purpose."""

    condition: str
    before: tuple[str, ...]
    after: tuple[str, ...]
    declared: bool


def differences(before: Series, after: Series, changed: Collection[str] = ()) -> list[Difference]:
    """Every condition that differs between or within the series, undeclared ones first.

    `changed` names what was changed on purpose: a condition, its last part (`socket-buffer`) or its first (`near`).
    Raises UsageError for a name that fits no condition.
    """
    known = sorted({key for run in (*before.runs, *after.runs) for key in run.conditions})
    for name in changed:
        if not any(fits(key, name) for key in known):
            raise UsageError(f"there is no condition '{name}'", f"Conditions are: {', '.join(known)}.")
    found = []
    for key in known:
        was, now = _values(before.runs, key), _values(after.runs, key)
        if key.startswith(_DEVICE) and not (was and now):
            continue
        if was != now or len(was) > 1:
            found.append(Difference(key, was, now, declared=any(fits(key, name) for name in changed)))
    return sorted(found, key=lambda d: (d.declared, d.condition))


def fits(condition: str, name: str) -> bool:
    """Whether a name that a person gave means a condition: the whole, its last part or its first."""
    return condition == name or condition.endswith(f".{name}") or condition.startswith(f"{name}.")


def _values(runs: Iterable[RunSample], key: str) -> tuple[str, ...]:
    """The values of a condition; what a device said counts only in runs in which it was asked."""
    known = [run.conditions for run in runs if key in run.conditions or not key.startswith(_DEVICE)]
    return tuple(sorted({conditions.get(key, NOTHING) for conditions in known}))
