"""What a UDP run comes to: for each direction and service what was sent, what arrived, and what limited it."""

from collections.abc import Callable, Collection, Iterator, Sequence

from rich.console import Console
from rich.padding import Padding
from rich.table import Table
from rich.text import Text

from harvok.cli.render.tcp import show_broken
from harvok.cli.render.words import DASH, direction_words, maybe, verdict_text
from harvok.core.ethernet import IpVersion
from harvok.core.figures import Figure, find
from harvok.core.judgement.compare import Finding, worst_verdict
from harvok.core.measures.statistics import summarise
from harvok.core.models.run import RigRecord, RunRecord
from harvok.core.procedures.udp import UdpTest
from harvok.core.quantities import QUANTITIES
from harvok.core.trials.udp import UdpTrial, UdpTrialResult
from harvok.core.udp.reading import UdpReading, read_trial
from harvok.core.units import format_byte_rate, format_duration, format_quantity, format_rate, format_share

_LIMITS = {
    "none": "none found",
    "sender": "the sending host",
    "own-queue": "the sending host's own interface",
    "receiver": "the receiving host",
    "path": "the path",
}


def show_udp_run(console: Console, record: RunRecord, said: Collection[str] = ()) -> None:
    """Prints what one run comes to. Notices in `said` were shown already."""
    assert isinstance(record.test, UdpTest)
    if record.state in ("broken", "invalid"):
        show_broken(console, record)
    if record.test.mode in ("load", "search"):
        for reading in _readings_of_interest(record):
            _show_reading(console, reading)
    if record.test.mode in ("steps", "services"):
        console.print()
        console.print(_loads_table(record))
    if record.test.mode == "search":
        _show_found(console, record)
    if record.findings:
        _show_findings(console, record.findings)
    for notice in record.notices:
        if notice not in said:
            console.print(Text.assemble(("note ", "bold yellow"), notice), soft_wrap=True)
    console.print(Text(f"kept as run {record.id}", style="dim"))


def readings_of(record: RunRecord) -> Iterator[tuple[UdpTrial, list[UdpReading]]]:
    """Every finished trial of a run with its readings."""
    version: IpVersion = 6 if isinstance(record.rig, RigRecord) and ":" in record.rig.address else 4
    for one in record.trials:
        if isinstance(one.trial, UdpTrial) and isinstance(one.result, UdpTrialResult):
            yield one.trial, read_trial(one.trial, one.result, version)


def _readings_of_interest(record: RunRecord) -> list[UdpReading]:
    """All readings of a plain load; of a search those of the highest full-length trial that passed, each way."""
    assert isinstance(record.test, UdpTest)
    test, best = record.test, dict[str, tuple[float, UdpReading]]()
    found = []
    for trial, readings in readings_of(record):
        if test.mode == "load":
            found += readings
        elif trial.duration_s >= test.trial.duration_s and all(one.loss <= test.loss_tolerance for one in readings):
            for one in readings:
                if one.direction not in best or one.offered_fps > best[one.direction][0]:
                    best[one.direction] = (one.offered_fps, one)
    return found or [one for _, one in best.values()]


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
    limit = reading.limit
    said = Text.assemble(("limit: ", "bold"), f"{_LIMITS[limit.kind]} – {limit.evidence}")
    console.print(Padding(said, (0, 0, 0, 10), expand=False))
    console.print(Padding(Text.assemble(("next: ", "bold"), limit.advice), (0, 0, 0, 10), expand=False))


def _lines(reading: UdpReading) -> Iterator[str]:
    yield f"lost {reading.lost} of {reading.sent} datagrams ({format_share(reading.loss)}){_runs(reading)}"
    where = f"lost on the path {reading.path_lost}, dropped by the receiving socket {reading.socket_drops}"
    yield f"{where}; duplicates {reading.duplicates}, out of order {reading.reordered}"
    transit = reading.transit
    if transit and transit.counted > 1:
        yield (
            f"jitter {format_duration(transit.jitter_s)}; delay variation typically "
            f"{format_duration(transit.variation_median_s)}, 99 % {format_duration(transit.variation_p99_s)}, "
            f"99.9 % {format_duration(transit.variation_p999_s)}"
        )
    yield _one_way(reading)
    batches = f", in batches of {reading.batch}" if reading.batch > 1 else ""
    yield f"{reading.means}{batches}"


