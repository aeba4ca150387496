"""Judges a device by its policy: every try of every check ends as it must."""

from collections.abc import Iterator, Sequence

from harvok.core.figures import Figure, find
from harvok.core.judgement.finding import Finding, worst_first
from harvok.core.trials.policy import PolicyCheck
from harvok.core.units import format_share


def judge_policy(checks: Sequence[PolicyCheck], figures: Sequence[Figure]) -> list[Finding]:
    """A finding for each check, worst first."""
    return sorted(_judged(checks, figures), key=worst_first)


def _judged(checks: Sequence[PolicyCheck], figures: Sequence[Figure]) -> Iterator[Finding]:
    for check in checks:
        place, wrong = f"policy check {check.name}", find(figures, "wrong-checks", check=check.name)
        if wrong is None:
            yield Finding("RETEST", place, "it was never tried", "Sustain the load for longer.")
        elif not wrong:
            yield Finding("ACCEPT", place, f"{check.must} in every try, as it must be")
        else:
            became = "passed" if check.must == "blocked" else "was blocked"
            reason = f"{became} in {format_share(wrong)} of its tries, and must be {check.must}"
            yield Finding("REJECT", place, reason, "See the device's rules, and its log of what it did.")
