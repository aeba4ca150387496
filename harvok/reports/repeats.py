"""Plots of repeats: every run of each series as a point, with the trimmed mean and its interval."""

import io
import re
import textwrap
from collections.abc import Collection, Iterator, Mapping, Sequence
from typing import TYPE_CHECKING

from harvok.core.figures import Figure
from harvok.core.judgement.assessment import Criterion
from harvok.core.labels import label_text
from harvok.core.measures.statistics import summarise
from harvok.core.models.run import RunRecord
from harvok.core.quantities import QUANTITIES
from harvok.core.samples import IntervalReader, replayed
from harvok.core.trials.tcp import TcpOutcome
from harvok.core.units import format_quantity
from harvok.reports.curves import LIMIT_RED
from harvok.reports.document import Picture, PictureKind

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure as Canvas

_WIDTH, _HEIGHT_A_PLOT = 8.0, 2.6
_MAX_PLOTS = 6
_MARKERS = "osD^v"
_DPI = 150
_SCALES = {"b/s": (1e6, "Mb/s"), "frames/s": (1.0, "frames/s"), "ratio": (0.01, "%"), "s": (1e-6, "µs")}
_MAX_RUNS = 12


def draw_repeats(
    series: Mapping[str, Sequence[RunRecord]],
    quantity: str,
    kind: PictureKind = "svg",
    criteria: Sequence[Criterion] = (),
) -> Picture | None:
    """One plot for each direction and frame size, a column for each series, and the limits that are set to it; None
    where there is nothing."""
    values: dict[str, dict[str, list[float]]] = {}
    limits: dict[str, set[float]] = {}
    for name, records in series.items():
        for figure in _complete(records):
            if figure.quantity == quantity:
                of = label_text(figure.labels)
                values.setdefault(of, {}).setdefault(name, []).append(figure.value)
                limits.setdefault(of, set()).update(_limits_of(figure, criteria))
    if not values:
        return None
    from matplotlib.figure import Figure as Canvas

    shown = list(values.items())[:_MAX_PLOTS]
    columns = 2 if len(shown) > 1 else 1
    rows = -(-len(shown) // columns)
    canvas = Canvas(figsize=(_WIDTH, _HEIGHT_A_PLOT * rows + 0.4), layout="constrained")
    for number, (of, by_series) in enumerate(shown, 1):
        axes = canvas.add_subplot(rows, columns, number)
        _strip(axes, by_series, quantity, limits[of])
        axes.set_title(of, fontsize="medium")
    left_out = f"\nnot drawn: {'; '.join(list(values)[_MAX_PLOTS:])}" if len(values) > _MAX_PLOTS else ""
    canvas.suptitle(f"{QUANTITIES[quantity].name}: every repeat, trimmed mean and 95 % interval{left_out}")
    return _picture(f"every repeat: {QUANTITIES[quantity].name}", canvas, kind)


def _complete(records: Sequence[RunRecord]) -> list[Figure]:
    return [figure for record in records if record.state == "complete" for figure in record.figures]


def _limits_of(figure: Figure, criteria: Sequence[Criterion]) -> Iterator[float]:
    for criterion in criteria:
        if criterion.is_about(figure):
            yield from (limit for limit in (criterion.minimum, criterion.maximum) if limit is not None)


def _strip(axes: "Axes", by_series: Mapping[str, Sequence[float]], quantity: str, limits: Collection[float]) -> None:
    unit = QUANTITIES[quantity].unit
    factor, shown_unit = _SCALES.get(unit, (1.0, unit))
    for number, limit in enumerate(sorted(limits)):
        axes.axhline(limit / factor, color=LIMIT_RED, linestyle="--", label="" if number else "limit")
    for column, values in enumerate(by_series.values()):
        count = len(values)
        across = [column + 0.24 * (n / max(count - 1, 1) - 0.5) - 0.12 for n in range(count)]
        axes.plot(across, [value / factor for value in values], "o", color=f"C{column}", alpha=0.7)
        summary = summarise(values)
        interval = summary.interval()
        if count > 1:
            reach = [[(summary.mean - interval.low) / factor], [(interval.high - summary.mean) / factor]]
            axes.errorbar([column + 0.2], [summary.mean / factor], yerr=reach, fmt="s", capsize=5, color="black")
    axes.set_xticks(range(len(by_series)), list(by_series))
    axes.set_xlim(-0.6, len(by_series) - 0.4)
    axes.set_ylabel(textwrap.fill(f"{QUANTITIES[quantity].name}, {shown_unit}", 24), fontsize="small")
    axes.ticklabel_format(axis="y", useOffset=False, style="plain")
    if limits:
        axes.legend(fontsize="small")
    axes.grid(axis="y", alpha=0.3)


def draw_over_attribute(records: Sequence[RunRecord], quantity: str, key: str, kind: PictureKind) -> Picture | None:
    """A figure over a numeric attribute such as `length`, a line through the medians for each direction and frame size;
    None where no run has both."""
    points: dict[str, dict[float, list[float]]] = {}
    for record in records:
        at = _number(record.attributes.get(key, ""))
        for figure in _complete([record]) if at is not None else ():
            if figure.quantity == quantity and at is not None:
                points.setdefault(label_text(figure.labels), {}).setdefault(at, []).append(figure.value)
    if not points:
        return None
    from matplotlib.figure import Figure as Canvas

    canvas = Canvas(figsize=(_WIDTH, _WIDTH / 2), layout="constrained")
    axes = canvas.add_subplot()
    unit = QUANTITIES[quantity].unit
    for number, (of, by_place) in enumerate(points.items()):
        places = sorted(by_place)
        every = [(place, value) for place in places for value in by_place[place]]
        axes.plot(*zip(*every, strict=True), _MARKERS[number % len(_MARKERS)], color=f"C{number}", alpha=0.6)
        medians = [summarise(by_place[place]).median for place in places]
        axes.plot(places, medians, color=f"C{number}", label=of or QUANTITIES[quantity].name)
    axes.set(xlabel=key, ylabel=QUANTITIES[quantity].name, title=f"{QUANTITIES[quantity].name} over {key}")
    axes.yaxis.set_major_formatter(lambda value, _: format_quantity(value, unit))
    axes.grid(alpha=0.3)
    axes.legend()
    return _picture(f"{QUANTITIES[quantity].name} over {key}", canvas, kind)


def _number(text: str) -> float | None:
    """The number that an attribute begins with: 15, or 15 m."""
    found = re.match(r"\s*(-?[0-9]+(?:\.[0-9]+)?)", text)
    return float(found[1]) if found else None


def draw_over_time(records: Sequence[RunRecord], kind: PictureKind = "svg") -> Picture | None:
    """Goodput, round-trip time and bytes sent again over the time of each TCP run, under one another."""
    runs = [record for record in records if any(isinstance(trial.result, TcpOutcome) for trial in record.trials)]
    if not runs:
        return None
    from matplotlib.figure import Figure as Canvas

    canvas = Canvas(figsize=(_WIDTH, 6.0), layout="constrained")
    goodput, rtt, again = canvas.subplots(3, 1, sharex=True)
    for number, record in enumerate(runs[:_MAX_RUNS]):
        _over_time(goodput, rtt, again, record, f"C{number % 10}")
    for axes, label in ((goodput, "goodput, Mb/s"), (rtt, "RTT, µs"), (again, "retransmitted so far, kB")):
        axes.set_ylabel(label)
        axes.set_ylim(bottom=0)
        axes.set_xlim(left=0)
        axes.grid(alpha=0.3)
    again.set_xlabel("s since the start of the trial; dashed: receive")
    left_out = f" (the first {_MAX_RUNS} of {len(runs)})" if len(runs) > _MAX_RUNS else ""
    canvas.suptitle(f"Every run over time{left_out}")
    return _picture("every run over time", canvas, kind)


def _over_time(goodput: "Axes", rtt: "Axes", again: "Axes", record: RunRecord, colour: str) -> None:
    for trial in record.trials:
        if not isinstance(trial.result, TcpOutcome):
            continue
        reader = IntervalReader()
        intervals = [half for sample in replayed(trial.samples) if (half := reader.add(sample))]
        for direction in trial.result.directions:
            style = "-" if direction.direction == "send" else "--"
            of_this = [half for half in intervals if half.direction == direction.direction]
            heard = [half for half in of_this if half.role == "receiver"]
            sent = [half for half in of_this if half.role == "sender" and half.of("rtt-us")]
            rates = [sum(half.of("flow-bytes")) * 8 / (half.end_s - half.start_s) / 1e6 for half in heard]
            goodput.plot([half.end_s for half in heard], rates, style, marker=".", color=colour)
            ends = [half.end_s for half in sent]
            rtt.plot(
                ends, [_mean([us for us in half.of("rtt-us") if us]) for half in sent], style, marker=".", color=colour
            )
            resent = [sum(half.of("retransmitted-bytes")) / 1e3 for half in sent]
            again.plot(ends, resent, style, marker=".", color=colour)


def _mean(values: Sequence[float]) -> float:
    return sum(values) / len(values) if values else float("nan")


def _picture(title: str, canvas: "Canvas", kind: PictureKind) -> Picture:
    out = io.BytesIO()
    canvas.savefig(out, format=kind, dpi=_DPI)
    return Picture(title, out.getvalue())
