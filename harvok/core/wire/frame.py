"""The frames that Harvok sends through a device, as bytes without FCS.

An Ethernet header, IPv4 or IPv6 with UDP where asked for, and a test header (big-endian) directly behind:

    stream 4 B     a number drawn for each trial and direction: what the receiver tells its own frames by
    slot   2 B     place in the sender's ring
    lap    4 B     how often the sender had gone round its ring; sequence number = lap × slots + slot
    stamp  8 B     wall clock of the sender in ns, read when it handed over the batch that the frame belongs to
    balance 2 B    IPv6 only: keeps the sum of lap, stamp and balance constant, so that the UDP checksum, which IPv6
                   demands (RFC 8200 §8.1), is right in every frame although it was computed once. IPv4 sends none

The rest is a word of four bytes again and again, so that a receiver can tell what was altered on the way. IPv4 packets
must not be fragmented. Slot and what stands before it never change once a ring is filled; lap, stamp and balance are
written as one piece.
Test addresses are those of RFC 2544 App. C.2.2 (198.18.0.0/15) and RFC 5180 §8 (2001:2::/48).
"""

import ipaddress
import struct
from dataclasses import dataclass
from typing import Literal

from harvok.core.ethernet import ETHERNET_HEADER_BYTES, FCS_BYTES, IP_HEADER_BYTES, UDP_HEADER_BYTES

FrameIp = Literal[4, 6] | None

ETHERTYPE_OF: dict[FrameIp, int] = {4: 0x0800, 6: 0x86DD, None: 0x88B5}  # 0x88B5: IEEE 802 local experimental 1
_UDP = 17
_HOP_LIMIT = 64
STREAM_BYTES, SLOT_BYTES = 4, 2
_STREAM = struct.Struct(">IH")
_MARK = struct.Struct(">IQ")
MAX_SLOTS = 1 << 16
FILL = 0xA5C3965A
"""The word behind the test header: as many ones as zeros, in no regular order."""
_DONT_FRAGMENT, MORE_FRAGMENTS = 0x4000, 0x2000  # RFC 791 §3.1
FRAGMENT_AT = ETHERNET_HEADER_BYTES + 6
"""Where flags and offset of an IPv4 packet stand."""
UDP6_CHECKSUM_AT = ETHERNET_HEADER_BYTES + 40 + 6
"""Where the UDP checksum of an IPv6 frame stands."""


@dataclass(frozen=True, slots=True)
class Ends:
    """Between which addresses one frame travels: hardware addresses as six bytes, IP addresses as text."""

    source_mac: bytes
    destination_mac: bytes
    source_ip: str = ""
    destination_ip: str = ""
    source_port: int = 49152
    destination_port: int = 9  # discard (RFC 863)


def header_offset(ip: FrameIp) -> int:
    """Where the test header begins, from the first byte of the frame."""
    return ETHERNET_HEADER_BYTES + (IP_HEADER_BYTES[ip] + UDP_HEADER_BYTES if ip else 0)


def slot_offset(ip: FrameIp) -> int:
    """Where the slot's number stands."""
    return header_offset(ip) + STREAM_BYTES


def mark_offset(ip: FrameIp) -> int:
    """Where lap, stamp and balance begin."""
    return header_offset(ip) + STREAM_BYTES + SLOT_BYTES


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


def build(frame_size: int, ip: FrameIp, ends: Ends, stream: int, slot: int) -> bytes:
    """A frame of `frame_size` bytes (FCS counted, not contained) with an empty mark."""
    test = _STREAM.pack(stream, slot) + mark(ip, 0, 0)
    room = frame_size - FCS_BYTES - header_offset(ip)
    payload = test + FILL.to_bytes(4, "big") * (room // 4)
    payload = payload[:room]
    head = ends.destination_mac + ends.source_mac + ETHERTYPE_OF[ip].to_bytes(2, "big")
    if ip is None:
        return head + payload
    packet = _ipv4(ends, payload) if ip == 4 else _ipv6(ends, payload)
    return head + packet


def _udp(ends: Ends, payload: bytes, checksum: int = 0) -> bytes:
    length = UDP_HEADER_BYTES + len(payload)
    return struct.pack(">HHHH", ends.source_port, ends.destination_port, length, checksum) + payload


def _ipv4(ends: Ends, payload: bytes) -> bytes:
    """RFC 791 §3.1; the UDP checksum is left out, as RFC 768 allows, and so is the number of what is never fragmented
    (RFC 6864 §4.1)."""
    udp = _udp(ends, payload)
    source, destination = (ipaddress.IPv4Address(a).packed for a in (ends.source_ip, ends.destination_ip))
    head = struct.pack(">BBHHHBBH", 0x45, 0, IP_HEADER_BYTES[4] + len(udp), 0, _DONT_FRAGMENT, _HOP_LIMIT, _UDP, 0)
    checksum = ~internet_sum(head + source + destination) & 0xFFFF
    return head[:10] + checksum.to_bytes(2, "big") + source + destination + udp


def _ipv6(ends: Ends, payload: bytes) -> bytes:
    """RFC 8200 §3 and §8.1."""
    source, destination = (ipaddress.IPv6Address(a).packed for a in (ends.source_ip, ends.destination_ip))
    length = UDP_HEADER_BYTES + len(payload)
    pseudo = source + destination + struct.pack(">IHBB", length, 0, 0, _UDP)
    checksum = ~internet_sum(pseudo + _udp(ends, payload)) & 0xFFFF or 0xFFFF
    head = struct.pack(">IHBB", 0x6000_0000, length, _UDP, _HOP_LIMIT)
    return head + source + destination + _udp(ends, payload, checksum)


def internet_sum(text: bytes) -> int:
    """The ones' complement sum of 16-bit words (RFC 1071)."""
    if len(text) % 2:
        text += b"\0"
    total: int = sum(struct.unpack(f">{len(text) // 2}H", text))
    while total > 0xFFFF:
        total = (total & 0xFFFF) + (total >> 16)
    return total
