"""When somebody is to be told: a pair whose verdict changed, that fails or works again, or whose level changed. Each
once, and not for a single test that went wrong."""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

from harvok.core.measures.changes import LevelChange, find_changes
from harvok.core.site.outcome import SiteTest

Standing = Literal["", "good", "rejected", "failing"]
AlarmKind = Literal["verdict", "failure", "change", "recovered"]
_LOOK_BACK, _SAME_PLACE = 12, 6
_NO_NEWS = ("busy",)


@dataclass(frozen=True, slots=True)
class SiteAlarm:
    """What somebody is told: what it was and what it is, in words, and by which test that came out."""

    kind: AlarmKind
    test: SiteTest
    was: str
    now: str
    reason: str = ""


def _standing_of(test: SiteTest) -> Standing:
    """What one test says of its pair; nothing where it was missed, had no verdict to give, or found a station busy."""
    if test.state == "failed":
        return "" if test.failure in _NO_NEWS else "failing"
    if test.state != "done" or test.verdict == "RETEST":
        return ""
    return "rejected" if test.verdict == "REJECT" else "good"


def standing(tests: Sequence[SiteTest], in_a_row: int) -> Standing:
    """How a pair stands after its tests, oldest first: as the last of so many in a row that said the same."""
    found: Standing = ""
    last: Standing = ""
    streak = 0
    for test in tests:
        says = _standing_of(test)
        if not says:
            continue
        streak = streak + 1 if says == last else 1
        last = says
        if streak >= in_a_row:
            found = says
    return found


def alarm_of(tests: Sequence[SiteTest], in_a_row: int) -> SiteAlarm | None:
    """What the last of a pair's tests, oldest first, changes in how the pair stands; None for no change, and for a pair
    that is good from the beginning."""
    before, after = standing(tests[:-1], in_a_row), standing(tests, in_a_row)
    if before == after or (after == "good" and not before):
        return None
    kinds: dict[Standing, AlarmKind] = {"good": "recovered", "rejected": "verdict", "failing": "failure"}
    return SiteAlarm(kinds[after], tests[-1], before or "not known", after, tests[-1].reason)


def new_change(values: Sequence[float], hours: Sequence[float]) -> LevelChange | None:
    """The change of level that comes out with the last value; None for none, and for one that came out a little
    earlier already."""
    found = find_changes(values, hours)
    if not found:
        return None
    newest = found[-1]
    for fewer in range(1, min(_LOOK_BACK, len(values) - 1) + 1):
        for change in find_changes(values[:-fewer], hours[:-fewer]):
            if abs(change.index - newest.index) <= _SAME_PLACE:
                return None
    return newest
