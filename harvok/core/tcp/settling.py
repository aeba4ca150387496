"""Where a test settles: how much of its start to leave out, so that the start-up phase does not drag down the mean.

The truncation point is the one that makes the standard error of the rest smallest (marginal standard error rule,
K. P. White, Simulation 69, 1997). A start that cannot be told from the rest is not left out. A test whose goodput
still climbs at its end, or whose best truncation point lies at the middle, has not settled: it was too short.
"""

import math
import statistics
from collections.abc import Sequence
from dataclasses import dataclass

_TELLING_SHARE = 0.01
"""A start that changes the mean by less than this is not worth leaving out: repeats on real links differ by as much."""
_CLIMB_SHARE = 0.10
"""Growth over the kept part, relative to its mean, that counts as still climbing: ten times what a start may matter."""
_FEWEST_POINTS = 8
"""Half of which, at least, are kept: fewer than four say nothing about a standard error."""
_BATCH = 5
"""MSER-5 (White, Cobb and Spratt, WSC 2000): means of five points hide the sawtooth of single reads."""
_BATCH_FROM = 50
"""Points: fewer would leave fewer than ten means to choose the cut among."""


@dataclass(frozen=True, slots=True)
class Settling:
    """`settled_from_s` after the first byte the test had settled; `settled` is False when it never did."""

    settled_from_s: float
    settled: bool
    automatic: bool = True


def rates_bps(ticks: Sequence[tuple[float, int]]) -> list[tuple[float, float, float]]:
    """(from s, to s, b/s) between successive (seconds, bytes so far); the first tick counts from zero."""
    rates = []
    before_s, before_bytes = 0.0, 0
    for at_s, so_far in ticks:
        if at_s > before_s:
            rates.append((before_s, at_s, (so_far - before_bytes) * 8 / (at_s - before_s)))
            before_s, before_bytes = at_s, so_far
    return rates


def find_settling(ticks: Sequence[tuple[float, int]]) -> Settling:
    """Finds the settling time of a transfer from its (seconds, bytes so far); see the module for the rule."""
    rates = rates_bps(ticks)
    if len(rates) < _FEWEST_POINTS:
        return Settling(0.0, settled=False)
    batch = _BATCH if len(rates) >= _BATCH_FROM else 1
    points = [statistics.fmean(r for _, _, r in rates[i : i + batch]) for i in range(0, len(rates) - batch + 1, batch)]
    cut = truncation_point(points)
    at_limit = cut >= len(points) // 2
    if not _start_differs(points, cut):
        cut, at_limit = 0, False
    settled_from_s = rates[cut * batch][0]
    return Settling(settled_from_s, settled=not at_limit and not _still_climbing(points[cut:]))


def truncation_point(points: Sequence[float]) -> int:
    """How many points to leave out so that the rest has the least standard error; at most half of them."""
    total = squares = 0.0
    best, best_score = 0, math.inf
    for start in range(len(points) - 1, -1, -1):
        total += points[start]
        squares += points[start] ** 2
        kept = len(points) - start
        score = (squares - total * total / kept) / (kept * kept)
        if start <= len(points) // 2 and score <= best_score:
            best, best_score = start, score
    return best


def _start_differs(points: Sequence[float], cut: int) -> bool:
    if cut == 0:
        return False
    kept = statistics.fmean(points[cut:])
    return abs(statistics.fmean(points) - kept) > _TELLING_SHARE * abs(kept)


def _still_climbing(points: Sequence[float]) -> bool:
    """Whether a straight line through the points climbs by more than noise and by more than a tenth of their mean."""
    if len(points) < _FEWEST_POINTS // 2:
        return False
    fit = statistics.linear_regression(range(len(points)), points)
    residuals = [p - (fit.intercept + fit.slope * i) for i, p in enumerate(points)]
    spread_x = sum((i - (len(points) - 1) / 2) ** 2 for i in range(len(points)))
    error = math.sqrt(sum(r * r for r in residuals) / (len(points) - 2) / spread_x)
    climb = fit.slope * (len(points) - 1)
    return fit.slope > 3 * error and climb > _CLIMB_SHARE * abs(statistics.fmean(points))


def mean_rate_bps(ticks: Sequence[tuple[float, int]], from_s: float = 0.0) -> float:
    """The mean rate from `from_s` to the last tick: bytes over time, not a mean of interval rates."""
    start_s, start_bytes = 0.0, 0
    for at_s, so_far in ticks:
        if at_s > from_s + 1e-9:
            break
        start_s, start_bytes = at_s, so_far
    end_s, end_bytes = ticks[-1] if ticks else (0.0, 0)
    return (end_bytes - start_bytes) * 8 / (end_s - start_s) if end_s > start_s else 0.0
