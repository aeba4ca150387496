"""A sweep while it runs, and its matrix against the baseline."""

import json
from collections.abc import Sequence
from dataclasses import asdict

from rich.console import Console
from rich.status import Status
from rich.table import Table
from rich.text import Text

from harvok.cli.render.words import DASH, direction_words, maybe
from harvok.core.figures import find
from harvok.core.judgement.sweep import TELLING_SPREAD, SweepReading, SweptPoint
from harvok.core.models.run import RunRecord
from harvok.core.observer import Observer
from harvok.core.units import format_rate, format_share


class SweepView(Observer):
    """One line for each run. To be closed at the end."""

    def __init__(self, console: Console) -> None:
        self._console = console
        self._status: Status | None = None
        self._said: set[str] = set()
        self._what = ""

    def point(self, number: int, of: int, what: str) -> None:
        """The next run."""
        self._what = what
        if self._console.is_terminal:
            self._end()
            self._status = self._console.status(f"run {number} of {of}: {what}")
            self._status.start()

    def notice(self, text: str) -> None:
        if text not in self._said:
            self._said.add(text)
            self._console.print(Text.assemble(("note ", "bold yellow"), text), soft_wrap=True)

    def record(self, record: RunRecord) -> None:
        """One finished run, whole or broken."""
        self._end()
        parts = []
        for reading in record.readings:
            goodput = find(record.figures, "goodput-settled", direction=reading.direction) or 0.0
            parts.append(f"{direction_words(reading.direction)} {format_rate(goodput)} ({reading.limiter.name})")
        said = ", ".join(parts) or f"{record.state}"
        self._console.print(f"  {self._what:36} {said}", soft_wrap=True, markup=False)

    def close(self) -> None:
        self._end()

    def _end(self) -> None:
        if self._status:
            self._status.stop()
            self._status = None


def show_sweep(console: Console, name: str, readings: Sequence[SweepReading]) -> None:
    """The matrix, the knee, and what to recommend."""
    for reading in readings:
        console.print()
        console.print(_matrix(reading))
        for line in _words(reading):
            console.print(line, soft_wrap=True)
    console.print(Text(f"kept as the series {name}.…", style="dim"))


def _matrix(reading: SweepReading) -> Table:
    table = Table(box=None, padding=(0, 2, 0, 0), header_style="bold")
    for setting in reading.points[0].settings:
        table.add_column(setting.name, justify="right")
    heading = f"{direction_words(reading.direction)} goodput"
    for text in (heading, "against baseline", "95 % interval", "expected at most"):
        table.add_column(text, justify="right", no_wrap=True)
    table.add_column("limiter")
    if reading.baseline:
        empty = [DASH] * (len(reading.points[0].settings) - 1)
        table.add_row("baseline", *empty, format_rate(reading.baseline.mean), DASH, DASH, DASH, "")
    for point in reading.points:
        change = point.change
        table.add_row(
            *(setting.text for setting in point.settings),
            format_rate(point.summary.mean),
            f"{change.ratio * 100:+.1f} %" if change else DASH,
            f"{change.interval.low * 100:+.1f} to {change.interval.high * 100:+.1f} %" if change else DASH,
            maybe(point.theory, format_rate),
            point.limiter,
        )
    return table


def _words(reading: SweepReading) -> list[str]:
    lines = []
    if reading.drift:
        lines.append(f"the baseline at the end is {reading.drift.ratio * 100:+.1f} % off that at the start")
    if reading.knee:
        lines.append(f"knee: from {_name(reading.knee)} on, nothing is gained")
    elif reading.best and len(reading.points[0].settings) == 1 and len(reading.points) > 2:
        lines.append("no knee: the last points still differ")
    if reading.best:
        lines.append(f"recommended here: {_name(reading.best)}, {format_rate(reading.best.summary.mean)}")
    if reading.spread > TELLING_SPREAD:
        lines.append(
            f"repeats of one point differ by up to {format_share(reading.spread)}: that tells neither a knee nor what "
            "to recommend; find out what disturbs them, or take more"
        )
    return lines


def _name(point: SweptPoint) -> str:
    return ", ".join(f"{setting.name} {setting.text}" for setting in point.settings)


def readings_as_json(name: str, readings: Sequence[SweepReading]) -> str:
    """The readings as one document; rates in b/s."""
    document = {"format": "harvok-sweep", "version": 1, "name": name, "readings": [asdict(one) for one in readings]}
    return json.dumps(document, indent=2)
