"""One run from the logbook, with its conditions and every interval."""

from collections.abc import Iterator

from rich.console import Console
from rich.table import Table
from rich.text import Text

from harvok.cli.render.frames import show_calibration, show_frame_run
from harvok.cli.render.live import rows_table
from harvok.cli.render.rig import show_rig
from harvok.cli.render.tcp import show_run
from harvok.cli.render.words import DASH, direction_words
from harvok.core.models.conditions import HostConditions
from harvok.core.models.run import RigRecord, RunRecord, TrialRecord
from harvok.core.procedures.calibrate import CalibrationTest
from harvok.core.procedures.rfc2544 import FrameTest
from harvok.core.procedures.tcp import TcpTest
from harvok.core.tcp.rows import IntervalRow, RowJoiner
from harvok.core.trial import HalfInterval, TcpTrialResult
from harvok.core.units import format_size, format_speed


def show_record(console: Console, record: RunRecord) -> None:
    """One run: the result, then the conditions, then every interval."""
    if isinstance(record.test, FrameTest):
        show_frame_run(console, record)
    elif isinstance(record.test, CalibrationTest):
        show_calibration(console, record)
    else:
        show_run(console, record)
    for notice in record.notices if not isinstance(record.test, TcpTest) else ():
        console.print(Text.assemble(("note ", "bold yellow"), notice), soft_wrap=True)
    console.print()
    if not isinstance(record.rig, RigRecord):
        show_rig(console, record.rig.file)
        console.print()
    console.print(_conditions(record))
    for number, trial in enumerate(record.trials, 1):
        rows = _rows(record, trial)
        if rows:
            console.print()
            console.print(f"[bold]trial {number}[/]: {' and '.join(map(direction_words, trial.trial.directions))}")
            console.print(rows_table(rows))


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
    if limits.receive_most_bytes and limits.send_most_bytes:
        most = f"receive {format_size(limits.receive_most_bytes)}, send {format_size(limits.send_most_bytes)}"
        yield "largest socket buffers", most
    yield "congestion control", host.congestion_control or DASH
    synchronised = {None: "unknown", True: "kept in step with UTC", False: "not kept in step with UTC"}
    yield "clock", f"{host.clock.source or 'unknown'}, {synchronised[host.clock.synchronised]}"


def _rows(record: RunRecord, trial: TrialRecord) -> list[IntervalRow]:
    """The intervals of a trial, joined as they were while it ran."""
    if not isinstance(record.rig, RigRecord):
        return []
    joiner = RowJoiner(record.link, 6 if ":" in record.rig.address else 4)
    halves: list[HalfInterval] = list(trial.intervals)
    for direction in trial.result.directions if isinstance(trial.result, TcpTrialResult) else ():
        halves += [*direction.sender_intervals, *direction.receiver_intervals]
    found = (joiner.add(half) for half in sorted(halves, key=lambda half: half.index))
    return sorted((row for row in found if row), key=lambda row: (row.index, row.direction != "send"))
