"""`harvok rfc2544`: the benchmarking tests of RFC 2544 on a rig."""

import contextlib
import sys
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Literal

import typer

from harvok.cli.options import JsonOption, LogbookOption, attributes, duration, percent, typed_command
from harvok.core.ends import Direction
from harvok.core.ethernet import RFC2544_FRAME_SIZES
from harvok.core.mixes import frame_size
from harvok.core.procedures.frames import FrameSettings, FrameSize
from harvok.core.procedures.latency import Form
from harvok.core.procedures.rfc2544 import TEST_NAMES, FrameTest, TestName
from harvok.core.wire.frame import min_frame_bytes
from harvok.errors import UsageError

if TYPE_CHECKING:
    from harvok.core.models.run import RunRecord
    from harvok.runner.frames import FrameRequest

app = typer.Typer(add_completion=False)

_DAY_S = 86400.0
DIRECTIONS: dict[str, tuple[Direction, ...]] = {
    "send": ("send",),
    "receive": ("receive",),
    "both": ("send", "receive"),
}
IP_VERSIONS: dict[str, Literal[4, 6] | None] = {"4": 4, "6": 6, "none": None}
WHAT, SEARCH, KEEP = "What to measure", "Trials and search", "Runs and their labels"

RigPath = Annotated[Path, typer.Argument(metavar="RIG", help="A rig file; `harvok rig new` writes one.")]
Tests = Annotated[
    list[str] | None,
    typer.Argument(metavar="[TEST]...", help=f"{', '.join(TEST_NAMES)}, or all.", show_default="throughput latency"),
]
Sizes = Annotated[
    list[str] | None,
    typer.Option(
        "--frame-size", metavar="SIZE", rich_help_panel=WHAT, show_default="RFC 2544's seven",
        help="Bytes with FCS, or a mix such as aaaaaaafffg (RFC 6985). Repeatable.",
    ),
]  # fmt: skip
DirectionOption = Annotated[
    Literal["send", "receive", "both"],
    typer.Option(rich_help_panel=WHAT, help="send: first port to second; both: at the same time."),
]
IpVersionOption = Annotated[
    Literal["4", "6", "none"], typer.Option(rich_help_panel=WHAT, help="IP version of the frames; none: bare Ethernet.")
]
Pairs = Annotated[
    int, typer.Option(min=1, max=65536, rich_help_panel=WHAT, help="Address pairs to spread the frames over.")
]
Burst = Annotated[
    int, typer.Option(min=1, max=1024, rich_help_panel=WHAT, help="Frames sent back to back (RFC 2544 §21).")
]
LatencyForm = Annotated[
    Form, typer.Option(rich_help_panel=WHAT, help="classic: 20 tagged frames (RFC 2544); modern: 500 (RFC 8219).")
]
TrialTime = Annotated[
    float,
    typer.Option(
        "--duration", parser=duration(1, _DAY_S), metavar="TIME", rich_help_panel=SEARCH,
        help="Length of a trial that counts.",
    ),
]  # fmt: skip
Resolution = Annotated[
    float,
    typer.Option(
        parser=percent, metavar="PERCENT", rich_help_panel=SEARCH, help="Of line rate: when a search is done."
    ),
]
SearchKind = Annotated[
    Literal["guided", "binary"],
    typer.Option(rich_help_panel=SEARCH, help="guided: short trials steer; binary: plain halving at full length."),
]
Pause = Annotated[
    float,
    typer.Option(
        parser=duration(0, 600), metavar="TIME", rich_help_panel=SEARCH,
        help="After a trial that counts, for frames in flight and the device to settle (RFC 2544 §23).",
    ),
]  # fmt: skip
Tolerance = Annotated[
    float,
    typer.Option(
        parser=percent, metavar="PERCENT", rich_help_panel=SEARCH,
        help="Loss that a trial may have and still pass; 0 is the RFC's throughput.",
    ),
]  # fmt: skip
Bursts = Annotated[int, typer.Option(min=1, max=1000, rich_help_panel=SEARCH, help="Repeats of back-to-back.")]
Repeat = Annotated[int, typer.Option(min=1, max=1000, rich_help_panel=KEEP, help="How many runs to take.")]
Series = Annotated[str | None, typer.Option(metavar="NAME", rich_help_panel=KEEP, help="The series of the runs.")]
With = Annotated[
    list[str] | None,
    typer.Option("--with", metavar="KEY=VALUE", rich_help_panel=KEEP, help="An attribute. Repeatable."),
]
Note = Annotated[str, typer.Option(show_default=False, rich_help_panel=KEEP, help="A remark, kept with the runs.")]
Wait = Annotated[
    float,
    typer.Option(
        parser=duration(0, _DAY_S),
        metavar="TIME",
        rich_help_panel=KEEP,
        help="How long to wait for a busy host.",
    ),
]
Plots = Annotated[
    Path | None, typer.Option(metavar="FOLDER", rich_help_panel=KEEP, help="Draw the results there, as PNG and SVG.")
]


