"""Preflight findings: a line each as it is made, what to do below it, and the sum at the end."""

from collections.abc import Sequence

from rich.console import Console
from rich.text import Text

from harvok.core.models.preflight import Check, Outcome
from harvok.core.units import counted

_STYLES: dict[Outcome, str] = {"ok": "green", "warning": "bold yellow", "stop": "bold red", "unknown": "dim"}
_TOPIC_WIDTH = 25


class CheckView:
    """Prints findings as they come."""

    def __init__(self, console: Console) -> None:
        self._console = console

    def show(self, check: Check) -> Check:
        """Prints one finding, and hands it back."""
        head = Text.assemble(
            (f"{check.outcome:8}", _STYLES[check.outcome]), f"{check.topic:{_TOPIC_WIDTH}}", check.found
        )
        self._console.print(head, soft_wrap=True)
        if check.advice and check.outcome != "ok":
            self._console.print(Text(f"{'':{8 + _TOPIC_WIDTH}}{check.advice}", style="italic"), soft_wrap=True)
        self._console.file.flush()
        return check

    def sum_up(self, checks: Sequence[Check]) -> None:
        """What all findings come to."""
        stops, warnings = (sum(check.outcome == kind for check in checks) for kind in ("stop", "warning"))
        self._console.print()
        if stops:
            summary = Text(f"{counted(stops, 'reason')} to stop: put right what is named above first", style="bold red")
        elif warnings:
            summary = Text(f"you can measure, with {counted(warnings, 'warning')} to keep in mind", style="bold yellow")
        else:
            summary = Text("nothing stands in the way of a test", style="bold green")
        self._console.print(summary)
