"""Application traffic: intervals while it runs, then what each level came to, by application and action."""

from collections.abc import Iterator, Sequence
from typing import cast

from rich.console import Console
from rich.padding import Padding
from rich.text import Text

from harvok.cli.render.charts import Chart
from harvok.cli.render.run_view import RowsView, RunView
from harvok.cli.render.tables import PlainTable, plain_table, show_titled
from harvok.cli.render.words import DASH, maybe, span_words
from harvok.core.app.reading import LevelReading, Part, Spread, media_of
from harvok.core.app.rows import AppRow, AppRows
from harvok.core.ends import SEND, TWO_WAY
from harvok.core.figures import Figure, find
from harvok.core.labels import label_text
from harvok.core.limiter import Limiter
from harvok.core.link import Link
from harvok.core.models.run import RunRecord
from harvok.core.procedures.app import read_levels
from harvok.core.procedures.beside import read_services
from harvok.core.procedures.rfc9411 import SEARCHED
from harvok.core.quantities import QUANTITIES
from harvok.core.samples import Sample, replayed
from harvok.core.trials.any import Trial, TrialOutcome, TrialResult
from harvok.core.trials.app import AppTrial, AppTrialResult
from harvok.core.trials.policy import CheckResult
from harvok.core.units import (
    counted,
    format_duration,
    format_per_second,
    format_quantity,
    format_rate,
    format_share,
    format_span,
)

_DELAYS = ("two-way-delay-min", "two-way-delay-median", "two-way-delay-p99", "two-way-delay-max", "two-way-loss")


class AppStyle:
    """How the intervals of a trial are shown: one row for each."""

    def order(self, row: AppRow) -> tuple[object, ...]:
        return (row.index, row.direction)

    def table(self, rows: Sequence[AppRow]) -> PlainTable:
        several = len({row.direction for row in rows}) > 1
        table = plain_table(
            ("   at", *(["users at"] if several else [])),
            ("users", "open", "new/s", "transactions/s", "requests", "responses", "first byte", "response", "p99.9",
             "failed", "lag p99"),
            gap=1,
        )  # fmt: skip
        for row in rows:
            table.add_row(
                f"{row.end_s:5.1f}",
                *([TWO_WAY[row.direction].source] if several else []),
                str(row.users),
                str(row.open_connections),
                format_per_second(row.connections_per_s),
                format_per_second(row.transactions_per_s),
                format_rate(row.request_bps),
                format_rate(row.response_bps),
                maybe(row.first_byte_median_s, format_duration),
                maybe(row.response_median_s, format_duration),
                maybe(row.response_p999_s, format_duration),
                str(row.failed + row.unserved),
                maybe(row.lag_p99_s, format_duration),
            )
        return table

    def line(self, row: AppRow) -> str:
        """An interval as one line of words, for logs and pipes."""
        parts = [
            f"{span_words(row.start_s, row.end_s)}{_where(row.direction)}: {counted(row.users, 'user')}, "
            f"{row.open_connections} open, "
            f"{format_per_second(row.transactions_per_s)} transactions/s, {format_per_second(row.connections_per_s)} "
            f"connections/s; requests {format_rate(row.request_bps)}, responses {format_rate(row.response_bps)} (L7)"
        ]
        if row.response_median_s is not None:
            parts.append(
                f"first byte {maybe(row.first_byte_median_s, format_duration)}, response "
                f"{format_duration(row.response_median_s)}, p99.9 {maybe(row.response_p999_s, format_duration)}"
            )
        if row.failed:
            parts.append(f"failed {row.failed}")
        if row.unserved:
            parts.append(f"unserved {row.unserved}")
        return "; ".join(parts)


def _where(direction: str) -> str:
    """Which end users are at, where it is not the near one."""
    return "" if direction == SEND.name else f", users at the {TWO_WAY[direction].source} end"