def _runs(reading: UdpReading) -> str:
    if not reading.loss_runs:
        return ""
    gaps = sum(reading.loss_runs.values())
    silence = reading.longest_run / reading.service.load_fps * reading.service.flows
    return f", in {gaps} gap{'s' if gaps > 1 else ''}, the longest {reading.longest_run} ({format_duration(silence)})"


def _one_way(reading: UdpReading) -> str:
    least, mean, error_s = reading.min_delay_s, reading.mean_delay_s, reading.clock_error_s
    if least is None or mean is None or error_s is None:
        return "one-way delay unknown: the clocks of the two ends could not be compared"
    exact = "both ends share one clock" if not error_s else f"clocks known to ± {format_duration(error_s)}"
    return f"one-way delay least {format_duration(least)}, mean {format_duration(mean)} ({exact})"


def _loads_table(record: RunRecord) -> Table:
    """One row for each step, service and direction."""
    table = Table(box=None, padding=(0, 1, 0, 0), header_style="bold")
    named = any("service" in figure.labels for figure in record.figures)
    for heading in (*(["service"] if named else []), "load", "direction"):
        table.add_column(heading, no_wrap=True)
    for heading in ("sent, L2", "received, L2", "loss", "gap", "jitter", "var. 99.9 %", "one-way"):
        table.add_column(heading, justify="right", no_wrap=True)
    for labels in _places(record.figures):
        values = {
            quantity: find(record.figures, quantity, **labels)
            for quantity in (
                "udp-offered", "udp-received", "datagram-loss", "loss-run-longest", "jitter",
                "delay-variation-p999", "one-way-delay-mean",
            )
        }  # fmt: skip
        marked = any(f.mark and f.labels == labels for f in record.figures)
        shown = [maybe(value, _shows(quantity)) for quantity, value in values.items()]
        if marked:
            shown[0] += " *"
        heads = [labels.get("service", DASH)] if named else []
        table.add_row(*heads, labels.get("load", DASH), direction_words(labels["direction"]), *shown)
    if any(figure.mark for figure in record.figures):
        table.caption = "* the tester fell short here; nothing of this row speaks of the path"
        table.caption_justify = "left"
    return table


def _shows(quantity: str) -> Callable[[float], str]:
    unit = QUANTITIES[quantity].unit
    return lambda value: format_quantity(value, unit)


def _places(figures: Sequence[Figure]) -> list[dict[str, str]]:
    """The labels of everything that was loaded, in the order of measuring."""
    places: list[dict[str, str]] = []
    for figure in figures:
        if figure.quantity == "udp-offered" and figure.labels not in places:
            places.append(figure.labels)
    return places


def _show_found(console: Console, record: RunRecord) -> None:
    assert isinstance(record.test, UdpTest)
    console.print()
    tolerance = record.test.loss_tolerance
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
        elif figure.value >= record.test.services[0].rate_bps * 0.9999:
            line.append(", all that was asked for: try a higher --rate")
        console.print(line, soft_wrap=True)


def _show_findings(console: Console, findings: Sequence[Finding]) -> None:
    console.print()
    console.print(Text.assemble(verdict_text(worst_verdict(findings)), " for the services together"))
    for finding in findings:
        if finding.verdict != "ACCEPT" or len(findings) <= 12:
            said = Text.assemble(verdict_text(finding.verdict), f"  {finding.where}: {finding.reason}")
            console.print(said, soft_wrap=True)
            if finding.advice:
                console.print(Text(f"        {finding.advice}", style="dim"), soft_wrap=True)
    kept = sum(finding.verdict == "ACCEPT" for finding in findings)
    if len(findings) > 12 and kept:
        console.print(f"{kept} other limits were kept")


def show_udp_repeats(console: Console, records: Sequence[RunRecord]) -> None:
    """What several repeats come to: the trimmed mean of the main figures, with their spread."""
    table = Table(box=None, padding=(0, 2, 0, 0), header_style="bold")
    for heading in ("figure", "of"):
        table.add_column(heading)
    for heading in ("repeats", "trimmed mean", "median", "least", "greatest"):
        table.add_column(heading, justify="right")
    for first in records[0].figures:
        if first.quantity not in ("udp-received", "udp-throughput", "datagram-loss", "delay-variation-p99"):
            continue
        found = [f.value for record in records for f in record.figures if f.key == first.key]
        summary = summarise(found)
        unit = first.meaning.unit
        table.add_row(
            first.meaning.name,
            ", ".join(first.labels.values()),
            str(len(found)),
            *(format_quantity(value, unit) for value in (summary.mean, summary.median, min(found), max(found))),
        )
    console.print()
    console.print(table)
