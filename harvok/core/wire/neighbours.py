"""Who has an address: ARP (RFC 826) and IPv6 neighbour discovery (RFC 4861), as whole frames without FCS.

A tester beside a router answers for its own addresses, and asks for the router's.
"""

import ipaddress
import struct
from dataclasses import dataclass

from harvok.core.wire.frame import internet_sum

Address = ipaddress.IPv4Address | ipaddress.IPv6Address

_BROADCAST = b"\xff" * 6
_ARP, _IPV6 = 0x0806, 0x86DD
_ARP_HEAD = struct.pack(">HHBB", 1, 0x0800, 6, 4)
_ICMPV6 = 58
_SOLICIT, _ADVERTISE = 135, 136  # RFC 4861 §4.3, §4.4
_SOURCE_OPTION, _TARGET_OPTION = 1, 2
_NO_ROUTER_SOLICITED_OVERRIDE = 0x6000_0000
_MIN = 60


@dataclass(frozen=True, slots=True)
class Question:
    """Somebody asks who has `target`."""

    target: Address
    asker: Address
    asker_mac: bytes


@dataclass(frozen=True, slots=True)
class Answer:
    """Somebody says that `address` is at `mac`."""

    address: Address
    mac: bytes


def ask(target: Address, own: Address, own_mac: bytes) -> bytes:
    """The frame that asks who has `target`."""
    if isinstance(target, ipaddress.IPv4Address):
        return _arp(1, own_mac, own, bytes(6), target, _BROADCAST)
    group = ipaddress.IPv6Address(b"\xff\x02" + bytes(9) + b"\x01\xff" + target.packed[-3:])  # RFC 4291 §2.7.1
    body = struct.pack(">BBHI", _SOLICIT, 0, 0, 0) + target.packed + bytes([_SOURCE_OPTION, 1]) + own_mac
    return _discovery(body, own_mac, own, b"\x33\x33" + group.packed[-4:], group)


def answer(question: Question, own_mac: bytes) -> bytes:
    """The frame that says: the address asked for is at `own_mac`."""
    if isinstance(question.target, ipaddress.IPv4Address):
        return _arp(2, own_mac, question.target, question.asker_mac, question.asker, question.asker_mac)
    body = struct.pack(">BBHI", _ADVERTISE, 0, 0, _NO_ROUTER_SOLICITED_OVERRIDE)
    body += question.target.packed + bytes([_TARGET_OPTION, 1]) + own_mac
    return _discovery(body, own_mac, question.target, question.asker_mac, question.asker)


def read(frame: bytes) -> Question | Answer | None:
    """What a frame asks or says; None for anything else, however broken."""
    kind = int.from_bytes(frame[12:14], "big")
    if kind == _ARP and len(frame) >= 42 and frame[14:20] == _ARP_HEAD:
        return _read_arp(frame)
    if kind == _IPV6 and len(frame) >= 78 and frame[20] == _ICMPV6 and frame[21] == 255:
        return _read_discovery(frame)
    return None


def _arp(code: int, own_mac: bytes, own: Address, their_mac: bytes, their: Address, towards: bytes) -> bytes:
    body = _ARP_HEAD + struct.pack(">H", code) + own_mac + own.packed + their_mac + their.packed
    return (towards + own_mac + _ARP.to_bytes(2, "big") + body).ljust(_MIN, b"\0")


def _read_arp(frame: bytes) -> Question | Answer | None:
    code = int.from_bytes(frame[20:22], "big")
    mac, sender, target = frame[22:28], ipaddress.IPv4Address(frame[28:32]), ipaddress.IPv4Address(frame[38:42])
    if code == 1:
        return Question(target, sender, mac)
    return Answer(sender, mac) if code == 2 else None


def _discovery(body: bytes, own_mac: bytes, own: Address, their_mac: bytes, their: Address) -> bytes:
    pseudo = own.packed + their.packed + struct.pack(">IHBB", len(body), 0, 0, _ICMPV6)
    checksum = ~internet_sum(pseudo + body) & 0xFFFF
    body = body[:2] + checksum.to_bytes(2, "big") + body[4:]
    head = struct.pack(">IHBB", 0x6000_0000, len(body), _ICMPV6, 255) + own.packed + their.packed
    return their_mac + own_mac + _IPV6.to_bytes(2, "big") + head + body


def _read_discovery(frame: bytes) -> Question | Answer | None:
    asker, target = ipaddress.IPv6Address(frame[22:38]), ipaddress.IPv6Address(frame[62:78])
    option = frame[78:86]
    mac = option[2:8] if len(option) == 8 and option[1] == 1 else frame[6:12]
    if frame[54] == _SOLICIT:
        return Question(target, asker, mac)
    return Answer(target, mac) if frame[54] == _ADVERTISE else None
