"""UDP: intervals while a test runs, and for each direction and service what was sent, what arrived, what limited it."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from rich.console import Console
from rich.padding import Padding
from rich.text import Text

from harvok.cli.render.charts import Chart
from harvok.cli.render.run_view import RowsView
from harvok.cli.render.tables import PlainTable, plain_table, show_titled
from harvok.cli.render.words import DASH, direction_words, maybe, span_words
from harvok.core.figures import Figure, find
from harvok.core.models.run import RunRecord
from harvok.core.procedures.udp import max_rate_bps
from harvok.core.quantities import QUANTITIES, heading_of
from harvok.core.samples import replayed
from harvok.core.trials.any import Trial
from harvok.core.trials.udp import UdpTrial, UdpTrialResult
from harvok.core.udp.reading import UdpReading, read_trial
from harvok.core.udp.rows import UdpRow, UdpRowJoiner
from harvok.core.units import (
    counted,
    format_byte_rate,
    format_duration,
    format_quantity,
    format_rate,
    format_share,
    format_span,
)

_OF_A_LOAD = (
    "udp-offered", "udp-received", "datagram-loss", "loss-run-longest", "jitter", "delay-variation-p999",
    "one-way-delay-mean",
)  # fmt: skip


@dataclass(frozen=True, slots=True)
class UdpRows:
    """How the intervals of a trial are shown: one row for each interval, direction and service; rates of payload."""

    trial: UdpTrial

    def order(self, row: UdpRow) -> tuple[object, ...]:
        names = [service.name for service in self.trial.services]
        return (row.index, row.direction != "send", names.index(row.service))

    def table(self, rows: Sequence[UdpRow]) -> PlainTable:
        named = any(service.name for service in self.trial.services)
        names = ("   at", "direction", *(["service"] if named else []))
        table = plain_table(names, ("sent", "received", "missing", "gap", "reordered", "jitter", "variation"), gap=1)
        for row in rows:
            table.add_row(
                f"{row.end_s:5.1f}",
                direction_words(row.direction),
                *([row.service] if named else []),
                format_rate(row.sent_bps),
                format_rate(row.received_bps),
                str(row.missing),
                str(row.longest_run),
                str(row.reordered),
                maybe(row.jitter_s, format_duration),
                maybe(row.variation_s, format_duration),
            )
        return table

    def line(self, row: UdpRow) -> str:
        """An interval as one line of words, for logs and pipes."""
        of = f" of {row.service}" if row.service else ""
        parts = [
            f"{span_words(row.start_s, row.end_s)}, {row.direction}{of}: payload sent {format_rate(row.sent_bps)}, "
            f"received {format_rate(row.received_bps)}",
            f"missing {row.missing}" + (f", longest gap {row.longest_run}" if row.longest_run else ""),
        ]
        if row.duplicates:
            parts.append(f"duplicates {row.duplicates}")
        if row.reordered:
            parts.append(f"reordered {row.reordered}")
        if row.jitter_s is not None:
            parts.append(f"jitter {format_duration(row.jitter_s)}")
        if row.variation_s is not None:
            parts.append(f"delay variation {format_duration(row.variation_s)}")
        return "; ".join(parts)


class UdpView(RowsView[UdpRow]):
    """UDP while it runs."""

    def trial_started(self, number: int, trial: Trial) -> None:
        assert isinstance(trial, UdpTrial)
        self._stop_moving()
        directions = " and ".join(direction_words(stream.name) for stream in trial.streams)
        outline = f"{trial.about or 'load'}, {directions}, {format_span(trial.duration_s)}"
        self._console.print(Text(outline, style="dim"))
        self.start_rows(UdpRows(trial), UdpRowJoiner().add)

    def rows_of(self, direction: str) -> list[UdpRow]:
        """Of several services the first."""
        rows = super().rows_of(direction)
        return [row for row in rows if row.service == rows[0].service]

    def charts_of(self, direction: str, rows: Sequence[UdpRow]) -> Iterator[Chart]:
        """Rate against what was sent, and loss."""
        sent = max(row.sent_bps for row in rows)
        asked = self.limit_of("udp-goodput", direction)
        yield Chart(f"received, {direction}", [row.received_bps for row in rows], format_rate, sent, limit=asked)
        yield Chart(f"missing, {direction}", [row.missing for row in rows], "{:.0f}".format)


def show_udp_trials(console: Console, record: RunRecord) -> None:
    """Every trial of a run with its intervals."""
    show_titled(console, _trials(record))


def _trials(record: RunRecord) -> Iterator[tuple[str, PlainTable]]:
    """Trials with their intervals, joined as they were while it ran."""
    for trial in record.trials:
        if isinstance(trial.trial, UdpTrial):
            style = UdpRows(trial.trial)
            rows = sorted(UdpRowJoiner().add(replayed(trial.samples)), key=style.order)
            directions = " and ".join(direction_words(stream.name) for stream in trial.trial.streams)
            yield ", ".join(filter(None, (directions, trial.trial.about))), style.table(rows)


def show_load(console: Console, record: RunRecord) -> None:
    """What became of one load, each way."""
    for _, readings in readings_of(record):
        for reading in readings:
            _show_reading(console, reading)


def show_loads(console: Console, record: RunRecord) -> None:
    """What became of each step or service, each way."""
    console.print()
    console.print(_loads_table(record))


def show_search(console: Console, record: RunRecord) -> None:
    """The highest rate that passed, and what is known of the trial that confirmed it, each way."""
    _show_highest(console, record)
    for reading in _confirming(record):
        _show_reading(console, reading)


def readings_of(record: RunRecord) -> Iterator[tuple[UdpTrial, list[UdpReading]]]:
    """Every finished trial of a run with its readings."""
    for trial, result in record.trials_of(UdpTrial, UdpTrialResult):
        yield trial, read_trial(trial, result, record.ip_version)


def _confirming(record: RunRecord) -> list[UdpReading]:
    """The readings of the highest full-length trial that passed, each way."""
    test, best = record.test, dict[str, UdpReading]()
    for trial, readings in readings_of(record):
        if trial.duration_s < test.trial.duration_s or any(reading.loss > test.loss_tolerance for reading in readings):
            continue
        for reading in readings:
            if reading.direction not in best or reading.offered_fps > best[reading.direction].offered_fps:
                best[reading.direction] = reading
    return list(best.values())


def _show_reading(console: Console, reading: UdpReading) -> None:
    offered, delivered = reading.l2_bps(reading.offered_fps), reading.l2_bps(reading.delivered_fps)
    goodput = reading.goodput_bps
    console.print()
    console.print(
        Text.assemble(
            (f"{direction_words(reading.direction):10}", "bold"),
            (f"received {format_rate(delivered)}", "bold"),
            f" of {format_rate(offered)} sent, in frames of {reading.frame_bytes} B (L2); payload "
            f"{format_rate(goodput)} = {format_byte_rate(goodput)}",
        ),
        soft_wrap=True,
    )
    for line in _lines(reading):
        console.print(Padding(line, (0, 0, 0, 10), expand=False))
    limiter = reading.limiter
    limited_by = Text.assemble(("limiter: ", "bold"), f"{limiter.name} – {limiter.evidence}")
    console.print(Padding(limited_by, (0, 0, 0, 10), expand=False))
    console.print(Padding(Text.assemble(("next: ", "bold"), limiter.advice), (0, 0, 0, 10), expand=False))


def _lines(reading: UdpReading) -> Iterator[str]:
    yield f"lost {reading.lost} of {reading.sent} datagrams ({format_share(reading.loss)}){_runs(reading)}"
    where = f"lost on the path {reading.path_lost}, dropped by the receiving socket {reading.socket_drops}"
    yield f"{where}; duplicates {reading.duplicates}, reordered {reading.reordered}"
    transit = reading.transit
    if transit and transit.counted > 1:
        yield (
            f"jitter {format_duration(transit.jitter_s)}; delay variation median "
            f"{format_duration(transit.variation_median_s)}, p99 {format_duration(transit.variation_p99_s)}, "
            f"p99.9 {format_duration(transit.variation_p999_s)}"
        )
    yield _one_way(reading)
    batches = f", in batches of {reading.batch}" if reading.batch > 1 else ""
    yield f"{reading.means}{batches}"


def _runs(reading: UdpReading) -> str:
    if not reading.loss_runs:
        return ""
    gaps = sum(reading.loss_runs.values())
    silence = reading.longest_run / reading.service.load_fps * reading.service.flows
    return f", in {counted(gaps, 'gap')}, the longest {reading.longest_run} ({format_duration(silence)})"


def _one_way(reading: UdpReading) -> str:
    minimum, mean, error_s = reading.min_delay_s, reading.mean_delay_s, reading.clock_error_s
    if minimum is None or mean is None or error_s is None:
        return "one-way delay unknown: the clocks of the two ends could not be compared"
    exact = "both ends share one clock" if not error_s else f"clocks known to ± {format_duration(error_s)}"
    return f"one-way delay min {format_duration(minimum)}, mean {format_duration(mean)} ({exact})"


def _loads_table(record: RunRecord) -> PlainTable:
    """One row for each step, service and direction."""
    named = any("service" in figure.labels for figure in record.figures)
    names = (*(["service"] if named else []), "load", "direction")
    table = plain_table(names, map(heading_of, _OF_A_LOAD), gap=1)
    for labels in _labels_of_loads(record.figures):
        values = [(quantity, find(record.figures, quantity, **labels)) for quantity in _OF_A_LOAD]
        cells = [DASH if value is None else format_quantity(value, QUANTITIES[key].unit) for key, value in values]
        if any(figure.mark and figure.labels == labels for figure in record.figures):
            cells[0] += " *"
        service = [labels.get("service", DASH)] if named else []
        table.add_row(*service, labels.get("load", DASH), direction_words(labels["direction"]), *cells)
    if any(figure.mark for figure in record.figures):
        table.footer = "* limited by the tester; this row says nothing about the path"
    return table


def _labels_of_loads(figures: Sequence[Figure]) -> list[dict[str, str]]:
    """The labels of everything that was loaded, in the order of measuring."""
    labels: list[dict[str, str]] = []
    for figure in figures:
        if figure.quantity == "udp-offered" and figure.labels not in labels:
            labels.append(figure.labels)
    return labels


def _show_highest(console: Console, record: RunRecord) -> None:
    console.print()
    tolerance, spec = record.test.loss_tolerance, record.test.services[0]
    highest_bps = max_rate_bps(spec, record.link.line_rate_bps, record.ip_version)
    for figure in record.figures:
        if figure.quantity != "udp-throughput":
            continue
        payload = find(record.figures, "udp-throughput-goodput", direction=figure.labels["direction"]) or 0.0
        within = f"losing at most {format_share(tolerance)}" if tolerance else "losing nothing"
        line = Text.assemble(
            (f"{direction_words(figure.labels['direction']):10}", "bold"),
            (f"{format_rate(figure.value)}", "bold"),
            f" is the highest rate {within} (L2; payload {format_rate(payload)})",
        )
        if figure.mark:
            line.append(", and it is this tester's limit, not the path's")
        elif figure.value >= highest_bps * 0.9999:
            line.append(
                ", all that was asked for: try a higher --rate"
                if highest_bps == spec.rate_bps
                else ", all that the line carries in such frames"
            )
        console.print(line, soft_wrap=True)
