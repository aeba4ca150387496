"""Searches for the highest load that passes: one piece for frames and for UDP.

A search is a generator: it yields the next Attempt (a load, and a duration that is the full one or shorter), is sent
an Outcome, and returns the highest load that passed at full length. It ends when a load that passed at full length and
one that failed are no further apart than the resolution.

The guided search rests on three facts. A loss in a short trial is a loss. A device that is overloaded for T seconds
delivers (B + c × T) / T: two lossy short trials of different lengths tell its buffer B and its capacity c, and so what
it carries loss-free for the full length. And a lossy full-length trial tells that very number directly. The answer is
confirmed at full length all the same; where guesses fail, it goes on by halving.
"""

import math
from collections.abc import Generator
from dataclasses import dataclass

from harvok.core.units import format_frame_rate


@dataclass(frozen=True, slots=True)
class Attempt:
    """A load to try, in the unit of the search (frames/s, b/s), for `duration_s`; what is sought lies between `low` and
    `high` by now."""

    load: float
    duration_s: float
    low: float = 0.0
    high: float = math.inf

    @property
    def words(self) -> str:
        """Low and high for people."""
        high = "line rate" if math.isinf(self.high) else format_frame_rate(self.high)
        return f"{format_frame_rate(self.low)} and {high}"


@dataclass(frozen=True, slots=True)
class Outcome:
    """How an attempt went: whether it passed, and what the device delivered, in the unit of the load."""

    passed: bool
    delivered: float


@dataclass(frozen=True, slots=True)
class Range:
    """What to search: loads up to `maximum`, to within `resolution`, confirmed for `full_s`; short trials: `short_s`.

    Far below the maximum the answer is found to within a hundredth of itself: a device of 1000 frames/s on a port of
    1.5 million would otherwise be found to have anything between nothing and 1500.
    """

    maximum: float
    resolution: float
    full_s: float = 60.0
    short_s: float = 1.0

    def step(self, load: float) -> float:
        """How far apart passed and failed may be around a load."""
        return step_at(load, self.resolution)

    def is_found(self, passed: float, failed: float) -> bool:
        """Whether what passed and what failed are close enough to end the search."""
        return failed - passed <= self.step(passed)


_OF_THE_ANSWER = 0.01
_FINEST = 128
"""Times finer than the resolution, at most: seven halvings more, for a device that carries next to nothing."""


def step_at(load: float, resolution: float) -> float:
    """How far apart passed and failed are at most when a search ends at a load: see Range."""
    return min(resolution, max(_OF_THE_ANSWER * load, resolution / _FINEST))


Search = Generator[Attempt, Outcome, float]

MAX_RETREATS = 8
"""How often a search starts again below a load that the tester did not hold. Each retreat goes below what was held, so
that eight of them reach less than half of any load even if each time only a tenth is given up."""
_BELOW_HELD_LOAD = 0.98
"""What was just held may fail again: two percent is about what a host that is short differs by from trial to trial."""
_UNKNOWN_STEP_BACK = 0.9
"""When it was not the load that the tester fell short of, how far to go is a guess: eight tenths of it are 0.43."""


def retreat(load: float, held_share: float, min_step_back: float = 0.0) -> float:
    """Where to search next when the tester held only `held_share` of a load; 1: the load was not the reason."""
    share = held_share * _BELOW_HELD_LOAD if held_share < 1 else _UNKNOWN_STEP_BACK
    return load * min(share, 1 - min_step_back)


def binary(wanted: Range) -> Search:
    """Plain halving, every trial at full length. Returns the highest load that passed; 0 when none did."""
    if (yield Attempt(wanted.maximum, wanted.full_s)).passed:
        return wanted.maximum
    return (yield from _halve(wanted, 0.0, wanted.maximum))


def _halve(wanted: Range, passed: float, failed: float) -> Search:
    while not wanted.is_found(passed, failed):
        middle = (passed + failed) / 2
        if (yield Attempt(middle, wanted.full_s, passed, failed)).passed:
            passed = middle
        else:
            failed = middle
    return passed


