"""Plots of RFC 2544 runs: throughput over frame size with the theoretical line, loss over load, latency."""

import textwrap
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from harvok.core.figures import find
from harvok.core.judgement.assessment import Criterion
from harvok.core.labels import size_text
from harvok.core.models.run import RunRecord
from harvok.core.procedures.frames import FrameSettings, FrameSize
from harvok.core.procedures.latency import latency_definition, stamps_of
from harvok.core.trials.frames import DelaySummary, FrameTrial, FrameTrialResult
from harvok.errors import UsageError
from harvok.reports.curves import GREY, LIMIT_RED

if TYPE_CHECKING:
    from matplotlib.axes import Axes

_INCHES, _DPI = (8.0, 5.0), 160
_DASHES: list[Any] = ["-", "--", ":", "-.", (0, (5, 1)), (0, (1, 3)), (0, (3, 1, 1, 1))]
_MAX_SIZES = 3
_MARKERS = "osD^v"  # so that lines are told apart without colour
_MAX_INSIDE = 5  # lines of a legend that find room among the curves
_FEW_COLOURS = 10  # of the cycle, after which colours would come again


Painter = Callable[["Axes", Sequence[RunRecord], Sequence[Criterion]], None]


def draw(
    records: Sequence[RunRecord],
    folder: Path,
    kinds: Sequence[str] = ("png", "svg"),
    criteria: Sequence[Criterion] = (),
) -> list[Path]:
    """Draws every plot that the records have figures for, as PNG and SVG unless told otherwise: one line for each rig,
    and the limits that `criteria` set.

    Raises UsageError when the folder cannot be written.
    """
    import matplotlib as mpl

    mpl.use("agg")
    from matplotlib import pyplot

    plots: dict[str, tuple[str, Painter]] = {
        "throughput": ("throughput", _throughput),
        "loss": ("frame-loss", _loss),
        "latency": ("latency-median", _latency),
        "delay-distribution": ("latency-median", _distribution),
    }
    drawn = []
    for name, (needed, paint) in plots.items():
        if not any(figure.quantity == needed for record in records for figure in record.figures):
            continue
        figure, axes = pyplot.subplots(figsize=_INCHES, layout="constrained")
        paint(axes, records, criteria)
        axes.grid(alpha=0.3)
        shown = axes.get_legend_handles_labels()[1]
        if len(shown) > _MAX_INSIDE:
            figure.legend(loc="outside lower center", ncols=3, fontsize="small")
        elif shown:
            axes.legend()
        drawn += _save(figure.savefig, folder, name, kinds)
        pyplot.close(figure)
    return drawn


def _save(save: Callable[..., None], folder: Path, name: str, kinds: Sequence[str]) -> list[Path]:
    paths = [folder / f"{name}.{kind}" for kind in kinds]
    try:
        folder.mkdir(parents=True, exist_ok=True)
        for path in paths:
            save(path, dpi=_DPI)
    except OSError as error:
        raise UsageError(f"{folder} cannot be written: {error.strerror}", "Give --plots another folder.") from error
    return paths


def _throughput(axes: "Axes", records: Sequence[RunRecord], criteria: Sequence[Criterion]) -> None:
    """A gap where a size was left out, which is named; hollow where the tester may have been the limit."""
    sizes, settings = _sizes(axes, records), _settings(records[0])
    left_out: dict[str, list[str]] = {}
    for number, (record, marker) in enumerate(zip(records, _MARKERS * len(records), strict=False)):
        at, rates = _over_sizes(record, "throughput", sizes)
        axes.plot(at, rates, marker=marker, color=f"C{number}", label=_label(record))
        by_tester = [_is_marked(record, size) for size in sizes]
        hollow = [(place, rate) for place, rate, is_marked in zip(at, rates, by_tester, strict=True) if is_marked]
        if hollow:
            style: Any = {"marker": marker, "color": f"C{number}", "markerfacecolor": "white", "linestyle": ""}
            axes.plot(*zip(*hollow, strict=True), **style, zorder=6, label=f"{_label(record)}: the tester's limit")
        missing = [size_text(size.name) for size, rate in zip(sizes, rates, strict=True) if rate != rate]  # NaN
        if missing:
            left_out[_label(record)] = missing
    at = [size.mean_bytes for size in sizes]
    line_fps = [size.line_fps(settings.line_bps) for size in sizes]
    axes.plot(at, line_fps, label="theoretical maximum", linestyle=(0, (2, 3)), color="black", zorder=5)
    if any(size.name in settings.tester_fps for size in sizes):
        tester = [settings.tester_fps.get(size.name, float("nan")) for size in sizes]
        axes.plot(at, tester, label="the tester's own limit, calibrated", linestyle="-.", color=GREY, zorder=4)
    shares = [(size, 1.0) for size in sizes], list(zip(sizes, line_fps, strict=True))
    _limits(axes, [*_at_sizes(criteria, "throughput", shares[0]), *_at_sizes(criteria, "throughput-share", shares[1])])
    title = "Throughput: highest load without loss"
    if left_out:
        words = "; ".join(f"{name} at {', '.join(missing)}" for name, missing in left_out.items())
        title += "\n" + textwrap.fill(f"not measured: {words}", 100)
    axes.set(xlabel="frame size, B", ylabel="throughput, frames/s", yscale="log", title=title)
    axes.yaxis.set_major_formatter(lambda value, _: f"{value:,.0f}".replace(",", " "))


