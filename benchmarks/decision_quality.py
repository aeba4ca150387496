"""How often verdicts are right: thousands of made-up before/after pairs with realistic noise, judged by Harvok.

    python benchmarks/decision_quality.py [--pairs 2000]

Noise of one repeat: normal, with heavy tails (Student's t of 4 degrees), with a drift from run to run, or with one run
in twenty spoiled by a few percent. Prints a Markdown table: false rejects (nothing changed), false accepts (a loss of
twice the margin), and how often a loss of 2 % is seen when the margin is 1 %. A second one: what becomes of series in
which single repeats are dead or low. A third: what becomes of a limit to loss when few datagrams are sent.
"""

import argparse
import math
import random
from collections import Counter
from collections.abc import Callable, Iterable
from dataclasses import replace

from harvok.core.figures import Figure, counted_share
from harvok.core.judgement.assessment import Criterion, Rules
from harvok.core.judgement.criteria import judge
from harvok.core.judgement.finding import VERDICTS_WORST_FIRST, Verdict
from harvok.core.judgement.sample import RunSample, Series
from harvok.core.measures.statistics import repeats_needed

Noise = Callable[[random.Random, int, float], float]
_MARGIN = 0.01
_LOSS = 0.02


def _normal(rng: random.Random, _: int, deviation: float) -> float:
    return rng.gauss(0, deviation)


def _heavy(rng: random.Random, _: int, deviation: float) -> float:
    """Student's t of 4 degrees, scaled to the deviation."""
    chi: float = sum(rng.gauss(0, 1) ** 2 for _ in range(4))
    return rng.gauss(0, 1) / math.sqrt(chi / 4) * deviation / math.sqrt(2)


def _drift(rng: random.Random, number: int, deviation: float) -> float:
    return rng.gauss(0, deviation) + 0.2 * deviation * number


def _spoiled(rng: random.Random, _: int, deviation: float) -> float:
    return rng.gauss(0, deviation) - (0.04 if rng.random() < 0.05 else 0.0)


NOISES: dict[str, Noise] = {"normal": _normal, "heavy tails": _heavy, "drift": _drift, "1 in 20 spoiled": _spoiled}


def series(name: str, level: float, repeats: int, first: int, step: int, noise: Callable[[int], float]) -> Series:
    """A series around a level; its runs are the first, first + step, … that were taken."""
    labels = {"direction": "send"}
    values = [940e6 * level * (1 + noise(first + step * n)) for n in range(repeats)]
    figures = [Figure("goodput-settled", value, labels) for value in values]
    return Series(name, [RunSample(f"{name}{n}", [figure], {}) for n, figure in enumerate(figures)])


def share(verdict: str, loss: float, repeats: int, noise: Noise, deviation: float, pairs: int, paired: bool) -> float:
    """How often a true loss gets a verdict."""
    rng = random.Random(1)
    criterion = Criterion("goodput-settled", "b", max_regression=_MARGIN, against="a")
    hits = 0
    for _ in range(pairs):
        step, start = (2, 1) if paired else (1, repeats)
        made = {
            "a": series("a", 1.0, repeats, 0, step, lambda n: noise(rng, n, deviation)),
            "b": series("b", 1.0 - loss, repeats, start, step, lambda n: noise(rng, n, deviation)),
        }
        hits += judge([criterion], made, Rules(paired=paired)).verdict == verdict
    return hits / pairs


FAULTS: dict[str, tuple[int, float]] = {
    "one repeat dead": (1, 0.0),
    "two repeats dead": (2, 0.0),
    "one repeat at half": (1, 0.5),
    "two repeats at half": (2, 0.5),
    "one repeat 10 % low": (1, 0.9),
    "one repeat 4 % low": (1, 0.96),
}
"""How many repeats of the second series are bad, and what is left of their value."""


def shares_of(verdicts: Iterable[Verdict]) -> dict[str, float]:
    """How often each verdict came."""
    came = Counter(verdicts)
    return {verdict: came[verdict] / came.total() for verdict in reversed(VERDICTS_WORST_FIRST)}


def cells(shares: Iterable[float]) -> str:
    """Shares as cells of a table."""
    return " | ".join(f"{share * 100:.1f} %" for share in shares)


