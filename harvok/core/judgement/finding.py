"""What comes of judging one limit, and the verdict that several of them lead to."""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

from harvok.core.limiter import Limiter

Verdict = Literal["ACCEPT", "REJECT", "RETEST"]

VERDICTS_WORST_FIRST: tuple[Verdict, ...] = ("REJECT", "RETEST", "ACCEPT")


@dataclass(frozen=True, slots=True)
class Finding:
    """One limit judged for one figure, with its reason and advice; `where` names what the figure is of, and is empty
    for what concerns everything. `bars_verdict`: as long as it stands, nothing else that was found decides."""

    verdict: Verdict
    where: str
    reason: str
    advice: str = ""
    bars_verdict: bool = False


def verdict_of(findings: Sequence[Finding]) -> Verdict:
    """The verdict that all findings come to: RETEST where one bars any verdict and where there is none, else REJECT if
    any says so, else RETEST if any does, else ACCEPT."""
    if any(finding.bars_verdict for finding in findings):
        return "RETEST"
    return min((finding.verdict for finding in findings), key=VERDICTS_WORST_FIRST.index, default="RETEST")


def worst_first(finding: Finding) -> int:
    """The key that sorts findings, worst first."""
    return VERDICTS_WORST_FIRST.index(finding.verdict)


def blamed_on_tester(place: str, limiter: Limiter | None) -> Finding:
    """No verdict, since the tester itself was the limit."""
    if limiter:
        return Finding("RETEST", place, f"the tester itself was the limit: {limiter.evidence}", limiter.advice)
    return Finding(
        "RETEST",
        place,
        "the tester itself was the limit: it could not offer more than the device carried",
        "Test on a faster host; `harvok calibrate` shows what this one can do.",
    )
