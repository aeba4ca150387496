"""A port that is watched: a line for each change, and what it comes to."""

from collections.abc import Sequence

from rich.console import Console
from rich.text import Text

from harvok.cli.render.run_view import RunView
from harvok.core.models.run import RunRecord
from harvok.core.procedures.link import speed_words
from harvok.core.samples import Event
from harvok.core.trials.link import MISSED


class LinkView(RunView):
    """Prints changes as they happen."""

    def happened(self, events: Sequence[Event]) -> None:
        for event in events:
            self._console.print(_line(event), soft_wrap=True)
        self._console.file.flush()


def show_link(console: Console, record: RunRecord) -> None:
    """How often it came up at which speed."""
    counts = [
        f"{figure.value:.0f} × {figure.labels['speed']}" for figure in record.figures if figure.quantity == "link-ups"
    ]
    console.print()
    console.print(f"link-ups: {', '.join(counts) or 'none'}")


def show_link_events(console: Console, record: RunRecord) -> None:
    """Every change of a run from the logbook."""
    console.print()
    for trial in record.trials:
        for event in trial.events:
            console.print(_line(event), soft_wrap=True)


def _times(count: int) -> str:
    return "once" if count == 1 else f"{count} times"


def _line(event: Event) -> Text:
    up, missed = event.name == "up", round(event.values.get(MISSED, 0))
    state = f"up at {speed_words(event)}" if up else event.name
    beside = f"; went down and up {_times(missed)} in between" if missed else ""
    return Text.assemble((f"{event.at_s:9.1f} s  ", "dim"), (state, "bold" if up else ""), beside)