def faulty(repeats: int, deviation: float, bad: int, left: float, pairs: int) -> dict[str, float]:
    """How often each verdict comes of a series in which some repeats are bad, against a good one."""
    rng, verdicts = random.Random(2), list[Verdict]()
    criterion = Criterion("goodput-settled", "b", max_regression=_MARGIN, against="a")
    for _ in range(pairs):
        hit = set(rng.sample(range(repeats), bad))
        after = series("b", 1.0, repeats, 0, 1, lambda n: rng.gauss(0, deviation) - (n in hit) * (1 - left))  # noqa: B023
        before = series("a", 1.0, repeats, 0, 1, lambda _: rng.gauss(0, deviation))
        verdicts.append(judge([criterion], {"a": before, "b": after}, Rules()).verdict)
    return shares_of(verdicts)


def show_faults(pairs: int) -> None:
    """The table of intermittent faults."""
    print("\n| fault | deviation | repeats | ACCEPT | RETEST | REJECT |\n| --- | --- | --- | --- | --- | --- |")
    for name, (bad, left) in FAULTS.items():
        for deviation, repeats in ((0.002, 5), (0.002, 11), (0.005, 11)):
            found = faulty(repeats, deviation, bad, left, pairs)
            print(f"| {name} | {deviation * 100:g} % | {repeats} | {cells(found.values())} |", flush=True)


_MOST_LOST = 1e-4
_SENT = (1_000, 4_000, 10_000, 50_000, 200_000)


def counted(sent: int, loss: float, says_of_how_many: bool, pairs: int) -> dict[str, float]:
    """How often each verdict comes of a limit of 0.01 % loss, over five repeats of so many datagrams each. Without
    saying of how many, only the spread of the repeats counts."""
    import numpy as np

    rng, verdicts = np.random.default_rng(3), list[Verdict]()
    criterion = Criterion("datagram-loss", "a", maximum=_MOST_LOST)
    for _ in range(pairs):
        figures = [counted_share("datagram-loss", lost, sent, {}) for lost in rng.poisson(loss * sent, 5).tolist()]
        figures = figures if says_of_how_many else [replace(figure, resolution=0.0) for figure in figures]
        runs = [RunSample(str(number), [figure], {}) for number, figure in enumerate(figures)]
        verdicts.append(judge([criterion], {"a": Series("a", runs)}, Rules()).verdict)
    return shares_of(verdicts)


def show_counts(pairs: int) -> None:
    """The table of a limit to loss."""
    print("\n| true loss | datagrams a repeat | judged by | ACCEPT | RETEST | REJECT |")
    print("| --- | --- | --- | --- | --- | --- |")
    for loss in (_MOST_LOST / 4, 2 * _MOST_LOST):
        for sent in _SENT:
            for how, says in (("spread alone", False), ("spread and count", True)):
                found = counted(sent, loss, says, pairs)
                print(f"| {loss * 100:g} % | {sent} | {how} | {cells(found.values())} |", flush=True)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--pairs", type=int, default=2000)
    pairs = parser.parse_args().pairs
    print("| noise | deviation | repeats | steps | false rejects | false accepts | loss of 2 % seen |")
    print("| --- | --- | --- | --- | --- | --- | --- |")
    for name, noise in NOISES.items():
        for deviation in (0.002, 0.005, 0.01):
            needed = repeats_needed(deviation * 2**0.5, _LOSS - _MARGIN)
            for repeats, paired in ((5, False), (needed or 1000, False), (needed or 1000, True)):
                rejects = share("REJECT", 0.0, repeats, noise, deviation, pairs, paired)
                accepts = share("ACCEPT", _LOSS, repeats, noise, deviation, pairs, paired)
                seen = share("REJECT", _LOSS, repeats, noise, deviation, pairs, paired)
                how = "alternating" if paired else "one after the other"
                shown = cells((rejects, accepts, seen))
                print(f"| {name} | {deviation * 100:g} % | {repeats} | {how} | {shown} |", flush=True)
    show_faults(pairs)
    show_counts(pairs)


if __name__ == "__main__":
    main()
