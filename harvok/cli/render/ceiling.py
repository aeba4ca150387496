"""The ceilings of a line rate as two tables."""

from rich.console import Console
from rich.table import Table

from harvok.core.ceilings import Ceilings
from harvok.core.units import format_byte_rate, format_rate, format_speed


def show_ceilings(console: Console, found: Ceilings) -> None:
    """Frame rates with the rate at each layer, then TCP goodput."""
    tags = f", {found.vlan_tags} VLAN tag{'s' if found.vlan_tags > 1 else ''}" if found.vlan_tags else ""
    console.print(f"[bold]Ceilings of {format_speed(found.line_rate_bps)}, each way[/]{tags}")
    console.print()
    frames = Table(box=None, padding=(0, 2, 0, 0), header_style="bold")
    headings = ("frame size", "frames/s", "L1 line", "L2 frames", f"L3 IPv{found.ip_version} packets", "UDP goodput")
    for heading in headings:
        frames.add_column(heading, justify="right")
    for row in found.frames:
        frames.add_row(
            f"{row.frame_size_bytes} B",
            f"{int(row.frame_rate_fps):,}".replace(",", " "),
            format_rate(row.l1_bps),
            format_rate(row.l2_bps),
            format_rate(row.l3_bps),
            format_rate(row.udp_goodput_bps),
        )
    console.print(frames)
    console.print()
    tcp = Table(box=None, padding=(0, 2, 0, 0), header_style="bold")
    tcp.add_column(f"TCP at MTU {found.mtu_bytes} B")
    tcp.add_column("goodput", justify="right")
    tcp.add_column("as a file copy shows it", justify="right")
    for one in found.tcp:
        kind = "with timestamps (usual)" if one.timestamps else "without timestamps"
        rate = f"{one.goodput_bps / 1e6:.3f} Mb/s" if one.goodput_bps < 1e9 else f"{one.goodput_bps / 1e9:.6f} Gb/s"
        tcp.add_row(f"IPv{one.ip_version} {kind}", rate, format_byte_rate(one.goodput_bps))
    console.print(tcp)
