"""`harvok udp`: sends numbered datagrams to and from a station, at a rate, in steps, or searching the highest."""

from dataclasses import dataclass
from pathlib import Path
from typing import Annotated

import typer

from harvok.cli.bundles import (
    FlowOptions,
    LabelOptions,
    RecordOptions,
    RepeatOptions,
    SentOptions,
    StationOptions,
    bundled,
    request_of,
)
from harvok.cli.measure import draw_last, leave_with_verdict, measure
from harvok.cli.options import (
    DAY_S,
    SOCKETS,
    WHAT,
    Picture,
    Rated,
    Station,
    check_picture,
    percent_option,
    rate_option,
    size,
    time_option,
)
from harvok.core.procedures.udp import AnyUdpTest, UdpLoadTest, UdpSearchTest, UdpServicesTest, UdpStepsTest
from harvok.core.trials.udp import Method, UdpTrial
from harvok.core.udp.services import ServiceSpec
from harvok.errors import UsageError

app = typer.Typer(add_completion=False)

_USUAL_FRAME_BYTES = 1518
_FINEST = 1e-4
_SMALLEST_PAYLOAD, _LARGEST_PAYLOAD = 18, 65_487


@dataclass(frozen=True, slots=True)
class LoadOptions:
    """How much is to be sent, one of several ways."""

    rate: Annotated[
        float | None,
        rate_option("Load in each direction, counted in Ethernet frames (L2); with --search the highest to try.", WHAT),
    ] = None
    steps: Annotated[
        str | None,
        typer.Option(
            rich_help_panel=WHAT,
            metavar="RATE,RATE,…",
            help="One trial at each of these loads, in this order; or a range FIRST..LAST/COUNT, downwards as well.",
        ),
    ] = None
    continuous: Annotated[
        bool,
        typer.Option(
            "--continuous",
            rich_help_panel=WHAT,
            help="Take all --steps in one trial without a pause: what queues up at one load is carried over to the "
            "next.",
        ),
    ] = False
    search: Annotated[
        bool, typer.Option("--search", rich_help_panel=WHAT, help="Search the highest load that arrives without loss.")
    ] = False
    services: Annotated[
        Path | None,
        typer.Option(
            rich_help_panel=WHAT,
            metavar="FILE",
            help="Step several services up, then run all at once (ITU-T Y.1564); the guide shows such a file.",
        ),
    ] = None
    resolution: Annotated[float, percent_option("Resolution of --search.", WHAT, default="1%")] = 0.01
    loss_tolerance: Annotated[float, percent_option("Loss at which --search still passes.", WHAT, default="0%")] = 0.0


@dataclass(frozen=True, slots=True)
class DatagramOptions:
    """What the datagrams are like, and how they are sent."""

    frame_size: Annotated[
        int | None,
        typer.Option(
            rich_help_panel=WHAT,
            min=64,
            max=65_535,
            show_default="1518",
            help="Ethernet frame in bytes, header and FCS included, as in RFC 2544.",
        ),
    ] = None
    payload: Annotated[
        int | None,
        typer.Option(
            rich_help_panel=WHAT,
            parser=size(_SMALLEST_PAYLOAD, _LARGEST_PAYLOAD),
            metavar="SIZE",
            help="UDP payload, instead of a frame size.",
        ),
    ] = None
    flows: Annotated[int, typer.Option(rich_help_panel=WHAT, min=1, max=64, help="Flows in each direction.")] = 1
    duration: Annotated[float, time_option(0.5, DAY_S, "Length of each trial.", WHAT, default="10s")] = 10.0
    method: Annotated[
        Method,
        typer.Option(
            rich_help_panel=SOCKETS,
            help="plain: a call for each datagram; segmented: batches that kernel or card cut; auto: as the load asks.",
        ),
    ] = "auto"
    group: Annotated[
        str | None,
        typer.Option(
            rich_help_panel=SOCKETS, metavar="ADDRESS", help="Send to this multicast group; the station joins it."
        ),
    ] = None
    hops: Annotated[
        int,
        typer.Option(rich_help_panel=SOCKETS, min=1, max=255, help="Multicast TTL: one more than routers to cross."),
    ] = 1


