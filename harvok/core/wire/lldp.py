"""LLDP frames (IEEE 802.1AB §9): who is at the other end of a lead. Only the fields that name a neighbour are read."""

import ipaddress
from dataclasses import dataclass

LLDP_ETHERTYPE = 0x88CC
_HEADER_BYTES, _VLAN_TAG = 14, b"\x81\x00"
_CHASSIS, _PORT, _PORT_TEXT, _NAME = 1, 2, 4, 5
_HARDWARE_ADDRESS = {_CHASSIS: 4, _PORT: 3}
_NETWORK_ADDRESS = {_CHASSIS: 5, _PORT: 4}


@dataclass(frozen=True, slots=True)
class Neighbour:
    """What a neighbour says of itself; empty where it does not."""

    chassis: str
    port: str
    name: str = ""
    port_text: str = ""

    @property
    def words(self) -> str:
        """The neighbour for people: its name if it has one, and its port."""
        return f"{self.name or self.chassis}, {self.port_text or self.port}"


def decode_lldp(frame: bytes) -> Neighbour | None:
    """The neighbour that an Ethernet frame tells of; None for any other frame, or one that is cut short."""
    at = _HEADER_BYTES - 2
    if frame[at : at + 2] == _VLAN_TAG:
        at += 4
    if frame[at : at + 2] != LLDP_ETHERTYPE.to_bytes(2):
        return None
    at += 2
    clause: dict[int, str] = {}
    while at + 2 <= len(frame):
        head = int.from_bytes(frame[at : at + 2])
        kind, length = head >> 9, head & 0x1FF
        value, at = frame[at + 2 : at + 2 + length], at + 2 + length
        if kind == 0:
            break
        if len(value) < length:
            return None
        if kind in (_CHASSIS, _PORT) and value:
            clause[kind] = _identifier(kind, value)
        elif kind in (_PORT_TEXT, _NAME):
            clause[kind] = _text(value)
    if _CHASSIS not in clause or _PORT not in clause:
        return None
    return Neighbour(clause[_CHASSIS], clause[_PORT], clause.get(_NAME, ""), clause.get(_PORT_TEXT, ""))


def _identifier(kind: int, value: bytes) -> str:
    """A chassis or port identifier, by its subtype (IEEE 802.1AB §8.5.2, §8.5.3)."""
    subtype, rest = value[0], value[1:]
    if subtype == _HARDWARE_ADDRESS[kind]:
        return rest.hex(":")
    if subtype == _NETWORK_ADDRESS[kind] and len(rest) in (5, 17):
        return str(ipaddress.ip_address(rest[1:]))
    return _text(rest)


def _text(value: bytes) -> str:
    """What a stranger says of itself, with nothing in it that a terminal would act upon."""
    return "".join(letter if letter.isprintable() else "?" for letter in value.decode(errors="replace"))
