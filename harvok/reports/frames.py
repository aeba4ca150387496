"""Plots of RFC 2544 runs: throughput over frame size with the theoretical line, loss over load, latency."""

import textwrap
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from harvok.core.figures import find
from harvok.core.labels import size_text
from harvok.core.models.run import RunRecord
from harvok.core.procedures.frames import FrameSettings, FrameSize
from harvok.core.trials.frames import DelaySummary, FrameTrial, FrameTrialResult
from harvok.errors import UsageError

if TYPE_CHECKING:
    from matplotlib.axes import Axes

_INCHES, _DPI = (8.0, 5.0), 160
_DASHES: list[Any] = ["-", "--", ":", "-.", (0, (5, 1)), (0, (1, 3)), (0, (3, 1, 1, 1))]
_MAX_SIZES = 3
_MARKERS = "osD^v"  # so that lines are told apart without colour


def draw(records: Sequence[RunRecord], folder: Path, kinds: Sequence[str] = ("png", "svg")) -> list[Path]:
    """Draws every plot that the records have figures for, as PNG and SVG unless told otherwise; one line for each rig.

    Raises UsageError when the folder cannot be written.
    """
    import matplotlib as mpl

    mpl.use("agg")
    from matplotlib import pyplot

    plots: dict[str, tuple[str, Callable[[Axes, Sequence[RunRecord]], None]]] = {
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
        paint(axes, records)
        axes.grid(alpha=0.3)
        if axes.get_legend_handles_labels()[0]:
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


def _throughput(axes: "Axes", records: Sequence[RunRecord]) -> None:
    sizes = _sizes(axes, records)
    settings = _settings(records[0])
    for record, marker in zip(records, _MARKERS * len(records), strict=False):
        axes.plot(*_over_sizes(record, "throughput", sizes), marker=marker, label=_label(record))
    maximum = [size.line_fps(settings.line_bps) for size in sizes]
    at = [size.mean_bytes for size in sizes]
    axes.plot(at, maximum, label="theoretical maximum", linestyle=(0, (2, 3)), color="black", zorder=5)
    axes.set(xlabel="frame size, B", ylabel="frames/s", yscale="log", title="Throughput: highest load without loss")
    axes.yaxis.set_major_formatter(lambda value, _: f"{value:,.0f}".replace(",", " "))


def _loss(axes: "Axes", records: Sequence[RunRecord]) -> None:
    """Only what loses is drawn; what never does is named below the title."""
    clean: dict[str, list[str]] = {}
    loads = _loads(records)
    for record in records:
        losses = [figure for figure in record.figures if figure.quantity == "frame-loss"]
        sizes = dict.fromkeys(figure.labels["frame-size"] for figure in losses)
        for size, marker in zip(sizes, _MARKERS * len(sizes), strict=False):
            points = {f.labels["load"]: f.value * 100 for f in losses if f.labels["frame-size"] == size}
            if any(points.values()):
                at = [loads.index(load) for load in points]
                axes.plot(at, list(points.values()), marker=marker, label=f"{_label(record)}, {size_text(size)}")
            else:
                clean.setdefault(_label(record), []).append(size)
    axes.set_xticks(range(len(loads)), loads)
    axes.set(xlabel="offered load, share of maximum rate", ylabel="frame loss, %", ylim=(0, None))
    axes.set_title("Frame loss over load")
    if clean:
        words = "; ".join(f"{name} at {', '.join(sizes)} B" for name, sizes in clean.items())
        axes.set_title("Frame loss over load\n" + textwrap.fill(f"no loss: {words}", 100), fontsize="medium")


def _loads(records: Sequence[RunRecord]) -> list[str]:
    """The loads of all records, lowest first: the test takes them from the highest down (RFC 2544 §26.3)."""
    found = [f.labels["load"] for record in records for f in record.figures if f.quantity == "frame-loss"]
    return list(reversed(dict.fromkeys(found)))


def _latency(axes: "Axes", records: Sequence[RunRecord]) -> None:
    """A line for the median latency, in a band from the minimum to p99.9."""
    sizes = _sizes(axes, records)
    for number, (record, marker) in enumerate(zip(records, _MARKERS * len(records), strict=False)):
        at, typical = _over_sizes(record, "latency-median", sizes, 1e6)
        (_, minimum), (_, worst) = (_over_sizes(record, q, sizes, 1e6) for q in ("latency-min", "latency-p999"))
        axes.plot(at, typical, marker=marker, color=f"C{number}", label=f"{_label(record)}, median")
        axes.fill_between(at, minimum, worst, color=f"C{number}", alpha=0.25, label="min to p99.9")
    axes.set(xlabel="frame size, B", ylabel="µs", ylim=(0, None), title="Latency at throughput, first bit to first bit")


def _distribution(axes: "Axes", records: Sequence[RunRecord]) -> None:
    """How many frames took longer than each delay, in the streams that latency was measured with: the tails count."""
    for number, record in enumerate(records):
        for style, (size, delay) in zip(_DASHES * len(record.trials), _streams(record), strict=False):
            total, slower = delay.counted, delay.counted
            at, share = [delay.min_s * 1e6], [1.0]
            for edge_s, frames in delay.distribution:
                slower -= frames
                at.append(min(edge_s, delay.max_s) * 1e6)
                share.append(max(slower, 0.5) / total)
            label = f"{_label(record)}, {size}"
            axes.step(at, share, where="post", linestyle=style, color=f"C{number}", label=label)
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
