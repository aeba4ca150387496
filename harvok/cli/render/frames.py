"""RFC 2544 results and calibrations as tables over the frame sizes."""

from collections.abc import Callable, Sequence

from rich.console import Console
from rich.padding import Padding
from rich.table import Table
from rich.text import Text

from harvok.cli.render.words import DASH, FORMATS
from harvok.core.figures import Figure, find
from harvok.core.models.run import RunRecord
from harvok.core.procedures.calibrate import CalibrationTest
from harvok.core.procedures.frames import OFFERED_TOLERANCE
from harvok.core.procedures.rfc2544 import FrameTest
from harvok.core.quantities import QUANTITIES
from harvok.core.units import format_duration, format_rate, format_share, format_span

_TABLES: tuple[tuple[str, tuple[tuple[str, str], ...]], ...] = (
    ("throughput", (
        ("throughput", "frames/s"), ("throughput-share", "of line rate"),
        ("throughput-l1", "on the line, L1"), ("throughput-l2", "in frames, L2"),
    )),
    ("latency", (
        ("latency-min", "least"), ("latency-median", "typical"), ("latency-p999", "99.9 %"),
        ("latency-max", "most"), ("latency-tagged-mean", "tagged mean"), ("latency-jitter", "variation"),
    )),
    ("faults", (
        ("burst-mean", "longest burst"), ("buffer-time", "buffer time"), ("recovery-time", "recovery"),
        ("reset-time", "reset"),
    )),
)  # fmt: skip
"""The tables, each with its quantities and their headings; a quantity that no frame size has is left out."""


def show_frame_run(console: Console, record: RunRecord) -> None:
    """Prints what one run comes to: a row for each frame size, then loss over load."""
    assert isinstance(record.test, FrameTest)
    show_fault(console, record)
    for direction in record.test.settings.directions:
        for title, columns in _TABLES:
            table = _results(record, direction, title, columns)
            if table:
                console.print()
                console.print(table)
    losses = [figure for figure in record.figures if figure.quantity == "frame-loss"]
    if losses:
        console.print()
        console.print(_losses(losses))
    console.print(Padding(Text(_remarks(record), style="dim"), 0, expand=False))
    console.print(Text(f"kept as run {record.id}", style="dim"))


def show_fault(console: Console, record: RunRecord) -> None:
    """Says why a run broke off, or why it is invalid."""
    if record.state in ("broken", "invalid"):
        why = record.fault.message if record.fault else "unknown reason"
        console.print(Text.assemble((f"{record.state.upper()} ", "bold red"), why), soft_wrap=True)


def show_calibration(console: Console, record: RunRecord) -> None:
    """Prints what the tester can do, a row for each frame size."""
    assert isinstance(record.test, CalibrationTest)
    show_fault(console, record)
    table = Table(box=None, padding=(0, 2, 0, 0), header_style="bold")
    table.add_column("the tester itself", min_width=16)
    for heading in ("frames/s", "of line rate", "load error", "least delay", "typical", "99.9 %"):
        table.add_column(heading, justify="right")
    columns = ("tester-limit", "tester-limit-share", "offered-error", "delay-floor-min", "delay-floor-median")
    for size in record.test.sizes:
        of_size = [f for f in record.figures if f.labels["frame-size"] == size.name]
        errors = [f.value for f in of_size if f.quantity == "offered-error"]
        cells = [_cell(q, find(of_size, q)) for q in (*columns, "delay-floor-p999")]
        cells[2] = _cell("offered-error", max(errors, default=None))
        table.add_row(f"{size.name} B", *cells)
    console.print()
    console.print(table)
    remark = (
        "highest load held within 0.5 % without loss over a lead alone; the worst load error at a tenth, half and nine "
        "tenths of it; delays at a tenth of it"
    )
    console.print(Padding(Text(remark, style="dim"), 0, expand=False))
    console.print(Text(f"kept as run {record.id}", style="dim"))


