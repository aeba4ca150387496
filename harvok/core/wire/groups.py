"""What a host says when it joins or leaves a group: IGMP version 2 (RFC 2236) and MLD version 1 (RFC 2710), as frames.

Both are older than what hosts send today, are understood by every snooping switch, and say one thing in one frame.
"""

import ipaddress
import struct

from harvok.core.wire.frame import internet_sum

_JOIN4, _LEAVE4, _JOIN6, _LEAVE6 = 0x16, 0x17, 131, 132
_IGMP, _HOP_BY_HOP, _ICMP6 = 2, 0, 58
_ALERT4, _ALERT6 = bytes.fromhex("94040000"), bytes.fromhex("050200000100")  # RFC 2113, RFC 2711
_ALL_ROUTERS4, _ALL_ROUTERS6 = ipaddress.IPv4Address("224.0.0.2"), ipaddress.IPv6Address("ff02::2")


def join(group: str, own_mac: bytes, own_ip: str) -> bytes:
    """The frame with which a host says that it wants what is sent to a group."""
    if ":" in group:
        return _mld(_JOIN6, ipaddress.IPv6Address(group), ipaddress.IPv6Address(group), own_mac)
    return _igmp(_JOIN4, ipaddress.IPv4Address(group), ipaddress.IPv4Address(group), own_mac, own_ip)


def leave(group: str, own_mac: bytes, own_ip: str) -> bytes:
    """The frame with which it says that it no longer does."""
    if ":" in group:
        return _mld(_LEAVE6, ipaddress.IPv6Address(group), _ALL_ROUTERS6, own_mac)
    return _igmp(_LEAVE4, ipaddress.IPv4Address(group), _ALL_ROUTERS4, own_mac, own_ip)


def group_mac(group: str) -> bytes:
    """The hardware address of a group (RFC 1112 §6.4, RFC 2464 §7)."""
    address = ipaddress.ip_address(group)
    if address.version == 6:
        return b"\x33\x33" + address.packed[-4:]
    return bytes([0x01, 0x00, 0x5E, address.packed[1] & 0x7F]) + address.packed[2:]


def _igmp(kind: int, group: ipaddress.IPv4Address, to: ipaddress.IPv4Address, own_mac: bytes, own_ip: str) -> bytes:
    text = struct.pack(">BBH4s", kind, 0, 0, group.packed)
    text = text[:2] + (~internet_sum(text) & 0xFFFF).to_bytes(2, "big") + text[4:]
    source = ipaddress.IPv4Address(own_ip).packed
    head = struct.pack(">BBHHHBBH4s4s", 0x46, 0xC0, 24 + len(text), 0, 0, 1, _IGMP, 0, source, to.packed) + _ALERT4
    head = head[:10] + (~internet_sum(head) & 0xFFFF).to_bytes(2, "big") + head[12:]
    return (group_mac(str(to)) + own_mac + b"\x08\x00" + head + text).ljust(60, b"\0")


def _mld(kind: int, group: ipaddress.IPv6Address, to: ipaddress.IPv6Address, own_mac: bytes) -> bytes:
    source = link_local(own_mac).packed
    text = struct.pack(">BBHHH16s", kind, 0, 0, 0, 0, group.packed)
    pseudo = source + to.packed + struct.pack(">IxxxB", len(text), _ICMP6)
    text = text[:2] + (~internet_sum(pseudo + text) & 0xFFFF).to_bytes(2, "big") + text[4:]
    options = bytes([_ICMP6, 0]) + _ALERT6
    head = struct.pack(">IHBB", 0x6000_0000, len(options) + len(text), _HOP_BY_HOP, 1) + source + to.packed
    return group_mac(str(to)) + own_mac + b"\x86\xdd" + head + options + text


def link_local(mac: bytes) -> ipaddress.IPv6Address:
    """The link-local address that a host makes of its hardware address (RFC 4291 App. A)."""
    return ipaddress.IPv6Address(b"\xfe\x80" + bytes(6) + bytes([mac[0] ^ 2]) + mac[1:3] + b"\xff\xfe" + mac[3:])
