"""One run from the logbook, with its conditions and every interval."""

from collections.abc import Iterator

from rich.console import Console

from harvok.cli.render.preflight import CheckView
from harvok.cli.render.rig import show_rig
from harvok.cli.render.run_view import show_run
from harvok.cli.render.tables import PlainTable, plain_table
from harvok.cli.render.views import view_of
from harvok.cli.render.words import DASH
from harvok.clock import local_words
from harvok.core.conditions import HostConditions
from harvok.core.models.run import PortRecord, RigRecord, RunRecord
from harvok.core.units import format_size, format_speed


def show_record(console: Console, record: RunRecord) -> None:
    """One run: the result, then the conditions, then every interval."""
    show_run(console, record, view_of(record.test).show)
    console.print()
    if not isinstance(record.rig, (RigRecord, PortRecord)):
        show_rig(console, record.rig.file)
        console.print()
    console.print(_conditions(record))
    not_ok = [check for check in record.preflight if check.outcome != "ok"]
    if not_ok:
        console.print()
        view = CheckView(console)
        for check in not_ok:
            view.show(check)
    details = view_of(record.test).details
    if details:
        details(console, record)


def _conditions(record: RunRecord) -> PlainTable:
    table = plain_table(("",))
    hosts = {"near end": record.near} | ({"far end": record.far} if record.far else {})
    for end, host in hosts.items():
        table.add_column(f"{end if record.far else 'computed on'}: {host.name}")
    facts = [dict(_facts(host)) for host in hosts.values()]
    for key in dict.fromkeys(key for known in facts for key in known):
        table.add_row(key, *(known.get(key, DASH) for known in facts))
    table.add_row("taken", local_words(record.started, seconds=True))
    if record.impairment:
        impairment = record.impairment
        at = f", at {' and '.join(impairment.ports)}" if impairment.ports else ""
        table.add_row("impairment", f"{impairment.impairment.name}, by the {impairment.carried_out_by}{at}")
    if isinstance(record.rig, RigRecord) and record.rig.asked_by:
        table.add_row("asked for by", record.rig.asked_by)
    table.add_row("command", " ".join(record.command))
    table.add_row("series", record.series or DASH)
    for key, value in record.attributes.items():
        table.add_row(f"with {key}", value)
    if record.note:
        table.add_row("note", record.note)
    return table


def _facts(host: HostConditions) -> Iterator[tuple[str, str]]:
    if not host.harvok:  # a browser, which tells nothing else
        yield "system", host.system or DASH
        yield "CPU", f"{host.cores} cores"
        yield "address", host.local_address or DASH
        return
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
        maximum = f"receive {format_size(limits.receive_max_bytes)}, send {format_size(limits.send_max_bytes)}"
        yield "max socket buffers", maximum
    yield "congestion control", host.congestion_control or DASH
    synchronised = {None: "unknown", True: "synchronised to UTC", False: "not synchronised"}
    yield "clock", f"{host.clock.source or 'unknown'}, {synchronised[host.clock.synchronised]}"
