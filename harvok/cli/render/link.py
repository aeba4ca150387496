"""A port that is watched: a line for each change, and what it comes to."""

from rich.console import Console
from rich.text import Text

from harvok.cli.render.words import verdict_text
from harvok.core.judgement.compare import worst_verdict
from harvok.core.models.run import RunRecord
from harvok.core.observer import Observer
from harvok.core.procedures.link import speed_words
from harvok.core.trials.link import LinkEvent, LinkTrialResult


class LinkView(Observer):
    """Prints changes as they happen."""

    def __init__(self, console: Console) -> None:
        self.records: list[RunRecord] = []
        self._console = console

    def event(self, event: LinkEvent) -> None:
        """The port changed its state."""
        self._console.print(_line(event), soft_wrap=True)
        self._console.file.flush()

    def notice(self, text: str) -> None:
        self._console.print(Text.assemble(("note ", "bold yellow"), text), soft_wrap=True)

    def record(self, record: RunRecord) -> None:
        """The finished run."""
        self.records.append(record)
        show_sum(self._console, record)


def show_link_run(console: Console, record: RunRecord) -> None:
    """A watch from the logbook: its events, and what it comes to."""
    console.print(f"[bold]{record.rig.name}[/]")
    for trial in record.trials:
        for event in trial.result.events if isinstance(trial.result, LinkTrialResult) else ():
            console.print(_line(event), soft_wrap=True)
    show_sum(console, record)


def show_sum(console: Console, record: RunRecord) -> None:
    """How often it came up at which speed, and the verdict."""
    counts = [
        f"{figure.value:.0f} × {figure.labels['speed']}" for figure in record.figures if figure.quantity == "link-ups"
    ]
    console.print()
    console.print(f"link-ups: {', '.join(counts) or 'none'}")
    for finding in record.findings:
        console.print(Text.assemble(verdict_text(worst_verdict([finding])), f"  {finding.reason}"), soft_wrap=True)
        if finding.advice:
            console.print(Text(f"        {finding.advice}", style="dim"), soft_wrap=True)
    console.print(Text(f"kept as run {record.id}", style="dim"))


def _times(count: int) -> str:
    return "once" if count == 1 else f"{count} times"


def _line(event: LinkEvent) -> Text:
    what = f"up at {speed_words(event)}" if event.state == "up" else event.state
    missed = f"; went down and up {_times(event.missed)} in between" if event.missed else ""
    return Text.assemble((f"{event.at_s:9.1f} s  ", "dim"), (what, "bold" if event.state == "up" else ""), missed)
