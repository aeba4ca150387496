"""`harvok tcp`: measures TCP goodput between this host and a station."""

from dataclasses import dataclass
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
from harvok.cli.measure import measure
from harvok.cli.options import DAY_S, SOCKETS, WHAT, Rated, Station, rate_option, size, time_option
from harvok.core.procedures.tcp import TcpTest
from harvok.core.trials.tcp import Method, SocketOptions, tcp_trial

app = typer.Typer(add_completion=False)

_USUAL_DURATION_S = 10.0


@dataclass(frozen=True, slots=True)
class Transfer:
    """How much each flow sends, and how."""

    flows: Annotated[
        int, typer.Option(rich_help_panel=WHAT, min=1, max=64, help="TCP connections in each direction.")
    ] = 1
    duration: Annotated[
        float | None, time_option(0.5, DAY_S, "How long to send in each direction.", WHAT, default="10s")
    ] = None
    amount: Annotated[
        int | None,
        typer.Option(
            rich_help_panel=WHAT,
            parser=size(1000, 10**15),
            metavar="SIZE",
            help="Send this much in each direction instead of for a time.",
        ),
    ] = None
    settling: Annotated[
        float | None,
        time_option(0, DAY_S, "Start-up time to leave out of the settled figure.", WHAT, default="found automatically"),
    ] = None
    mss: Annotated[
        int | None, typer.Option(rich_help_panel=SOCKETS, min=88, max=65495, help="Largest TCP segment, in bytes.")
    ] = None
    congestion_control: Annotated[
        str | None,
        typer.Option(
            rich_help_panel=SOCKETS,
            metavar="NAME",
            help="Congestion control at both ends; net.ipv4.tcp_available_congestion_control lists them.",
        ),
    ] = None
    pacing: Annotated[float | None, rate_option("Pace each flow at this rate.", SOCKETS)] = None
    method: Annotated[
        Method,
        typer.Option(
            rich_help_panel=SOCKETS,
            help="Copy the bytes at both hosts, as most applications do, or spare the CPU: of what comes by zero-copy "
            "the receiver reads and compares 1.5 %. `auto` is zero-copy where the system has it.",
        ),
    ] = "auto"


@app.command(epilog="Exit codes: 0 measured, 2 wrong usage, 4 could not measure or broken off.")
@bundled
def tcp(
    station: Station,
    transfer: Transfer,
    flow_options: FlowOptions,
    reaching: StationOptions,
    sending: SentOptions,
    labelling: LabelOptions,
    repeating: RepeatOptions,
    keeping: RecordOptions,
    rated: Rated = None,
) -> None:
    """Measure TCP goodput to and from a station.

    Sends, then receives, unless --direction says otherwise.
    Every run goes into the logbook. The settled figure leaves out
    the start-up phase; the limiter says what kept it from being higher.
    """
    test = _test(transfer, flow_options)
    sent = sending.sent(reaching, repeating)
    measure(
        request_of(reaching.settings(station, rated), test, keeping, labelling, repeating, sent),
        keeping,
    )


def _test(transfer: Transfer, flows: FlowOptions) -> TcpTest:
    """The test that was asked for. Raises BadParameter where two options contradict each other."""
    duration_s, amount_bytes = transfer.duration, transfer.amount
    if duration_s is not None and amount_bytes is not None:
        raise typer.BadParameter("give either a duration or an amount", param_hint="'--amount'")
    if amount_bytes is None:
        duration_s = duration_s or _USUAL_DURATION_S
        if transfer.settling is not None and transfer.settling >= duration_s:
            raise typer.BadParameter("settling must be shorter than the duration", param_hint="'--settling'")
    options = SocketOptions(flows.socket_buffer, transfer.mss, transfer.congestion_control, flows.dscp, transfer.pacing)
    trial = tcp_trial(transfer.flows, duration_s, amount_bytes, flows.interval, options, transfer.method)
    return TcpTest(flows.direction, trial, transfer.settling)
