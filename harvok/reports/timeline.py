"""Draws everything that was seen of a trial over one axis of time; or writes it as a table."""

import csv
from pathlib import Path
from typing import TYPE_CHECKING, TextIO

from harvok.core.labels import label_text
from harvok.core.models.run import RunRecord, TrialRecord
from harvok.core.timeline import Timeline, TimePanel, timeline_of
from harvok.errors import UsageError
from harvok.reports.curves import DPI, GREY, SIZE_INCHES

if TYPE_CHECKING:
    from matplotlib.axes import Axes

_MAX_PANELS = 6
_HEADER = ("run", "trial", "at_s", "source", "quantity", "labels", "value")
_MAX_WORDS = 40


def timeline_trials(record: RunRecord) -> list[tuple[int, TrialRecord, Timeline]]:
    """The trials of a run that have anything to show, with their numbers from 1."""
    lines = [(number, trial, timeline_of(trial.samples, trial.events)) for number, trial in enumerate(record.trials, 1)]
    return [(number, trial, line) for number, trial, line in lines if line.panels]


def draw_timeline(record: RunRecord, path: Path, number: int | None = None) -> None:
    """Writes a PNG or SVG of a trial, by its number, else of the one in which the most happened, or the last. Raises
    UsageError where there is nothing to draw."""
    found = [one for one in timeline_trials(record) if number in (None, one[0])]
    if not found:
        raise UsageError(
            f"run {record.id} has nothing to draw over time", "Take a run that was measured, not modelled."
        )
    at, trial, line = max(found, key=lambda one: (len(one[2].marks), one[0]))
    about = getattr(trial.trial, "about", "") or record.test.title
    draw(line, f"{record.series or record.between}: {about}, trial {at} of {len(record.trials)}", path)


def draw(line: Timeline, title: str, path: Path) -> None:
    """Writes a PNG or SVG of a timeline."""
    import matplotlib

    matplotlib.use("Agg")
    from matplotlib import pyplot

    panels = line.panels[:_MAX_PANELS]
    figure, places = pyplot.subplots(
        len(panels), 1, figsize=SIZE_INCHES, squeeze=False, sharex=True, layout="constrained"
    )
    for place, (panel, axes) in enumerate(zip(panels, places[:, 0], strict=True)):
        _draw_panel(axes, panel)
        for at_s, words in line.marks:
            axes.axvline(at_s, color=GREY, linewidth=0.9, linestyle="--")
            if place == 0:
                short = words if len(words) <= _MAX_WORDS else f"{words[: _MAX_WORDS - 1]}…"
                axes.annotate(short, (at_s, 1.0), xycoords=("data", "axes fraction"), xytext=(3, 3),
                              textcoords="offset points", fontsize="x-small", color=GREY, rotation=12)  # fmt: skip
    places[-1, 0].set_xlabel("s after the first traffic")
    figure.suptitle(title)
    figure.savefig(path, dpi=DPI)
    pyplot.close(figure)


def _draw_panel(axes: "Axes", panel: TimePanel) -> None:
    for number, curve in enumerate(panel.curves):
        times, values = [at_s for at_s, _ in curve.points], [value for _, value in curve.points]
        style = "steps-pre" if curve.is_rate else "default"
        axes.plot(times, values, color=f"C{number}", label=curve.name, linewidth=1.3, drawstyle=style)
    top = max((value for curve in panel.curves for _, value in curve.points), default=1.0) or 1.0
    axes.set_ylim(-0.05 * top, 1.25 * top)
    axes.set_ylabel(panel.unit)
    axes.set_title(panel.title, loc="left", fontsize="small")
    axes.grid(axis="y", alpha=0.3)
    axes.legend(fontsize="x-small", loc="upper left", bbox_to_anchor=(1.005, 1.02), frameon=False)


def write_axis(record: RunRecord, out: TextIO) -> None:
    """Every sample and event of a run as CSV: one row each, values in the unit of their quantity."""
    rows = csv.writer(out, lineterminator="\n")
    rows.writerow(_HEADER)
    for number, trial in enumerate(record.trials, 1):
        for block in trial.samples:
            labels = label_text(block.labels)
            for quantity in block.values:
                for at_s, value in block.of(quantity):
                    rows.writerow((record.id, number, f"{at_s:.6f}", block.source, quantity, labels, f"{value:.9g}"))
        for event in trial.events:
            labels = label_text(dict(event.labels))
            rows.writerow((record.id, number, f"{event.at_s:.6f}", event.source, f"event {event.name}", labels, ""))