@app.command(epilog="Exit codes: 0 measured, 2 wrong usage, 4 could not measure or broken off.")
def rfc2544(
    rig: RigPath,
    logbook: LogbookOption,
    tests: Tests = None,
    frame_size: Sizes = None,
    direction: DirectionOption = "send",
    ip_version: IpVersionOption = "4",
    address_pairs: Pairs = 1,
    burst: Burst = 1,
    latency_form: LatencyForm = "modern",
    trial_time: TrialTime = "60s",  # type: ignore[assignment]
    resolution: Resolution = "0.1",  # type: ignore[assignment]
    search: SearchKind = "guided",
    trial_pause: Pause = "7s",  # type: ignore[assignment]
    loss_tolerance: Tolerance = "0",  # type: ignore[assignment]
    burst_repeats: Bursts = 50,
    repeat: Repeat = 1,
    series: Series = None,
    with_: With = None,
    note: Note = "",
    plots: Plots = None,
    wait: Wait = "0s",  # type: ignore[assignment]
    json: JsonOption = False,
) -> None:
    """Benchmark a device between two ports: RFC 2544's tests.

    Throughput is measured for every frame size, since the other tests
    need it. Simulated rigs run in virtual time; ports need root, virtual
    rigs do not. Calibrate first: figures near the tester's own limit are
    marked as such, and get no verdict.
    """
    from harvok.rigs.files import read_rig
    from harvok.runner.frames import FrameRequest
    from harvok.runner.keeping import Label

    if not 0 < resolution <= 0.1:
        raise typer.BadParameter(
            "a search needs a resolution above 0, and of 10 % at most", param_hint="'--resolution'"
        )
    file = read_rig(rig)
    settings = FrameSettings(
        line_bps=file.rated,
        directions=DIRECTIONS[direction],
        ip_version=IP_VERSIONS[ip_version],
        address_pairs=address_pairs,
        burst_frames=burst,
        loss_tolerance=loss_tolerance,
        full_s=trial_time,
        short_s=min(max(trial_time / 60, 0.2), 2.0),
        resolution=resolution,
        guided=search == "guided",
        pause_s=trial_pause,
    )
    request = FrameRequest(
        rig=file,
        test=_test(tests, frame_size, settings, latency_form, burst_repeats),
        logbook=logbook,
        command=typed_command(sys.argv),
        label=Label(series, attributes(with_ or []), note),
        repeat=repeat,
        wait_s=wait,
    )
    measure(request, json, plots)


def _test(
    tests: list[str] | None, sizes: list[str] | None, settings: FrameSettings, form: Form, burst_repeats: int
) -> FrameTest:
    return FrameTest(
        tests=_names(tests or ["throughput", "latency"]),
        sizes=frame_sizes(sizes, settings.ip_version),
        settings=settings,
        latency_form=form,
        stream_s=2 * settings.full_s,
        burst_repeats=burst_repeats,
        overload_s=settings.full_s,
    )


def frame_sizes(asked: list[str] | None, ip_version: Literal[4, 6] | None) -> tuple[FrameSize, ...]:
    """What was asked for, or the RFC's seven; with IPv6 the smallest of those holds no test frame, and is larger."""
    least = min_frame_bytes(ip_version)
    return tuple(frame_size(text) for text in asked or [str(max(size, least)) for size in RFC2544_FRAME_SIZES])


def _names(asked: list[str]) -> tuple[TestName, ...]:
    """The tests that were asked for, in the RFC's order. Raises UsageError for one that there is not."""
    unknown = [name for name in asked if name not in (*TEST_NAMES, "all")]
    if unknown:
        raise UsageError(f"there is no test '{unknown[0]}'", f"Tests are {', '.join(TEST_NAMES)}, or all of them: all.")
    return tuple(name for name in TEST_NAMES if name in asked or "all" in asked)


def measure(request: "FrameRequest", json: bool, plots: Path | None) -> "list[RunRecord]":
    """Runs the request and shows it: progress on the way and tables at the end, or the records alone; returns them."""
    from harvok.cli.render.console import stderr, stdout
    from harvok.cli.render.frame_view import FramesView
    from harvok.cli.render.record import show_of
    from harvok.cli.render.records import RecordsOnly
    from harvok.cli.render.rig import what_is_sent
    from harvok.runner.frames import run_frames

    show = show_of(request.test)
    virtual_time = request.rig.kind == "simulated"
    view = RecordsOnly(stdout(), stderr()) if json else FramesView(stdout(), request.test, show, virtual_time)
    if not virtual_time:
        stderr().print(what_is_sent(request.rig, request.test), soft_wrap=True, markup=False, highlight=False)
    with contextlib.closing(view):
        run_frames(request, view, view.record)
    if plots:
        from harvok.reports.frames import draw

        drawn = draw(view.records, plots)
        stderr().print(f"drawn: {', '.join(str(path) for path in drawn)}", soft_wrap=True, markup=False)
    return view.records
