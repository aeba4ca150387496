"""Impairments in words, and what one does while it runs."""

import json
from collections.abc import Iterator, Sequence
from dataclasses import asdict
from typing import Any

from rich.console import Console
from rich.live import Live
from rich.text import Text

from harvok.cli.render.console import headed
from harvok.cli.render.tables import PlainTable, plain_table
from harvok.cli.render.words import direction_words
from harvok.core.impairment import DirectionReport, Impairment, ImpairmentReport
from harvok.core.models.impairment import ImpairmentFile
from harvok.core.units import format_duration, format_rate, format_share, format_size, format_span

_SPREADS = {"uniform": "evenly within", "normal": "normally, deviation", "recorded": "as recorded"}


def words_of(one: Impairment) -> list[str]:
    """What befalls frames, each effect in a few words; empty for nothing."""
    parts = []
    if one.spread == "recorded":
        parts.append(f"delays drawn from {len(one.recorded_s)} recorded ones")
    elif one.delay_s or one.variation_s:
        spread = f" ({_SPREADS[one.spread]} ± {format_duration(one.variation_s)})" if one.variation_s else ""
        parts.append(f"delay {format_duration(one.delay_s)}{spread}")
    if one.loss:
        parts.append(f"loss {format_share(one.loss)}")
    if one.burst_loss:
        parts.append(f"loss in bursts {format_share(one.burst_loss)}, {one.burst_frames:g} frames on average")
    if one.reordering:
        parts.append(f"reordering {format_share(one.reordering)} by {format_duration(one.reorder_by_s)}")
    if one.duplication:
        parts.append(f"duplication {format_share(one.duplication)}")
    if one.corruption:
        parts.append(f"corruption {format_share(one.corruption)}")
    if one.rate_bps:
        parts.append(f"rate {format_rate(one.rate_bps)} (L2) with a queue of {format_size(one.queue_bytes)}")
    return parts


def show_impairments(console: Console, files: Sequence[ImpairmentFile]) -> None:
    """All that ship."""
    table = plain_table(("impairment",))
    table.add_column("each way, or there | back")
    table.add_column("why")
    for file in files:
        table.add_row(file.name, _both_ways(file), file.about)
    console.print(table)


def _both_ways(file: ImpairmentFile) -> str:
    stage = file.plan().stages[0]
    ways = [", ".join(words_of(one)) or "nothing" for one in (stage.send, stage.receive)]
    return ways[0] if ways[0] == ways[1] else " | ".join(ways)


def show_impairment(console: Console, file: ImpairmentFile) -> None:
    """One in words, stage by stage."""
    console.print(Text(file.name, style="bold"))
    if file.about:
        console.print(file.about, soft_wrap=True)
    for stage in file.plan().stages:
        when = f"from {format_span(stage.at_s)} on: " if stage.at_s else ""
        for direction, one in (("send", stage.send), ("receive", stage.receive)):
            effects = ", ".join(words_of(one)) or "nothing"
            console.print(f"  {when}{direction_words(direction)} {effects}", soft_wrap=True)
    console.print(f"  seed {file.seed}")


class ImpairView:
    """A table that changes every second on a terminal, lines elsewhere."""

    def __init__(self, console: Console, ports: tuple[str, str]) -> None:
        self._console, self._ports = console, ports
        self._live: Live | None = None
        self._before: ImpairmentReport | None = None

    def begin(self, file: ImpairmentFile) -> None:
        """It starts."""
        show_impairment(self._console, file)
        self._console.print(f"between {self._ports[0]} and {self._ports[1]}; Ctrl-C or `harvok impair stop` ends it")
        self._console.file.flush()
        if self._console.is_terminal:
            self._live = Live(console=self._console, auto_refresh=False)
            self._live.start()

    def report(self, report: ImpairmentReport) -> None:
        """What it did in the last second."""
        if report.over:
            return
        rates = self._rates(report)
        if self._live:
            self._live.update(report_table(report, rates), refresh=True)
        else:
            for one, rate in zip(report.directions, rates, strict=True):
                self._console.print(_line(report.at_s, one, rate), soft_wrap=True)
        self._before = report

    def _rates(self, report: ImpairmentReport) -> list[float]:
        """b/s that went out in each direction since the last report."""
        before = self._before
        passed_s = report.at_s - (before.at_s if before else 0.0)
        was = [direction.out_bytes for direction in before.directions] if before else [0] * len(report.directions)
        return [(one.out_bytes - then) * 8 / passed_s for one, then in zip(report.directions, was, strict=True)]

    def close(self) -> None:
        """Nothing more comes."""
        if self._live:
            self._live.stop()
            self._live = None

    def sum_up(self, report: ImpairmentReport | None) -> None:
        """What it did over all."""
        self._console.print()
        if report is None:
            self._console.print("nothing was reported")
            return
        self._console.print(f"over {format_span(round(report.at_s, 1))}:")
        self._console.print(report_table(report, None))
        for text in _remarks(report):
            self._console.print(Text.assemble(("note ", "bold yellow"), text), soft_wrap=True)


def _remarks(report: ImpairmentReport) -> Iterator[str]:
    for direction in report.directions:
        if direction.too_large:
            yield (
                f"{direction.direction}: {direction.too_large} frames were longer than a port carries, or tagged: "
                "dropped; switch segmentation offload (tx-checksumming on virtual links) off at the host behind "
                "that port"
            )
        if direction.overrun:
            yield f"{direction.direction}: {direction.overrun} frames found the delay line full: too much for this host"


def report_table(report: ImpairmentReport, rates: Sequence[float] | None) -> PlainTable:
    """A row for each direction."""
    headings = ["in", "out", *(["rate out"] if rates else []), "lost", "queue", "dupl.", "reord.", "corr.", "queued"]
    table = plain_table(("direction",), (*headings, "delay median", "p99"), gap=1)
    for number, one in enumerate(report.directions):
        table.add_row(
            direction_words(one.direction),
            str(one.in_frames),
            str(one.out_frames),
            *([format_rate(rates[number])] if rates else []),
            *map(str, (one.lost, one.queue_drops, one.duplicated, one.reordered, one.corrupted, one.queued_frames)),
            format_duration(one.given_median_s),
            format_duration(one.given_p99_s),
        )
    return table


def _line(at_s: float, one: DirectionReport, rate_bps: float) -> str:
    return (
        f"{at_s:.0f} s, {one.direction}: {one.in_frames} frames in, {one.out_frames} out, {format_rate(rate_bps)}; "
        f"lost {one.lost}, queue drops {one.queue_drops}, duplicated {one.duplicated}, reordered {one.reordered}, "
        f"corrupted {one.corrupted}; queued {one.queued_frames}; median delay {format_duration(one.given_median_s)}"
    )


def report_as_json(report: ImpairmentReport) -> str:
    """A report on one line."""
    return json.dumps(asdict(report))


def show_answer(console: Console, do: str, reported: dict[str, Any]) -> None:
    """What the impairment that runs says of itself."""
    words = {"show": "runs", "change": "runs from now on", "stop": "is being ended"}
    console.print(headed(reported["name"], "bold", f"{words[do]} (process {reported['process']})"))
    if reported["report"]:
        directions = [DirectionReport(**one) for one in reported["report"]["directions"]]
        console.print(report_table(ImpairmentReport(**reported["report"] | {"directions": directions}), None))