def _is_marked(record: RunRecord, size: FrameSize) -> bool:
    return any(
        figure.mark == "tester-limit"
        for figure in record.figures
        if figure.quantity == "throughput" and figure.labels["frame-size"] == size.name
    )


def _at_sizes(
    criteria: Sequence[Criterion], quantity: str, scales: Sequence[tuple[FrameSize, float]]
) -> list[tuple[float, float]]:
    """(mean frame size, limit × scale) of every limit that is set to a quantity of a frame size."""
    return [
        (size.mean_bytes, limit * scale)
        for criterion in criteria
        if criterion.quantity == quantity
        for size, scale in scales
        if criterion.labels.get("frame-size", size.name) == size.name
        for limit in (criterion.minimum, criterion.maximum)
        if limit is not None
    ]


def _limits(axes: "Axes", places: Sequence[tuple[float, float]]) -> None:
    """A bar at each place where a limit is set."""
    if places:
        across, limits = zip(*places, strict=True)
        axes.plot(
            across, limits, linestyle="", marker="_", markersize=22, markeredgewidth=2, color=LIMIT_RED, label="limit"
        )


def _loss(axes: "Axes", records: Sequence[RunRecord], criteria: Sequence[Criterion]) -> None:
    """Only what loses is drawn; what never does is named below the title."""
    clean: dict[str, list[str]] = {}
    curves: list[tuple[str, dict[str, float]]] = []
    loads = _loads(records)
    for record in records:
        losses = [figure for figure in record.figures if figure.quantity == "frame-loss"]
        for size in dict.fromkeys(figure.labels["frame-size"] for figure in losses):
            points = {f.labels["load"]: f.value * 100 for f in losses if f.labels["frame-size"] == size}
            if any(points.values()):
                curves.append((f"{_label(record)}, {size_text(size)}", points))
            else:
                clean.setdefault(_label(record), []).append(size)
    for (name, points), colour, marker in zip(curves, _colours(len(curves)), _MARKERS * len(curves), strict=False):
        at = [loads.index(load) for load in points]
        axes.plot(at, list(points.values()), marker=marker, color=colour, label=name)
    _limits(axes, [
        (number, criterion.maximum * 100)
        for criterion in criteria
        if criterion.quantity == "frame-loss" and criterion.maximum is not None
        for number, load in enumerate(loads)
        if criterion.labels.get("load", load) == load
    ])  # fmt: skip
    axes.set_xticks(range(len(loads)), loads)
    axes.set(xlabel="offered load, share of maximum rate", ylabel="frame loss, %", ylim=(0, None))
    axes.set_title("Frame loss over load")
    if clean:
        words = "; ".join(f"{name} at {', '.join(sizes)}\u00a0B" for name, sizes in clean.items())
        axes.set_title("Frame loss over load\n" + textwrap.fill(f"no loss: {words}", 100), fontsize="medium")


def _colours(count: int) -> list[Any]:
    """As many colours as there are curves, each another one."""
    from matplotlib import colormaps

    if count <= _FEW_COLOURS:
        return [f"C{number}" for number in range(count)]
    return [colormaps["turbo"](0.05 + 0.9 * number / (count - 1)) for number in range(count)]


def _loads(records: Sequence[RunRecord]) -> list[str]:
    """The loads of all records, lowest first: the test takes them from the highest down (RFC 2544 §26.3)."""
    found = [f.labels["load"] for record in records for f in record.figures if f.quantity == "frame-loss"]
    return list(reversed(dict.fromkeys(found)))