class AppView(RowsView[AppRow]):
    """Application traffic while it runs."""

    def trial_started(self, number: int, trial: Trial) -> None:
        assert isinstance(trial, AppTrial)
        self._stop_moving()
        self._console.print(Text(_outline(trial), style="dim"), soft_wrap=True)
        self.start_rows(AppStyle(), AppRows().add)

    def charts_of(self, direction: str, rows: Sequence[AppRow]) -> list[Chart]:
        """Of users at both ends those of the first."""
        if direction != self.rows[0].direction:
            return []
        rate, median, p999 = map(self.limit_of, ("transactions-rate", "response-median", "response-p999"))
        return [
            Chart("users", [row.users for row in rows], "{:.0f}".format),
            Chart("transactions/s", [row.transactions_per_s for row in rows], format_per_second, limit=rate),
            Chart("requests, L7", [row.request_bps for row in rows], format_rate),
            Chart("responses, L7", [row.response_bps for row in rows], format_rate),
            Chart("response, median", [row.response_median_s for row in rows], format_duration, limit=median),
            Chart("response, p99.9", [row.response_p999_s for row in rows], format_duration, limit=p999),
        ]


class Rfc9411View(RunView):
    """A search while it runs: a line for each trial, and what is found."""

    def trial_started(self, number: int, trial: Trial) -> None:
        self._trial, self._number, self._newest = cast(AppTrial, trial), number, ""
        self._rows_of_samples = AppRows()
        self._status = self._start_status(self._words())

    def samples(self, samples: Sequence[Sample]) -> None:
        for row in self._rows_of_samples.add(samples):
            self._newest = f"{format_per_second(row.transactions_per_s)} transactions/s, {row.open_connections} open"
            if self._status:
                self._status.update(self._words())

    def trial_finished(self, number: int, result: TrialResult | TrialOutcome) -> None:
        self._stop_moving()
        for reading, limiter in read_levels(self._trial, cast(AppTrialResult, result).streams[0], Link()):
            total = reading.total
            failed = f", {total.failed} failed" if total.failed else ""
            unserved = f", {reading.unserved} unserved" if reading.unserved else ""
            tester = f"; {limiter.evidence}" if limiter.blame == "tester" else ""
            carried = f"{format_per_second(reading.each_second(total.transactions))} transactions/s"
            line = f"trial {number}: {self._trial.about}: {carried}{failed}{unserved}{tester}"
            self._console.print(Text(line), soft_wrap=True)

    def found(self, figures: Sequence[Figure]) -> None:
        for figure in figures:
            if figure.quantity in SEARCHED:
                value = format_quantity(figure.value, figure.meaning.unit)
                self._console.print(Text(f"{figure.meaning.name}, {label_text(figure.labels)}: {value}", style="bold"))

    def _words(self) -> str:
        return f"trial {self._number}: {self._trial.about}; {self._newest or 'starting'}"


def show_rfc9411(console: Console, record: RunRecord) -> None:
    """What was found of each object, then the cases at one load."""
    searched = [figure for figure in record.figures if figure.quantity in SEARCHED]
    if searched:
        console.print()
        console.print(_searched_table(searched))
    cases = [figure for figure in record.figures if "case" in figure.labels]
    if cases:
        console.print()
        console.print(_cases_table(cases))


def show_app_calibration(console: Console, record: RunRecord) -> None:
    """What the tester itself holds of a mix."""
    for figure in record.figures:
        mix, rate = record.test.trial.mix.name, format_per_second(figure.value)
        console.print()
        held = (f"{rate} transactions/s", "bold")
        console.print(
            Text.assemble("the tester itself holds ", held, f" of {mix}, with {label_text(figure.labels)}"),
            soft_wrap=True,
        )


_OF_A_CASE = ("transactions-rate", "first-byte-median", "first-byte-p999", "response-median", "response-p999",
              "failed-transactions")  # fmt: skip


def _searched_table(figures: Sequence[Figure]) -> PlainTable:
    keys = [key for key in SEARCHED if any(figure.quantity == key for figure in figures)]
    table = plain_table(("object",), [QUANTITIES[key].name for key in keys])
    for size in dict.fromkeys(figure.labels["object"] for figure in figures):
        of_size = {figure.quantity: figure for figure in figures if figure.labels["object"] == size}
        table.add_row(size, *(_marked(of_size.get(key)) for key in keys))
    if any(figure.mark for figure in figures):
        table.footer = "* as much as this tester holds: the device may well carry more"
    return table