def _results(record: RunRecord, direction: str, title: str, columns: Sequence[tuple[str, str]]) -> Table | None:
    """One table of one direction: a row for each frame size; None when there is nothing to show."""
    assert isinstance(record.test, FrameTest)
    sizes = record.test.sizes
    found = {(q, size.name): _of(record.figures, q, size.name, direction) for q, _ in columns for size in sizes}
    shown = [(q, heading) for q, heading in columns if any(found[q, size.name] is not None for size in sizes)]
    if not shown:
        return None
    table = Table(box=None, padding=(0, 2, 0, 0), header_style="bold")
    table.add_column(f"{title}, {direction}", min_width=16)
    for _, heading in shown:
        table.add_column(heading, justify="right")
    extra = _EXTRA.get(title)
    heading, beside = extra(record, direction) if extra else ("", {})
    if beside:
        table.add_column(heading, justify="right")
    for size in sizes:
        name = f"{size.name} B" if size.name.isdigit() else size.name
        cells = [_cell(quantity, found[quantity, size.name]) for quantity, _ in shown]
        table.add_row(name, *cells, *([beside.get(size.name, DASH)] if beside else []))
    return table


def _limits(record: RunRecord, direction: str) -> tuple[str, dict[str, str]]:
    """What held each throughput: line rate, the device, or the tester."""
    assert isinstance(record.test, FrameTest)
    settings, found = record.test.settings, {}
    for figure in record.figures:
        if figure.quantity == "throughput-share" and figure.labels["direction"] == direction:
            at_line = figure.value >= 1 - max(settings.resolution, OFFERED_TOLERANCE)
            device = "line rate" if at_line else "the device"
            found[figure.labels["frame-size"]] = "the TESTER" if figure.mark else device
    return "limited by", found


def _testers_delay(record: RunRecord, _: str) -> tuple[str, dict[str, str]]:
    """The tester's own typical delay, which every latency contains."""
    assert isinstance(record.test, FrameTest)
    own = record.test.settings.tester_delay_s
    return "tester's own", {size: format_duration(delay_s) for size, delay_s in own.items()}


_EXTRA = {"throughput": _limits, "latency": _testers_delay}
"""The last column of a table, which comes from the settings and marks rather than from a figure."""


def _of(figures: Sequence[Figure], quantity: str, size: str, direction: str) -> float | None:
    """A figure of this direction, or one that is of the device as a whole."""
    found = find(figures, quantity, **{"frame-size": size, "direction": direction})
    if found is not None or quantity not in ("burst-mean", "buffer-time"):
        return found
    return find(figures, quantity, **{"frame-size": size})


def _cell(quantity: str, value: float | None) -> str:
    show: Callable[[float], str] = FORMATS[QUANTITIES[quantity].unit]
    if value is None:
        return DASH
    return format_rate(value) if quantity in ("throughput-l1", "throughput-l2") else show(value)


def _losses(losses: Sequence[Figure]) -> Table:
    """Loss over load: a row for each frame size and direction, a column for each load."""
    loads = list(dict.fromkeys(figure.labels["load"] for figure in losses))
    table = Table(box=None, padding=(0, 2, 0, 0), header_style="bold")
    table.add_column("loss at")
    for load in loads:
        table.add_column(load, justify="right")
    for size, direction in dict.fromkeys((f.labels["frame-size"], f.labels["direction"]) for f in losses):
        values = [find(losses, "frame-loss", **{"frame-size": size, "direction": direction, "load": x}) for x in loads]
        table.add_row(f"{size} {direction}", *(DASH if v is None else format_share(v) for v in values))
    return table


def _remarks(record: RunRecord) -> str:
    assert isinstance(record.test, FrameTest)
    settings, simulated = record.test.settings, record.rig.kind == "simulated"
    trials = sum(f.value for f in record.figures if f.quantity == "search-trials")
    time_s = sum(f.value for f in record.figures if f.quantity == "search-time")
    tolerance = f"loss tolerance {format_share(settings.loss_tolerance)}" if settings.loss_tolerance else "no loss"
    latency = "latency from first bit in to first bit out"
    if not simulated:
        latency = "latency from handing over to the kernel's stamp, the tester's own included"
    return (
        f"throughput with {tolerance}, to within {format_share(settings.resolution)} of line rate, "
        f"confirmed for {settings.full_s:g} s; its search took {trials:.0f} trials and {format_span(time_s)}"
        f"{' of virtual time' if simulated else ''}; {latency}"
        f"{f'; tester calibrated in run {record.calibration}' if record.calibration else ''}"
    )