def _latency(axes: "Axes", records: Sequence[RunRecord], criteria: Sequence[Criterion]) -> None:
    """A line for the median latency, in a band from the minimum to p99.9."""
    sizes = _sizes(axes, records)
    for number, (record, marker) in enumerate(zip(records, _MARKERS * len(records), strict=False)):
        at, median = _over_sizes(record, "latency-median", sizes, 1e6)
        (_, minimum), (_, p999) = (_over_sizes(record, q, sizes, 1e6) for q in ("latency-min", "latency-p999"))
        axes.plot(at, median, marker=marker, color=f"C{number}", label=f"{_label(record)}, median")
        axes.fill_between(at, minimum, p999, color=f"C{number}", alpha=0.25, label="min to p99.9")
    _limits(axes, _at_sizes(criteria, "latency-median", [(size, 1e6) for size in sizes]))
    axes.set(xlabel="frame size, B", ylabel="latency, µs", ylim=(0, None))
    axes.set_title(f"Latency at throughput, {_definitions(records)}", fontsize="medium")


def _definitions(records: Sequence[RunRecord]) -> str:
    """What latency is in these runs; of rigs that differ in it, both."""
    each = (latency_definition(stamps_of(one.trials), one.rig.kind == "simulated") for one in records)
    return "; ".join(dict.fromkeys(each))


def _distribution(axes: "Axes", records: Sequence[RunRecord], criteria: Sequence[Criterion]) -> None:  # noqa: ARG001
    """How many frames took longer than each delay, in the streams that latency was measured with: the tails count."""
    curves = [(record, *stream) for record in records for stream in _streams(record)]
    styles = zip(curves, _colours(len(curves)), _DASHES * len(curves), strict=False)
    for (record, size, delay), colour, style in styles:
        total, slower = delay.counted, delay.counted
        at, share = [delay.min_s * 1e6], [1.0]
        for edge_s, frames in delay.distribution:
            slower -= frames
            at.append(min(edge_s, delay.max_s) * 1e6)
            share.append(max(slower, 0.5) / total)
        axes.step(at, share, where="post", linestyle=style, color=colour, label=f"{_label(record)}, {size}")
    axes.set(xlabel="delay, µs", ylabel="share of frames that took longer", yscale="log", xscale="log")
    axes.set_title("Delay distribution at throughput")
    for axis, ticks in ((axes.xaxis, "both"), (axes.yaxis, "major")):
        axis.set_major_formatter(lambda value, _: f"{value:g}")
        if ticks == "both":
            axis.set_minor_formatter(lambda value, _: f"{value:g}" if str(value)[0] in "25" else "")


def _streams(record: RunRecord) -> list[tuple[str, DelaySummary]]:
    """(frame size, delays) of the latency streams in the first direction: of the first, a middle and the last size when
    there are many, so that the lines can be told apart."""
    found = {}
    for trial, result in record.trials_of(FrameTrial, FrameTrialResult):
        delay = result.directions[0].delay
        if trial.tags and delay:
            found["mix" if len(trial.frame_sizes) > 1 else f"{trial.frame_sizes[0]} B"] = delay
    every = list(found.items())
    return every if len(every) <= _MAX_SIZES else [every[0], every[len(every) // 2], every[-1]]


def _settings(record: RunRecord) -> FrameSettings:
    settings: FrameSettings = record.test.settings
    return settings


def _sizes(axes: "Axes", records: Sequence[RunRecord]) -> list[FrameSize]:
    """The frame sizes of the first run, smallest first, as ticks of the x axis."""
    sizes: list[FrameSize] = sorted(records[0].test.sizes, key=lambda size: size.mean_bytes)
    axes.set_xticks([size.mean_bytes for size in sizes], [size.name for size in sizes])
    return sizes


def _over_sizes(
    record: RunRecord, quantity: str, sizes: Sequence[FrameSize], factor: float = 1.0
) -> tuple[list[float], list[float]]:
    """(mean frame sizes, values) of a figure; a gap in the line where a size has none."""
    found = [find(record.figures, quantity, **{"frame-size": size.name}) for size in sizes]
    values = [float("nan") if value is None else value * factor for value in found]
    return [size.mean_bytes for size in sizes], values


def _label(record: RunRecord) -> str:
    return record.series or record.rig.name