@dataclass(slots=True)
class _Bracket:
    """The highest load that passed at full length, the lowest that failed at any, and the best guess between."""

    passed: float
    failed: float
    guess: float
    lossy: tuple[float, float] | None = None

    def heard(self, attempt: Attempt, outcome: Outcome, full: bool) -> None:
        """Narrows the bracket, and guesses anew from what a lossy full-length trial delivered."""
        if not outcome.passed:
            self.failed = min(self.failed, attempt.load)
            if full:
                self.guess = self._guess(attempt.load, attempt.load - outcome.delivered)
        elif full:
            self.passed = max(self.passed, attempt.load)

    def _guess(self, load: float, loss: float) -> float:
        """Where the loss should reach zero: on the line through two lossy trials, of slope one as long as there is but
        one. The slope is smaller for a device that weakens in mid-trial."""
        before, self.lossy = self.lossy, (load, loss)
        if before and before[0] != load and (before[1] - loss) / (before[0] - load) > 0:
            return load - loss * (before[0] - load) / (before[1] - loss)
        return load - loss


_GUESSES = 6
"""After them, halving. Of 2000 modelled devices (capacity, buffer and rare losses drawn at random) each was found
with the first guess; more are for devices that no line describes."""
_ABOVE, _BELOW = 0.45, 0.5
"""Of the resolution: where the two confirming trials stand around the guess. Together just less than the whole, so
that one that fails above and one that passes below end the search."""


def guided(wanted: Range) -> Search:
    """Brackets with short trials and what lossy ones tell, and confirms at full length; see the module."""
    maximum = Attempt(wanted.maximum, wanted.short_s)
    first = yield maximum
    bracket = _Bracket(0.0, wanted.maximum, wanted.maximum)
    if first.passed:
        whole = Attempt(wanted.maximum, wanted.full_s)
        outcome = yield whole
        if outcome.passed:
            return wanted.maximum
        bracket.heard(whole, outcome, full=True)
    else:
        longer = yield Attempt(wanted.maximum, 3 * wanted.short_s)
        bracket.guess = _predict(wanted, first.delivered, longer.delivered)
    for _ in range(_GUESSES):
        yield from _look_above(wanted, bracket)
        if wanted.is_found(bracket.passed, bracket.failed):
            return bracket.passed
        yield from _confirm_below(wanted, bracket)
        if wanted.is_found(bracket.passed, bracket.failed):
            return bracket.passed
    return (yield from _halve(wanted, bracket.passed, bracket.failed))


def _predict(wanted: Range, short: float, longer: float) -> float:
    """What the device carries for the full length, from its delivery in short trials of one and of three lengths."""
    buffered = max(short - longer, 0.0) / (1 / wanted.short_s - 1 / (3 * wanted.short_s))
    return longer - buffered / (3 * wanted.short_s) + buffered / wanted.full_s


def _look_above(wanted: Range, bracket: _Bracket) -> Generator[Attempt, Outcome, None]:
    """Tries just above the guess: a short trial may fail already, else only the full length can tell."""
    step = wanted.step(bracket.guess)
    load = bracket.guess + _ABOVE * step
    if not bracket.passed < load < bracket.failed:
        return
    short = Attempt(load, wanted.short_s, bracket.passed, bracket.failed)
    outcome = yield short
    bracket.heard(short, outcome, full=False)
    if outcome.passed:
        full = Attempt(load, wanted.full_s, bracket.passed, bracket.failed)
        outcome = yield full
        bracket.heard(full, outcome, full=True)
        if outcome.passed:
            bracket.guess = min(load + step, (load + bracket.failed) / 2)


def _confirm_below(wanted: Range, bracket: _Bracket) -> Generator[Attempt, Outcome, None]:
    """Tries just below the guess at full length, where it should pass."""
    guess = min(bracket.guess, bracket.failed)
    load = guess - _BELOW * wanted.step(guess)
    if not bracket.passed < load < bracket.failed:
        load = (bracket.passed + bracket.failed) / 2
    attempt = Attempt(load, wanted.full_s, bracket.passed, bracket.failed)
    bracket.heard(attempt, (yield attempt), full=True)
