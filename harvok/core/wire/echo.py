"""ICMP echo requests and replies (RFC 792, RFC 4443 §4), and the checksum that they need on IPv4 (RFC 1071)."""

import struct

from harvok.core.ethernet import IpVersion

_HEAD = struct.Struct("!BBHHH")
_REQUEST: dict[IpVersion, int] = {4: 8, 6: 128}
_REPLY: dict[IpVersion, int] = {4: 0, 6: 129}
_IPV4 = 0x45


def checksum(data: bytes) -> int:
    """The Internet checksum (RFC 1071)."""
    padded = data + b"\0" * (len(data) % 2)
    total: int = sum(struct.unpack(f"!{len(padded) // 2}H", padded))
    while total >> 16:
        total = (total & 0xFFFF) + (total >> 16)
    return ~total & 0xFFFF


def encode_request(version: IpVersion, identifier: int, number: int, payload: bytes) -> bytes:
    """An echo request. The kernel fills in IPv6's checksum, and the identifier of an unprivileged socket."""
    plain = _HEAD.pack(_REQUEST[version], 0, 0, identifier, number & 0xFFFF) + payload
    if version == 6:
        return plain
    return plain[:2] + checksum(plain).to_bytes(2) + plain[4:]


def decode_reply(version: IpVersion, raw: bytes) -> tuple[int, int, bytes] | None:
    """(identifier, number, payload) of an echo reply, without or with its IPv4 header; None for anything else."""
    if version == 4 and raw and raw[0] >> 4 == _IPV4 >> 4:
        raw = raw[(raw[0] & 0xF) * 4 :]
    if len(raw) < _HEAD.size:
        return None
    kind, code, _, identifier, number = _HEAD.unpack_from(raw)
    if kind != _REPLY[version] or code:
        return None
    return identifier, number, raw[_HEAD.size :]
