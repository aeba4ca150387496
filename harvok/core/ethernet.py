"""The arithmetic of Ethernet, IP and TCP: what a line of a given rate can carry at most, and at which layer.

Frame sizes count from destination address to FCS (RFC 2544 §9, §20; IEEE 802.3). L1 counts the whole line,
preamble and gap included; L2 the frame; L3 the IP packet; goodput the payload that an application receives.
"""

from dataclasses import dataclass
from typing import Literal

from harvok.errors import UsageError

IpVersion = Literal[4, 6]


def ip_version_of(address: str) -> IpVersion:
    """The version of an IP address as it is written."""
    return 6 if ":" in address else 4


PREAMBLE_AND_START_BYTES = 8  # IEEE 802.3 §3.1: 7 B preamble, 1 B start frame delimiter
INTER_FRAME_GAP_BYTES = 12  # IEEE 802.3 §4.4.2: 96 bit times
LINE_OVERHEAD_BYTES = PREAMBLE_AND_START_BYTES + INTER_FRAME_GAP_BYTES
ETHERNET_HEADER_BYTES = 14
FCS_BYTES = 4
VLAN_TAG_BYTES = 4  # IEEE 802.1Q
IP_HEADER_BYTES: dict[int, int] = {4: 20, 6: 40}  # RFC 791 §3.1, RFC 8200 §3
TCP_HEADER_BYTES = 20  # RFC 9293 §3.1
UDP_HEADER_BYTES = 8  # RFC 768
TCP_TIMESTAMPS_BYTES = 12  # RFC 7323 §3.2: 10 B, padded to 12 by two NOPs

SMALLEST_FRAME_BYTES = 64
RFC2544_FRAME_SIZES = (64, 128, 256, 512, 1024, 1280, 1518)  # RFC 2544 §9.1


def max_frame_rate_fps(line_rate_bps: float, frame_size_bytes: int) -> float:
    """The highest frame rate on a line, in frames/s (RFC 2544 §20). The published tables truncate it.

    `frame_size_bytes` includes VLAN tags where there are any. Raises UsageError for a frame under 64 bytes.
    """
    if frame_size_bytes < SMALLEST_FRAME_BYTES:
        raise UsageError(
            f"an Ethernet frame has at least {SMALLEST_FRAME_BYTES} bytes, not {frame_size_bytes}",
            hint="Count the frame from destination address to FCS: 64 to 1518 untagged.",
        )
    return line_rate_bps / (8 * (frame_size_bytes + LINE_OVERHEAD_BYTES))


@dataclass(frozen=True, slots=True)
class FrameCeiling:
    """What a line carries at most with frames of one size; rates in b/s at the named layer."""

    frame_size_bytes: int
    frame_rate_fps: float
    l1_bps: float
    l2_bps: float
    l3_bps: float
    udp_goodput_bps: float


def frame_ceiling(
    line_rate_bps: float, frame_size_bytes: int, ip_version: IpVersion = 4, vlan_tags: int = 0
) -> FrameCeiling:
    """The ceiling for one frame size at every layer. Raises UsageError when the frame cannot hold its headers."""
    rate_fps = max_frame_rate_fps(line_rate_bps, frame_size_bytes)
    packet_bytes = frame_size_bytes - ETHERNET_HEADER_BYTES - FCS_BYTES - vlan_tags * VLAN_TAG_BYTES
    payload_bytes = packet_bytes - IP_HEADER_BYTES[ip_version] - UDP_HEADER_BYTES
    if payload_bytes < 0:
        raise UsageError(
            f"a frame of {frame_size_bytes} B cannot hold {vlan_tags} VLAN tags and an IPv{ip_version} UDP header",
            hint=f"Use frames of at least {frame_size_bytes - payload_bytes} B.",
        )
    return FrameCeiling(
        frame_size_bytes=frame_size_bytes,
        frame_rate_fps=rate_fps,
        l1_bps=line_rate_bps,
        l2_bps=rate_fps * frame_size_bytes * 8,
        l3_bps=rate_fps * packet_bytes * 8,
        udp_goodput_bps=rate_fps * payload_bytes * 8,
    )


def frame_bytes_of(udp_payload_bytes: int, ip_version: IpVersion = 4) -> int:
    """The untagged Ethernet frame that a UDP datagram makes, FCS included; short ones are padded."""
    packet = IP_HEADER_BYTES[ip_version] + UDP_HEADER_BYTES + udp_payload_bytes
    return max(ETHERNET_HEADER_BYTES + packet + FCS_BYTES, SMALLEST_FRAME_BYTES)


def udp_payload_bytes(frame_bytes: int, ip_version: IpVersion = 4) -> int:
    """The UDP payload of an untagged Ethernet frame. Raises UsageError for a frame that cannot hold the headers."""
    headers = ETHERNET_HEADER_BYTES + IP_HEADER_BYTES[ip_version] + UDP_HEADER_BYTES + FCS_BYTES
    if frame_bytes < max(headers, SMALLEST_FRAME_BYTES):
        raise UsageError(
            f"a frame of {frame_bytes} B cannot hold an IPv{ip_version} UDP datagram",
            hint=f"Use frames of at least {max(headers, SMALLEST_FRAME_BYTES)} B.",
        )
    return frame_bytes - headers


def line_bytes(ip_packet_bytes: int, vlan_tags: int = 0) -> int:
    """How many bytes of the line an IP packet takes up, preamble and gap included; short frames are padded."""
    frame = ETHERNET_HEADER_BYTES + vlan_tags * VLAN_TAG_BYTES + ip_packet_bytes + FCS_BYTES
    return max(frame, SMALLEST_FRAME_BYTES) + LINE_OVERHEAD_BYTES


def tcp_goodput_ceiling_bps(
    line_rate_bps: float,
    mtu_bytes: int = 1500,
    ip_version: IpVersion = 4,
    tcp_options_bytes: int = TCP_TIMESTAMPS_BYTES,
    vlan_tags: int = 0,
) -> float:
    """The highest TCP goodput in b/s: line rate × payload / (MTU + 38), with full-sized segments.

    1 Gb/s at MTU 1500 gives 941.482 Mb/s on IPv4 with timestamps, 949.285 Mb/s without. Raises UsageError when
    the MTU does not even hold the headers.
    """
    payload_bytes = mtu_bytes - IP_HEADER_BYTES[ip_version] - TCP_HEADER_BYTES - tcp_options_bytes
    if payload_bytes <= 0:
        raise UsageError(
            f"an MTU of {mtu_bytes} B leaves no room for data behind the IPv{ip_version} and TCP headers",
            hint="Give the MTU in bytes: 1500 on plain Ethernet, 9000 with jumbo frames.",
        )
    return line_rate_bps * payload_bytes / line_bytes(mtu_bytes, vlan_tags)


def bandwidth_delay_product_bytes(rate_bps: float, rtt_s: float) -> float:
    """Bytes in flight that fill a path (RFC 6349 §3.2): bottleneck bandwidth × round-trip time."""
    return rate_bps * rtt_s / 8