def _marked(figure: Figure | None) -> str:
    if figure is None:
        return DASH
    return format_quantity(figure.value, figure.meaning.unit) + (" *" if figure.mark else "")


def _cases_table(figures: Sequence[Figure]) -> PlainTable:
    headings = ("transactions/s", "first byte", "p99.9", "response", "p99.9", "failed")
    table = plain_table(("case", "object"), headings)
    of_cases: dict[tuple[str, str], dict[str, Figure]] = {}
    for figure in figures:
        of_case = of_cases.setdefault((figure.labels["case"], figure.labels.get("object", DASH)), {})
        of_case.setdefault(figure.quantity, figure)
    for (case, size), found in of_cases.items():
        table.add_row(case, size, *(_marked(found.get(key)) for key in _OF_A_CASE))
    return table


def _outline(trial: AppTrial) -> str:
    levels = ", ".join(f"{level.name} for {format_span(level.sustain_s)}" for level in trial.levels)
    return f"mix {trial.mix.name}; {levels}; {format_span(trial.duration_s)} in all"


def show_app_trials(console: Console, record: RunRecord) -> None:
    """Every trial of a run with its intervals."""
    show_titled(console, _trials(record))


def _trials(record: RunRecord) -> Iterator[tuple[str, PlainTable]]:
    for trial in record.trials:
        if isinstance(trial.trial, AppTrial):
            style = AppStyle()
            rows = sorted(AppRows().add(replayed(trial.samples)), key=style.order)
            yield _outline(trial.trial), style.table(rows)


def show_app(console: Console, record: RunRecord) -> None:
    """What became of each level."""
    for trial, result in record.trials_of(AppTrial, AppTrialResult):
        for stream in result.streams:
            levels = read_levels(trial, stream, record.link, record.test.tester_per_s)
            if levels:
                console.print()
                console.print(_levels_table([reading for reading, _ in levels]))
            for reading, limiter in levels:
                _show_level(console, reading, limiter)
        for table in _beside(record, trial, result):
            console.print()
            console.print(table)


def _beside(record: RunRecord, trial: AppTrial, result: AppTrialResult) -> Iterator[PlainTable]:
    """What services and delay probes felt meanwhile."""
    readings = list(read_services(trial, result, record.ip_version))
    if readings:
        table = plain_table(("service", "", "level"), ("sent, L2", "received", "loss", "jitter", "variation p99.9",
                            "one-way", "limiter"), gap=2)  # fmt: skip
        for level, reading in readings:
            transit = reading.transit
            table.add_row(
                reading.service.name,
                reading.direction,
                level,
                format_rate(reading.l2_bps(reading.offered_fps)),
                format_rate(reading.l2_bps(reading.delivered_fps)),
                format_share(reading.loss),
                maybe(transit.jitter_s if transit else None, format_duration),
                maybe(transit.variation_p999_s if transit else None, format_duration),
                maybe(reading.mean_delay_s, format_duration),
                reading.limiter.name,
            )
        yield table
    delays = [figure for figure in record.figures if figure.quantity in _DELAYS]
    if delays:
        table = plain_table(("two-way delay", "level"), ("min", "median", "p99", "max", "loss"), gap=2)
        for level in dict.fromkeys(figure.labels["level"] for figure in delays):
            times = (maybe(find(delays, quantity, level=level), format_duration) for quantity in _DELAYS[:-1])
            table.add_row("meanwhile", level, *times, maybe(find(delays, _DELAYS[-1], level=level), format_share))
        yield table
    if result.policy:
        yield _policy_table(result.policy)


def _media_lines(reading: LevelReading) -> Iterator[str]:
    """What media streams were like, by application."""
    for name, part in reading.applications.items():
        found: dict[str, dict[str, float]] = {}
        for quantity, value, way in media_of(reading, part):
            found.setdefault(way, {})[quantity] = value
        for way, of in found.items():
            jitter = maybe(of.get("media-jitter-median"), format_duration)
            worst = maybe(of.get("media-jitter-max"), format_duration)
            yield f"{name}, {way}: lost {format_share(of['media-loss'])} of datagrams; jitter {jitter}, max {worst}"


