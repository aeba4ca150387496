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
from harvok.core.measures.statistics import Summary
from harvok.core.models.run import RunRecord
from harvok.core.observer import Observer
from harvok.core.quantities import QUANTITIES
from harvok.core.sweeps.reading import BESIDE, MAIN, TELLING_SPREAD, SweepReading, SweptPoint
from harvok.core.units import format_quantity, format_rate, format_share

_HEADINGS = {
    "goodput-settled": "goodput",
    "udp-received": "received, L2",
    "forwarding-rate-l2": "forwarded, L2",
    "throughput-l2": "throughput, L2",
    "rtt-mean": "mean RTT",
    "retransmitted": "sent again",
    "datagram-loss": "loss",
    "frame-loss": "loss",
    "one-way-delay-mean": "delay",
    "delay-variation-p99": "variation, 99 %",
    "latency-median": "delay",
    "latency-p999": "delay, 99.9 %",
    "throughput-share": "of line rate",
}


class SweepView(Observer):
    """One line for each run of a kind of test. To be closed at the end."""

    def __init__(self, console: Console, test: str) -> None:
        self._console, self._test = console, test
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
        said = [words for way in ("send", "receive") if (words := self._of(record, way))]
        self._console.print(f"  {self._what:36} {', '.join(said) or record.state}", soft_wrap=True, markup=False)

    def close(self) -> None:
        self._end()

    def _of(self, record: RunRecord, direction: str) -> str:
        """What one direction of a run came to; empty where there is none."""
        value = find(record.figures, MAIN[self._test], direction=direction)
        if value is None:
            return ""
        words = f"{direction_words(direction)} {format_rate(value)}"
        losses = [find(record.figures, name, direction=direction) for name in BESIDE[self._test] if "loss" in name]
        words += "".join(f", lost {format_share(loss)}" for loss in losses if loss)
        limiter = next((r.limiter.name for r in record.readings if r.direction == direction), "")
        return f"{words} ({limiter})" if limiter else words

    def _end(self) -> None:
        if self._status:
            self._status.stop()
            self._status = None


def show_sweep(console: Console, name: str, readings: Sequence[SweepReading]) -> None:
    """The matrix, where it bends, and what to recommend."""
    for reading in readings:
        console.print()
        console.print(_matrix(reading))
        for line in words_of(reading):
            console.print(line, soft_wrap=True, highlight=False)
    console.print(Text(f"kept as the series {name}.…", style="dim"))


def _matrix(reading: SweepReading) -> Table:
    """A row for each point; columns that no point fills are left out."""
    beside = [name for name in BESIDE[reading.test] if any(name in one.beside for one in reading.points)]
    bounds = list(dict.fromkeys(name for one in reading.points for name in one.bounds))
    limited = any(one.limiter for one in reading.points)
    table = Table(box=None, padding=(0, 2, 0, 0), header_style="bold")
    for setting in reading.points[0].settings:
        table.add_column(setting.name, justify="right")
    main = f"{direction_words(reading.direction)} {_HEADINGS[reading.quantity]}"
    for text in (main, "against baseline", *(_HEADINGS[name] for name in beside), *bounds):
        table.add_column(text, justify="right", no_wrap=text == "against baseline")
    if limited:
        table.add_column("limiter", no_wrap=True)
    for cells in _rows(reading, beside, bounds):
        table.add_row(*(cells if limited else cells[:-1]))
    return table


def _rows(reading: SweepReading, beside: Sequence[str], bounds: Sequence[str]) -> list[list[str]]:
    rows = []
    if reading.baseline:
        empty = [DASH] * (len(reading.points[0].settings) - 1)
        rest = [DASH] * (1 + len(beside) + len(bounds))
        rows.append(["baseline", *empty, format_rate(reading.baseline.mean), *rest, ""])
    for point in reading.points:
        rows.append(
            [
                *(setting.text for setting in point.settings),
                format_rate(point.summary.mean),
                _change(reading.baseline, point),
                *(_beside(name, point) for name in beside),
                *(maybe(point.bounds.get(name), format_rate) for name in bounds),
                point.limiter,
            ]
        )
    return rows


def _change(baseline: Summary | None, point: SweptPoint) -> str:
    """The change with the half width of its 95 % interval, in percent of the baseline; of a single run it has none."""
    if baseline is None or not baseline.mean:
        return DASH
    change = point.change
    if change is None:
        return f"{(point.summary.mean / baseline.mean - 1) * 100:+.1f} %"
    return f"{change.ratio * 100:+.1f} ± {(change.interval.high - change.ratio) * 100:.1f} %"


def _beside(name: str, point: SweptPoint) -> str:
    return maybe(point.beside.get(name), lambda value: format_quantity(value, QUANTITIES[name].unit))


def words_of(reading: SweepReading) -> list[str]:
    """What a sweep says, in sentences."""
    lines = []
    if reading.drift:
        lines.append(f"the baseline at the end is {reading.drift.ratio * 100:+.1f} % off that at the start")
    if reading.knee and reading.knee.kind == "gain":
        lines.append(f"knee: from {_name(reading.knee.point)} on, nothing is gained")
    elif reading.knee:
        lines.append(f"up to {_name(reading.knee.point)}, nothing is lost")
    elif reading.best and len(reading.roles) == 1 and len(reading.points) > 2:
        lines.append("no knee: the last points still differ")
    lines += _where_loss_begins(reading)
    for best in reading.best:
        lines.append(f"recommended {_where(reading, best)}, {format_rate(best.summary.mean)}")
    if any(one.by_tester for one in reading.points):
        lines.append("where the tester was the limit, the path may well do more: such points say nothing of it")
    if reading.spread > TELLING_SPREAD:
        lines.append(
            f"repeats of one point differ by up to {format_share(reading.spread)}: that tells neither a knee nor what "
            "to recommend; find out what disturbs them, or take more"
        )
    return lines


def _where_loss_begins(reading: SweepReading) -> list[str]:
    """Of a load that alone is varied: the first at which anything was lost."""
    if list(reading.roles.values()) != ["load"] or any(one.by_tester for one in reading.points):
        return []
    loss = next(name for name in BESIDE[reading.test] if name.endswith("-loss"))
    ordered = sorted(reading.points, key=lambda one: one.settings[0].number or 0.0)
    first = next((one for one in ordered if one.beside.get(loss)), None)
    return [
        f"loss begins at {_name(first)}: {format_share(first.beside[loss])}" if first else "nothing was lost at any"
    ]


def _where(reading: SweepReading, best: SweptPoint) -> str:
    """`here: flows 4`, or with the condition that it is for."""
    chosen = [s for s in best.settings if reading.roles[s.name] == "setting"]
    given = [s for s in best.settings if reading.roles[s.name] != "setting"]
    where = f"at {', '.join(f'{s.name} {s.text}' for s in given)}" if given else "here"
    return f"{where}: {', '.join(f'{s.name} {s.text}' for s in chosen)}"


def _name(point: SweptPoint) -> str:
    return ", ".join(f"{setting.name} {setting.text}" for setting in point.settings)


def readings_as_json(name: str, readings: Sequence[SweepReading]) -> str:
    """The readings as one document; values in the unit of their quantity."""
    document = {"format": "harvok-sweep", "version": 2, "name": name, "readings": [asdict(one) for one in readings]}
    return json.dumps(document, indent=2)