@app.command(
    epilog="Exit codes: 0 measured, or all services ACCEPT; 1 REJECT; 2 wrong usage; 3 RETEST; 4 could not measure."
)
@bundled
def udp(
    station: Station,
    load: LoadOptions,
    datagrams: DatagramOptions,
    flow_options: FlowOptions,
    reaching: StationOptions,
    sending: SentOptions,
    labelling: LabelOptions,
    repeating: RepeatOptions,
    keeping: RecordOptions,
    rated: Rated = None,
    plot: Picture = None,
) -> None:
    """Send numbered UDP datagrams to and from a station.

    Shows rates, loss and the length of its gaps, duplicates, reordering,
    jitter, delay variation and one-way delay. Datagrams that the receiving
    host itself dropped are counted apart from those lost on the path, and
    a load that this host could not send is reported as the tester's limit.
    """
    check_picture(plot)
    if plot is not None and load.steps is None:
        raise typer.BadParameter("loss and delay over load need --steps", param_hint="'--plot'")
    _check(load, datagrams, flow_options)
    test = _test(load, _pattern(datagrams, flow_options), _trial(datagrams, flow_options), flow_options)
    sent = sending.sent(reaching, repeating)
    request = request_of(reaching.settings(station, rated), test, keeping, labelling, repeating, sent)
    records = measure(request, keeping)
    draw_last(records, plot)
    leave_with_verdict(records)


def _check(load: LoadOptions, datagrams: DatagramOptions, flows: FlowOptions) -> None:
    """Raises BadParameter where options contradict each other."""
    if load.continuous and load.steps is None:
        raise typer.BadParameter("without a pause between what? Give --steps", param_hint="'--continuous'")
    if datagrams.frame_size is not None and datagrams.payload is not None:
        raise typer.BadParameter("give either a frame size or a payload", param_hint="'--payload'")
    if datagrams.group is not None and flows.direction != "send":
        raise typer.BadParameter("a station sends nothing to a group: use --direction send", param_hint="'--group'")
    if sum(asked is not None for asked in (load.steps, load.services)) + load.search > 1:
        raise typer.BadParameter("give one of --steps, --search and --services", param_hint="'--search'")
    if load.rate is None and load.steps is None and load.services is None:
        raise typer.BadParameter("say how much to send, such as 100M", param_hint="'--rate'")


def _trial(datagrams: DatagramOptions, flows: FlowOptions) -> UdpTrial:
    interval_s = min(flows.interval, datagrams.duration)
    return UdpTrial(
        (), (), datagrams.duration, interval_s, datagrams.method, flows.socket_buffer, datagrams.group, datagrams.hops
    )


def _pattern(datagrams: DatagramOptions, flows: FlowOptions) -> ServiceSpec:
    """One service whose rate is filled in."""
    frame_bytes = datagrams.frame_size
    if frame_bytes is None and datagrams.payload is None:
        frame_bytes = _USUAL_FRAME_BYTES
    return ServiceSpec(0.0, frame_bytes, datagrams.payload, flows=datagrams.flows, dscp=flows.dscp)


def _test(load: LoadOptions, pattern: ServiceSpec, trial: UdpTrial, flows: FlowOptions) -> AnyUdpTest:
    """The test that was asked for. Raises BadParameter, and ServicesFileError."""
    from dataclasses import replace

    from harvok.runner.services import read_services

    if load.services is not None:
        return UdpServicesTest(flows.direction, trial, read_services(load.services), trial.duration_s * 2)
    if load.steps is not None:
        rates = _rates(load.steps)
        services, shares = (replace(pattern, rate_bps=max(rates)),), tuple(rate / max(rates) for rate in rates)
        return UdpStepsTest(flows.direction, trial, services, shares, load.continuous)
    services = (replace(pattern, rate_bps=load.rate or 0.0),)
    if load.search:
        resolution = max(load.resolution, _FINEST)
        return UdpSearchTest(flows.direction, trial, services, resolution, load.loss_tolerance)
    return UdpLoadTest(flows.direction, trial, services)


def _rates(text: str) -> tuple[float, ...]:
    """Reads rates with commas between them, or a range. Raises BadParameter."""
    from harvok.core.sweeps.axes import UDP_AXES, parse_loads

    try:
        return parse_loads(text, UDP_AXES)
    except UsageError as error:
        raise typer.BadParameter(error.message, param_hint="'--steps'") from error
