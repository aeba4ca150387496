"""The frames that Harvok sends through a device, as bytes without FCS.

An Ethernet header, IPv4 or IPv6 with UDP where asked for, and a test header (big-endian) directly behind:

    stream 4 B     a number drawn for each trial and direction: what the receiver tells its own frames by
    slot   2 B     place in the sender's ring
    lap    4 B     how often the sender had gone round its ring; sequence number = lap × slots + slot
    stamp  8 B     wall clock of the sender in ns: odd, read by its kernel when the frame left; even, read when the
                   batch was handed over that the frame belongs to
    balance 2 B    IPv6 only: keeps the sum of lap, stamp and balance constant, so that the UDP checksum, which IPv6
                   demands (RFC 8200 §8.1), is right in every frame although it was computed once. IPv4 sends none

Behind the hardware addresses there may be tags: one of IEEE 802.1Q, or an outer one of IEEE 802.1ad and an inner one.
They come on top of the frame size. The rest is a word of four bytes again and again, so that a receiver can tell what
was altered on the way. IPv4 packets must not be fragmented. Slot and what stands before it never change once a ring is
filled; lap, stamp and balance are written as one piece. Test addresses are those of RFC 2544 App. C.2.2 (198.18.0.0/15)
and RFC 5180 §8 (2001:2::/48)."""

import ipaddress
import struct
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

from harvok.core.ethernet import ETHERNET_HEADER_BYTES, FCS_BYTES, IP_HEADER_BYTES, UDP_HEADER_BYTES, VLAN_TAG_BYTES

FrameIp = Literal[4, 6] | None

ETHERTYPE_OF: dict[FrameIp, int] = {4: 0x0800, 6: 0x86DD, None: 0x88B5}  # 0x88B5: IEEE 802 local experimental 1
_UDP = 17
_HOP_LIMIT = 64
STREAM_BYTES, SLOT_BYTES = 4, 2
_STREAM = struct.Struct(">IH")
_MARK = struct.Struct(">IQ")
LAP_AND_STAMP_BYTES = _MARK.size
EVEN = ~1
MAX_SLOTS = 1 << 16
FILL = 0xA5C3965A
"""The word behind the test header: as many ones as zeros, in no regular order."""
_DONT_FRAGMENT, MORE_FRAGMENTS = 0x4000, 0x2000  # RFC 791 §3.1
TAG, OUTER_TAG = 0x8100, 0x88A8  # IEEE 802.1Q, IEEE 802.1ad


@dataclass(frozen=True, slots=True)
class Ends:
    """Between which addresses one frame travels: hardware addresses as six bytes, IP addresses as text."""

    source_mac: bytes
    destination_mac: bytes
    source_ip: str = ""
    destination_ip: str = ""
    source_port: int = 49152
    destination_port: int = 9  # discard (RFC 863)


def ethertype_offset(tags: int) -> int:
    """Where the type of what a frame carries stands, behind so many tags."""
    return ETHERNET_HEADER_BYTES - 2 + VLAN_TAG_BYTES * tags


def fragment_offset(tags: int) -> int:
    """Where flags and offset of an IPv4 packet stand."""
    return ethertype_offset(tags) + 2 + 6


def udp6_checksum_offset(tags: int) -> int:
    """Where the UDP checksum of an IPv6 frame stands."""
    return ethertype_offset(tags) + 2 + IP_HEADER_BYTES[6] + 6


def header_offset(ip: FrameIp, tags: int = 0) -> int:
    """Where the test header begins, from the first byte of the frame."""
    return ethertype_offset(tags) + 2 + (IP_HEADER_BYTES[ip] + UDP_HEADER_BYTES if ip else 0)


def slot_offset(ip: FrameIp, tags: int = 0) -> int:
    """Where the slot's number stands."""
    return header_offset(ip, tags) + STREAM_BYTES


def mark_offset(ip: FrameIp, tags: int = 0) -> int:
    """Where lap, stamp and balance begin."""
    return header_offset(ip, tags) + STREAM_BYTES + SLOT_BYTES


def mark_bytes(ip: FrameIp) -> int:
    """The length of lap, stamp and balance together."""
    return _MARK.size + (2 if ip == 6 else 0)


