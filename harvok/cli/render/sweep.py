"""A sweep while it runs, and its matrix against the baseline."""

import json
from collections.abc import Sequence
from dataclasses import asdict
from pathlib import Path

from rich.console import Console
from rich.text import Text

from harvok.cli.render.console import stdout
from harvok.cli.render.status import StatusLine
from harvok.cli.render.tables import PlainTable, plain_table
from harvok.cli.render.words import direction_words
from harvok.core.figures import find
from harvok.core.models.run import RunRecord
from harvok.core.observer import Observer
from harvok.core.sweeps.reading import SweepReading, SweptFigures
from harvok.core.sweeps.words import LIMITER, matrix_of, words_of
from harvok.core.units import format_rate, format_share


class SweepView(Observer):
    """One line for each run of a kind of test. To be closed at the end."""

    def __init__(self, console: Console, figures: SweptFigures) -> None:
        self._console, self._figures = console, figures
        self._status = StatusLine(console)
        self._shown_notices: set[str] = set()
        self._what = ""

    def point(self, number: int, of: int, what: str) -> None:
        """The next run."""
        self._what = what
        self._status.show(f"run {number} of {of}: {what}")

    def notice(self, text: str) -> None:
        if text not in self._shown_notices:
            self._shown_notices.add(text)
            self._console.print(Text.assemble(("note ", "bold yellow"), text), soft_wrap=True)

    def record(self, record: RunRecord) -> None:
        """One finished run, whole or broken."""
        self._status.close()
        results = [words for way in ("send", "receive") if (words := self._of(record, way))]
        self._console.print(f"  {self._what:36} {', '.join(results) or record.state}", soft_wrap=True)

    def close(self) -> None:
        self._status.close()

    def _of(self, record: RunRecord, direction: str) -> str:
        """What one direction of a run came to; empty where there is none."""
        value = find(record.figures, self._figures.main, direction=direction)
        if value is None:
            return ""
        words = f"{direction_words(direction)} {format_rate(value)}"
        losses = [find(record.figures, name, direction=direction) for name in self._figures.beside if "loss" in name]
        words += "".join(f", lost {format_share(loss)}" for loss in losses if loss)
        limiter = next((r.limiter.name for r in record.readings if r.direction == direction), "")
        return f"{words} ({limiter})" if limiter else words


def show_sweep(console: Console, name: str, readings: Sequence[SweepReading]) -> None:
    """The matrix, where it bends, and what to recommend."""
    for reading in readings:
        console.print()
        console.print(_matrix(reading))
        for line in words_of(reading):
            console.print(line, soft_wrap=True, highlight=False)
    console.print(Text(f"recorded as the series {name}.…", style="dim"))


def _matrix(reading: SweepReading) -> PlainTable:
    head, rows = matrix_of(reading)
    table = plain_table()
    settings = len(reading.points[0].settings)
    for number, text in enumerate(head):
        heading = f"{direction_words(reading.direction)} {text}" if number == settings else text
        table.add_column(heading, number=text != LIMITER)
    for row in rows:
        table.add_row(*row)
    return table


def show_readings(name: str, readings: Sequence[SweepReading], plot: Path | None, as_json: bool) -> None:
    """A sweep on standard output, as a table or as JSON, and as a picture if one is wanted."""
    console = stdout()
    if as_json:
        print(readings_as_json(name, readings))
    else:
        show_sweep(console, name, readings)
    if plot is not None and readings:
        from harvok.reports.sweep import draw_sweep

        draw_sweep(readings, name, plot)
        if not as_json:
            console.print(f"drawn in {plot}", soft_wrap=True)


def readings_as_json(name: str, readings: Sequence[SweepReading]) -> str:
    """The readings as one document; values in the unit of their quantity."""
    document = {
        "format": "harvok-sweep",
        "version": 2,
        "name": name,
        "readings": [asdict(reading) for reading in readings],
    }
    return json.dumps(document, indent=2)
