"""What comes of judging one limit, and the verdict that several of them lead to."""

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
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

    @property
    def subject(self) -> str:
        """What was judged, of what, without what was measured: the same next time. It is the reason up to its first
        number."""
        of = self.where or "conditions"
        about = _FIRST_NUMBER.split(self.reason, maxsplit=1)[0].rstrip(" :,(").removesuffix(" is").removesuffix(" of")
        return f"{of}: {about}" if about else of


_FIRST_NUMBER = re.compile(r"[-+±<]?\d")


def verdict_of(findings: Sequence[Finding]) -> Verdict:
    """The verdict that all findings come to: RETEST where one bars any verdict and where there is none, else REJECT if
    any says so, else RETEST if any does, else ACCEPT."""
    if any(finding.bars_verdict for finding in findings):
        return "RETEST"
    return min((finding.verdict for finding in findings), key=VERDICTS_WORST_FIRST.index, default="RETEST")


def over_repeats(series: str, runs: Sequence[Sequence[Finding]]) -> Iterator[Finding]:
    """What tests judged by themselves (promises of services, policies), over the repeats of one: kept where every run
    kept it, broken where every run broke it, else undecided. With the reason of the latest run that says so."""
    by_subject: dict[str, list[Finding]] = {}
    for findings in runs:
        for finding in findings:
            by_subject.setdefault(finding.subject, []).append(finding)
    for same in by_subject.values():
        verdicts = {finding.verdict for finding in same}
        worst = min(reversed(same), key=worst_first)
        where = ", ".join(filter(None, (series, worst.where)))
        if len(verdicts) == 1:
            yield replace(worst, where=where)
            continue
        kept = sum(finding.verdict == "ACCEPT" for finding in same)
        reason = f"kept in {kept} of {len(same)} runs; in one, {worst.reason}"
        yield Finding("RETEST", where, reason, "Find out what makes the repeats differ, then measure again.")


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
