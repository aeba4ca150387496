"""The interfaces of a host: a row each, and below what a person should look at."""

from collections.abc import Mapping, Sequence

from rich.console import Console
from rich.text import Text

from harvok.cli.render.tables import plain_table
from harvok.cli.render.words import DASH, maybe
from harvok.core.units import format_speed
from harvok.core.wire.lldp import Neighbour
from harvok.host.ports import PortFacts, remarks_on


def show_ports(console: Console, ports: Sequence[PortFacts], heard: Mapping[str, Neighbour] | None = None) -> None:
    """One table, then the remarks."""
    table = plain_table()
    for heading in ("port", "state", "speed", "of", "MTU", "driver", "slot", "addresses"):
        table.add_column(heading)
    for port in ports:
        slot = f"PCIe {port.slot.transfers_gts:g} GT/s × {port.slot.lanes}" if port.slot else DASH
        duplex = f" {port.duplex}" if port.duplex == "half" else ""
        table.add_row(
            port.name,
            port.state,
            f"{maybe(port.negotiated_bps, format_speed)}{duplex}",
            maybe(port.highest_bps, format_speed),
            maybe(port.mtu_bytes, str),
            port.driver or port.kind,
            slot,
            ", ".join(port.addresses) or DASH,
        )
    console.print(table)
    for name, neighbour in (heard or {}).items():
        console.print(Text.assemble(("neighbour ", "bold"), f"of {name}: {neighbour.words}"), soft_wrap=True)
    for port in ports:
        for remark in remarks_on(port):
            console.print(Text.assemble(("look at ", "bold"), f"{port.name}: {remark}"), soft_wrap=True)
