"""The ceilings of a line rate as two tables."""

from rich.console import Console
from rich.text import Text

from harvok.cli.render.tables import plain_table
from harvok.core.ceilings import Ceilings
from harvok.core.units import counted, format_byte_rate, format_rate, format_speed


def show_ceilings(console: Console, found: Ceilings) -> None:
    """Frame rates with the rate at each layer, then TCP goodput."""
    tags = f", {counted(found.vlan_tags, 'VLAN tag')}" if found.vlan_tags else ""
    console.print(Text.assemble((f"Ceilings of {format_speed(found.line_rate_bps)}, each way", "bold"), tags))
    console.print()
    headings = ("frame size", "frames/s", "L1 line", "L2 frames", f"L3 IPv{found.ip_version} packets", "UDP goodput")
    frames = plain_table(numbers=headings)
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
    tcp = plain_table((f"TCP at MTU {found.mtu_bytes} B",), ("goodput", "as a file copy shows it"))
    for one in found.tcp:
        kind = "with timestamps (usual)" if one.timestamps else "without timestamps"
        rate = f"{one.goodput_bps / 1e6:.3f} Mb/s" if one.goodput_bps < 1e9 else f"{one.goodput_bps / 1e9:.6f} Gb/s"
        tcp.add_row(f"IPv{one.ip_version} {kind}", rate, format_byte_rate(one.goodput_bps))
    console.print(tcp)
