"""One run from the logbook, with its conditions and every interval."""

from collections.abc import Callable, Iterator

from rich.console import Console
from rich.table import Table
from rich.text import Text

from harvok.cli.render.delay import show_delay_run
from harvok.cli.render.emulator import show_emulator_run
from harvok.cli.render.frames import show_calibration, show_frame_run
from harvok.cli.render.link import show_link_run
from harvok.cli.render.live import rows_table
from harvok.cli.render.load import show_load_run
from harvok.cli.render.preflight import CheckView
from harvok.cli.render.rig import show_rig
from harvok.cli.render.tcp import show_run
from harvok.cli.render.udp import show_udp_run
from harvok.cli.render.udp_view import udp_rows_table
from harvok.cli.render.words import DASH, direction_words
from harvok.core.models.conditions import HostConditions
from harvok.core.models.run import AnyTest, PortRecord, RigRecord, RunRecord, TrialRecord
from harvok.core.procedures.calibrate import CalibrationTest
from harvok.core.procedures.delay import DelayTest
from harvok.core.procedures.emulator import EmulatorTest
from harvok.core.procedures.link import LinkTest
from harvok.core.procedures.load import LoadTest
from harvok.core.procedures.rfc2544 import FrameTest
from harvok.core.procedures.tcp import TcpTest
from harvok.core.procedures.udp import UdpTest
from harvok.core.tcp.rows import IntervalRow, RowJoiner
from harvok.core.trials.tcp import TcpInterval, TcpTrial, TcpTrialResult
from harvok.core.trials.udp import UdpInterval, UdpTrial, UdpTrialResult
from harvok.core.udp.rows import UdpRow, UdpRowJoiner
from harvok.core.units import format_size, format_speed

_SHOW: dict[type[AnyTest], Callable[[Console, RunRecord], None]] = {
    TcpTest: show_run,
    UdpTest: show_udp_run,
    DelayTest: show_delay_run,
    LinkTest: show_link_run,
    FrameTest: show_frame_run,
    LoadTest: show_load_run,
    EmulatorTest: show_emulator_run,
    CalibrationTest: show_calibration,
}


def show_of(test: AnyTest) -> Callable[[Console, RunRecord], None]:
    """How a run of a test is summed up."""
    return _SHOW[type(test)]


def show_record(console: Console, record: RunRecord) -> None:
    """One run: the result, then the conditions, then every interval."""
    _SHOW[type(record.test)](console, record)
    for notice in record.notices if not isinstance(record.test, (TcpTest, UdpTest)) else ():
        console.print(Text.assemble(("note ", "bold yellow"), notice), soft_wrap=True)
    console.print()
    if not isinstance(record.rig, (RigRecord, PortRecord)):
        show_rig(console, record.rig.file)
        console.print()
    console.print(_conditions(record))
    worth_saying = [check for check in record.preflight if check.outcome != "ok"]
    if worth_saying:
        console.print()
        view = CheckView(console)
        for check in worth_saying:
            view.show(check)
    for number, trial in enumerate(record.trials, 1):
        _show_rows(console, record, number, trial)


def _show_rows(console: Console, record: RunRecord, number: int, one: TrialRecord) -> None:
    """Every interval of a trial, where it has any."""
    trial = one.trial
    table: Table | None = None
    if isinstance(trial, TcpTrial) and (rows := _tcp_rows(record, one)):
        table = rows_table(rows)
    elif isinstance(trial, UdpTrial) and (datagrams := _udp_rows(one)):
        table = udp_rows_table(datagrams, trial)
    if table and isinstance(trial, (TcpTrial, UdpTrial)):
        about = f", {trial.about}" if isinstance(trial, UdpTrial) and trial.about else ""
        console.print()
        console.print(f"[bold]trial {number}[/]: {' and '.join(map(direction_words, trial.directions))}{about}")
        console.print(table)


def _conditions(record: RunRecord) -> Table:
    table = Table(box=None, padding=(0, 2, 0, 0), header_style="bold")
    table.add_column("")
    hosts = {"near end": record.near} | ({"far end": record.far} if record.far else {})
    for end, host in hosts.items():
        table.add_column(f"{end if record.far else 'computed on'}: {host.name}", overflow="fold")
    facts = [dict(_facts(host)) for host in hosts.values()]
    for key in dict.fromkeys(key for one in facts for key in one):
        table.add_row(key, *(one.get(key, DASH) for one in facts))
    table.add_row("taken", f"{record.started:%Y-%m-%d %H:%M:%S} UTC")
    if record.impairment:
        put = record.impairment
        at = f", at {' and '.join(put.ports)}" if put.ports else ""
        table.add_row("impairment", f"{put.impairment.name}, by the {put.carried_out_by}{at}")
    table.add_row("command", " ".join(record.command))
    table.add_row("series", record.series or DASH)
    for key, value in record.attributes.items():
        table.add_row(f"with {key}", value)
    if record.note:
        table.add_row("note", record.note)
    return table


def _facts(host: HostConditions) -> Iterator[tuple[str, str]]:
    yield "system", f"{host.system} {host.kernel}, Python {host.python}, Harvok {host.harvok}"
    yield "CPU", f"{host.cores} × {host.cpu_model or host.machine}"
    port = host.interface
    if port:
        speed = format_speed(port.negotiated_bps) if port.negotiated_bps else "no negotiated speed"
        yield "interface", f"{port.name} ({port.driver or port.kind}), {speed}, MTU {port.mtu_bytes} B"
        yield "offloads", ", ".join(name for name, on in port.offloads.items() if on) or DASH
    yield "address", host.local_address or DASH
    limits = host.socket_limits
    if limits.receive_max_bytes and limits.send_max_bytes:
        most = f"receive {format_size(limits.receive_max_bytes)}, send {format_size(limits.send_max_bytes)}"
        yield "largest socket buffers", most
    yield "congestion control", host.congestion_control or DASH
    synchronised = {None: "unknown", True: "kept in step with UTC", False: "not kept in step with UTC"}
    yield "clock", f"{host.clock.source or 'unknown'}, {synchronised[host.clock.synchronised]}"


def _udp_rows(one: TrialRecord) -> list[UdpRow]:
    """The intervals of a UDP trial, joined as they were while it ran."""
    joiner = UdpRowJoiner()
    halves = [interval for interval in one.intervals if isinstance(interval, UdpInterval)]
    for direction in one.result.directions if isinstance(one.result, UdpTrialResult) else ():
        halves += [*direction.sender_intervals, *direction.receiver_intervals]
    found = [row for half in halves if (row := joiner.add(half))]
    return sorted(found, key=lambda row: (row.index, row.direction != "send", row.service))


def _tcp_rows(record: RunRecord, trial: TrialRecord) -> list[IntervalRow]:
    """The intervals of a trial, joined as they were while it ran."""
    if not isinstance(record.rig, RigRecord):
        return []
    joiner = RowJoiner(record.link, 6 if ":" in record.rig.address else 4)
    halves = [interval for interval in trial.intervals if isinstance(interval, TcpInterval)]
    for direction in trial.result.directions if isinstance(trial.result, TcpTrialResult) else ():
        halves += [*direction.sender_intervals, *direction.receiver_intervals]
    found = (joiner.add(half) for half in sorted(halves, key=lambda half: half.index))
    return sorted((row for row in found if row), key=lambda row: (row.index, row.direction != "send"))
