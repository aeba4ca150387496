"""The exit codes that verdicts come to."""

from collections.abc import Sequence
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from harvok.core.judgement.finding import Finding, Verdict

EXIT_CODES: "dict[Verdict, int]" = {"ACCEPT": 0, "REJECT": 1, "RETEST": 3}


def exit_code_of(findings: "Sequence[Finding]") -> int:
    """The code of the worst finding; 0 where nothing was judged."""
    codes = {finding.verdict for finding in findings}
    return next((EXIT_CODES[verdict] for verdict in ("REJECT", "RETEST") if verdict in codes), 0)