def _policy_table(results: Sequence[CheckResult]) -> PlainTable:
    """What became of every check, and how it was blocked."""
    table = plain_table(("policy check", "by", "must be", ""), ("tried", "passed", "arrived", "blocked"), gap=2)
    for one in results:
        how = ", ".join(f"{name} {number}" for name, number in one.blocked.items())
        by = f"{one.check.by} {one.check.port}"
        right = "wrong" if one.wrong else "right"
        table.add_row(one.check.name, by, one.check.must, right, str(one.tried), str(one.passed), str(one.arrived), how)
    return table


def _levels_table(readings: Sequence[LevelReading]) -> PlainTable:
    table = plain_table(
        ("level",),
        ("transactions/s", "new/s", "open", "requests, L7", "responses, L7", "L2 there", "L2 back", "failed"),
        gap=2,
    )
    for reading in readings:
        total = reading.total
        table.add_row(
            reading.title,
            format_per_second(reading.each_second(total.transactions)),
            format_per_second(reading.each_second(reading.connections.opened)),
            f"{reading.open_connections:.0f}",
            format_rate(reading.request_bps),
            format_rate(reading.response_bps),
            *map(format_rate, reading.l2_bps),
            maybe(total.failed_share, format_share),
        )
    return table


def _show_level(console: Console, reading: LevelReading, limiter: Limiter) -> None:
    console.print()
    console.print(Text(f"{reading.title}, sustained for {format_duration(reading.seconds)}", style="bold"))
    if reading.total.attempted:
        console.print(_times_table(reading))
    for line in _lines(reading):
        console.print(Padding(line, (0, 0, 0, 2), expand=False))
    for head, words in (("limiter: ", f"{limiter.name} – {limiter.evidence}"), ("next: ", limiter.advice)):
        console.print(Padding(Text.assemble((head, "bold"), words), (0, 0, 0, 2), expand=False))


def _times_table(reading: LevelReading) -> PlainTable:
    """Times of all, of each application, and of each of its actions."""
    headings = ("transactions", "failed", "first byte", "response", "mean", "p99", "p99.9", "max")
    table = plain_table(("  what",), headings, gap=2)
    table.add_row("  all", *_cells(reading.total))
    several = len(reading.applications) > 1
    for name, part in reading.applications.items():
        if several:
            table.add_row(f"  {name}", *_cells(part))
        actions = [(action, of) for (application, action), of in reading.actions.items() if application == name]
        for action, of in actions:
            if len(actions) > 1:
                table.add_row(f"    {action}", *_cells(of))
    return table


def _cells(part: Part) -> tuple[str, ...]:
    def of(spread: Spread | None, name: str) -> str:
        return maybe(spread and getattr(spread, name), format_duration)

    return (
        str(part.transactions),
        str(part.failed),
        of(part.first_byte, "median_s"),
        *(of(part.response, name) for name in ("median_s", "mean_s", "p99_s", "p999_s", "max_s")),
    )


def _lines(reading: LevelReading) -> Iterator[str]:
    connections = reading.connections
    if reading.handshake:
        yield (
            f"{counted(connections.opened, 'connection')} opened, in {format_duration(reading.handshake.median_s)} at "
            f"the median and {format_duration(reading.handshake.p99_s)} at p99; {connections.resets} reset"
        )
    if reading.total.failures:
        reasons = ", ".join(f"{reason} {number}" for reason, number in reading.total.failures.items())
        yield f"failed: {reasons}"
    yield from _media_lines(reading)
    if reading.unserved:
        yield f"unserved arrivals: {reading.unserved}"
    if connections.retransmitted:
        yield f"segments sent again: {connections.retransmitted} of {connections.segments_sent}"
    if reading.lag:
        yield f"users began late by {format_duration(reading.lag.p99_s)} at p99 (the tester's own lag)"
