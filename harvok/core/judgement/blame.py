"""Who held a result down, and which verdicts that leaves: the equipment is never rejected for what the tester or its
settings did, and a result that the tester held down is no result."""

from collections.abc import Collection, Sequence
from dataclasses import replace

from harvok.core.figures import FigureKey
from harvok.core.judgement.finding import Finding
from harvok.core.judgement.sample import RunSample
from harvok.core.limiter import Limiter

_SETTING_BEHIND = {"receive-window": "socket-buffer", "send-buffer": "socket-buffer", "pacing": "pacing"}
"""The setting which, when it was changed on purpose, makes a limiter among the settings part of what is judged."""


def limiter_of(run: RunSample, key: FigureKey) -> Limiter | None:
    """What limited the direction that a figure is of."""
    return run.limiters.get(dict(key[1]).get("direction", ""))


def by_tester(run: RunSample, key: FigureKey) -> bool:
    """Whether the tester held a figure of a run down."""
    figure, limiter = run.figure(key), limiter_of(run, key)
    return bool(figure and figure.mark == "tester-limit") or bool(limiter and limiter.blame == "tester")


def usual_limiter(runs: Sequence[RunSample], direction: str) -> Limiter | None:
    """The limiter of most runs in a direction; the latest run speaks for its kind."""
    found = [run.limiters[direction] for run in runs if direction in run.limiters]
    kinds = [limiter.kind for limiter in found]
    return max(reversed(found), key=lambda limiter: kinds.count(limiter.kind)) if found else None


def weigh_limiter(finding: Finding, limiter: Limiter | None, changed: Collection[str], proven: bool = False) -> Finding:
    """Takes back a rejection that the limiter does not bear out.

    It needs the equipment, or a setting that was itself under test, as the limiter; where nobody can be blamed with
    proof, nobody is. `proven`: these hosts did more over the same equipment before, which is proof that they can.
    """
    if finding.verdict != "REJECT" or limiter is None:
        return finding
    if limiter.kind == "unknown" and proven:
        return replace(
            finding, reason=f"{finding.reason}: these hosts did more in the baseline, where the link was full"
        )
    borne_out = limiter.blame == "equipment" or _SETTING_BEHIND.get(limiter.kind) in changed
    if borne_out:
        return replace(finding, reason=f"{finding.reason}: {limiter.evidence}", advice=limiter.advice)
    return Finding("RETEST", finding.where, f"{finding.reason}; but {limiter.evidence}", limiter.advice)
