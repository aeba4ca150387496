"""The exit codes that verdicts come to."""

from collections.abc import Iterable, Sequence
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from harvok.core.judgement.finding import Finding

EXIT_CODES: dict[str, int] = {"ACCEPT": 0, "REJECT": 1, "RETEST": 3}


def exit_code_of(findings: "Sequence[Finding]") -> int:
    """The code of the worst finding; 0 where nothing was judged."""
    return worst_of(EXIT_CODES[finding.verdict] for finding in findings)


def worst_of(codes: Iterable[int]) -> int:
    """The code of the worst of several verdicts; 0 where there is none."""
    came = set(codes)
    return next((EXIT_CODES[verdict] for verdict in ("REJECT", "RETEST") if EXIT_CODES[verdict] in came), 0)
