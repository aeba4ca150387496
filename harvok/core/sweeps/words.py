"""A sweep in words: its matrix as cells of text, and what it says in sentences."""

from collections.abc import Sequence

from harvok.core.measures.statistics import Summary
from harvok.core.quantities import QUANTITIES, heading_of
from harvok.core.sweeps.reading import TELLING_SPREAD, SweepReading, SweptPoint
from harvok.core.units import format_quantity, format_rate, format_share

AGAINST_BASELINE, LIMITER = "against baseline", "limiter"
_NONE = "–"


def matrix_of(reading: SweepReading) -> tuple[list[str], list[list[str]]]:
    """The head, and a row for the baseline and for each point; columns that no point fills are left out."""
    beside = [name for name in reading.beside if any(name in point.beside for point in reading.points)]
    bounds = list(dict.fromkeys(name for point in reading.points for name in point.bounds))
    settings = [setting.name for setting in reading.points[0].settings]
    head = [*settings, heading_of(reading.quantity), AGAINST_BASELINE, *(heading_of(name) for name in beside), *bounds]
    rows = _rows(reading, beside, bounds)
    if any(point.limiter for point in reading.points):
        return [*head, LIMITER], rows
    return head, [row[:-1] for row in rows]


def _rows(reading: SweepReading, beside: Sequence[str], bounds: Sequence[str]) -> list[list[str]]:
    rows = []
    if reading.baseline:
        empty = [_NONE] * (len(reading.points[0].settings) - 1)
        rest = [_NONE] * (1 + len(beside) + len(bounds))
        rows.append(["baseline", *empty, format_rate(reading.baseline.mean), *rest, ""])
    for point in reading.points:
        rows.append(
            [
                *(setting.text for setting in point.settings),
                format_rate(point.summary.mean),
                _change(reading.baseline, point),
                *(_beside(name, point) for name in beside),
                *(format_rate(point.bounds[name]) if name in point.bounds else _NONE for name in bounds),
                point.limiter,
            ]
        )
    return rows


def _change(baseline: Summary | None, point: SweptPoint) -> str:
    """The change with the half width of its 95 % interval, in percent of the baseline; of a single run it has none."""
    if baseline is None or not baseline.mean:
        return _NONE
    change = point.change
    if change is None:
        return f"{(point.summary.mean / baseline.mean - 1) * 100:+.1f} %"
    return f"{change.ratio * 100:+.1f} ± {(change.interval.high - change.ratio) * 100:.1f} %"


def _beside(name: str, point: SweptPoint) -> str:
    return format_quantity(point.beside[name], QUANTITIES[name].unit) if name in point.beside else _NONE


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
    if any(point.by_tester for point in reading.points):
        lines.append("where the tester was the limit, the path may well do more: such points say nothing of it")
    if reading.spread > TELLING_SPREAD:
        lines.append(
            f"repeats of one point differ by up to {format_share(reading.spread)}: that tells neither a knee nor what "
            "to recommend; find out what disturbs them, or take more"
        )
    return lines


def _where_loss_begins(reading: SweepReading) -> list[str]:
    """Of a load that alone is varied: the first at which anything was lost."""
    if list(reading.roles.values()) != ["load"] or any(point.by_tester for point in reading.points):
        return []
    loss = next(name for name in reading.beside if name.endswith("-loss"))
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
