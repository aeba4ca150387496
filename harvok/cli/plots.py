"""Pictures that a command is asked for: refused before anything is measured where they could not be drawn."""

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from harvok.cli.station_options import KEEP
from harvok.errors import UsageError

if TYPE_CHECKING:
    from harvok.core.models.run import RunRecord

Plot = Annotated[
    Path | None, typer.Option(rich_help_panel=KEEP, metavar="FILE", help="Draw the curve there, as PNG or SVG.")
]


def check_plot(plot: Path | None) -> None:
    """Raises UsageError for a picture that could not be drawn."""
    if plot is not None and plot.suffix not in (".png", ".svg"):
        raise UsageError(f"{plot} is neither .png nor .svg", "Name the picture with one of these endings.")
    if plot is not None and not plot.absolute().parent.is_dir():
        raise UsageError(f"there is no folder {plot.parent}", "Make it first, or draw elsewhere.")


def draw_last_ramp(records: "Sequence[RunRecord]", plot: Path | None) -> None:
    """Draws what became of the load in the last of some runs, and says where; nothing where no picture is wanted."""
    if plot is None or not records:
        return
    from harvok.cli.render.console import stderr
    from harvok.reports.ramp import draw_ramp

    if draw_ramp(records[-1], plot):
        stderr().print(f"drawn in {plot}", soft_wrap=True, markup=False)