def min_frame_bytes(ip: FrameIp) -> int:
    """The smallest frame size, FCS counted, that holds all headers: 64, or 86 with IPv6."""
    return max(mark_offset(ip) + mark_bytes(ip) + FCS_BYTES, 64)


def mark(ip: FrameIp, lap: int, stamp_ns: int) -> bytes:
    """Lap, stamp and balance of one batch."""
    text = _MARK.pack(lap, stamp_ns)
    return balanced(text) if ip == 6 else text


def balanced(text: bytes) -> bytes:
    """Lap and stamp with the balance behind them."""
    return text + (~internet_sum(text) & 0xFFFF).to_bytes(2, "big")


def build(
    frame_size: int, ip: FrameIp, ends: Ends, stream: int, slot: int, vlans: Sequence[int] = (), dscp: int = 0
) -> bytes:
    """A frame of `frame_size` bytes (FCS counted, not contained; tags not counted) with an empty mark."""
    test = _STREAM.pack(stream, slot) + mark(ip, 0, 0)
    room = frame_size - FCS_BYTES - header_offset(ip)
    payload = test + FILL.to_bytes(4, "big") * (room // 4)
    payload = payload[:room]
    head = ends.destination_mac + ends.source_mac + vlan_tags(vlans) + ETHERTYPE_OF[ip].to_bytes(2, "big")
    if ip is None:
        return head + payload
    packet = _ipv4(ends, payload, dscp) if ip == 4 else _ipv6(ends, payload, dscp)
    return head + packet


def vlan_tags(vlans: Sequence[int]) -> bytes:
    """The tags of a frame, which stand behind its hardware addresses."""
    kinds = (OUTER_TAG, TAG)[-len(vlans) :]
    return b"".join(struct.pack(">HH", kind, vlan) for kind, vlan in zip(kinds, vlans, strict=False))


def tagged(frame: bytes, tags: bytes) -> bytes:
    """A frame without tags, with these."""
    return frame[: ethertype_offset(0)] + tags + frame[ethertype_offset(0) :]


def _udp(ends: Ends, payload: bytes, checksum: int = 0) -> bytes:
    length = UDP_HEADER_BYTES + len(payload)
    return struct.pack(">HHHH", ends.source_port, ends.destination_port, length, checksum) + payload


def _ipv4(ends: Ends, payload: bytes, dscp: int) -> bytes:
    """RFC 791 §3.1; the UDP checksum is left out, as RFC 768 allows, and so is the number of what is never fragmented
    (RFC 6864 §4.1)."""
    udp = _udp(ends, payload)
    source, destination = (ipaddress.IPv4Address(a).packed for a in (ends.source_ip, ends.destination_ip))
    length = IP_HEADER_BYTES[4] + len(udp)
    head = struct.pack(">BBHHHBBH", 0x45, dscp << 2, length, 0, _DONT_FRAGMENT, _HOP_LIMIT, _UDP, 0)
    checksum = ~internet_sum(head + source + destination) & 0xFFFF
    return head[:10] + checksum.to_bytes(2, "big") + source + destination + udp


def _ipv6(ends: Ends, payload: bytes, dscp: int) -> bytes:
    """RFC 8200 §3 and §8.1."""
    source, destination = (ipaddress.IPv6Address(a).packed for a in (ends.source_ip, ends.destination_ip))
    length = UDP_HEADER_BYTES + len(payload)
    pseudo = source + destination + struct.pack(">IHBB", length, 0, 0, _UDP)
    checksum = ~internet_sum(pseudo + _udp(ends, payload)) & 0xFFFF or 0xFFFF
    head = struct.pack(">IHBB", 0x6000_0000 | dscp << 22, length, _UDP, _HOP_LIMIT)
    return head + source + destination + _udp(ends, payload, checksum)


def internet_sum(text: bytes) -> int:
    """The ones' complement sum of 16-bit words (RFC 1071)."""
    if len(text) % 2:
        text += b"\0"
    total: int = sum(struct.unpack(f">{len(text) // 2}H", text))
    while total > 0xFFFF:
        total = (total & 0xFFFF) + (total >> 16)
    return total
