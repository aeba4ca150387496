"""How often verdicts are right: thousands of made-up before/after pairs with realistic noise, judged by Harvok.

    python benchmarks/decision_quality.py [--pairs 2000]

Noise of one repeat: normal, with heavy tails (Student's t of 4 degrees), with a drift from run to run, or with one run
in twenty spoiled by a few percent. Prints a Markdown table: false rejects (nothing changed), false accepts (a loss of
twice the margin), and how often a loss of 2 % is seen when the margin is 1 %.
"""

import argparse
import math
import random
from collections.abc import Callable

from harvok.core.figures import Figure
from harvok.core.judgement.criteria import Criterion, Rules, judge
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
                shown = " | ".join(f"{one * 100:.1f} %" for one in (rejects, accepts, seen))
                print(f"| {name} | {deviation * 100:g} % | {repeats} | {how} | {shown} |", flush=True)


if __name__ == "__main__":
    main()
