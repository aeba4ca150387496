"""SNMP version 2c (RFC 1901, RFC 3416): what a manager asks an agent, and what that answers."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from typing import Final

from harvok.core.wire.ber import (
    INTEGER,
    NULL,
    OCTETS,
    OID,
    SEQUENCE,
    BerReader,
    MalformedBerError,
    ObjectId,
    element,
    integer,
    object_id,
    read_integer,
    read_object_id,
    read_unsigned,
)

SNMP_PORT = 161
V2C = 1  # RFC 1901 §3
GET, GET_NEXT, RESPONSE, SET, GET_BULK = 0xA0, 0xA1, 0xA2, 0xA3, 0xA5  # RFC 3416 §3
IP_ADDRESS, COUNTER_32, GAUGE_32, TIME_TICKS, COUNTER_64 = 0x40, 0x41, 0x42, 0x43, 0x46  # RFC 2578 §7.1
_MISSING = {0x80: "no such object", 0x81: "no such instance", 0x82: "end of the view"}  # RFC 3416 §3
_UNSIGNED = (COUNTER_32, GAUGE_32, TIME_TICKS, COUNTER_64)
TOO_BIG, NO_ERROR = 1, 0
ERRORS: Final = (
    "no error", "too big", "no such name", "bad value", "read only", "general error", "no access", "wrong type",
    "wrong length", "wrong encoding", "wrong value", "no creation", "inconsistent value", "resource unavailable",
    "commit failed", "undo failed", "authorisation error", "not writable", "inconsistent name",
)  # fmt: skip
"""RFC 3416 §3, by their number."""
MAX_BINDINGS = 4096
_REQUESTS = (GET, GET_NEXT, SET, GET_BULK)


@dataclass(frozen=True, slots=True)
class Missing:
    """There is nothing of that name."""

    why: str = "no such instance"


@dataclass(frozen=True, slots=True)
class Number:
    """A value of a type with a tag of its own: Counter32, Gauge32, TimeTicks, Counter64."""

    value: int
    tag: int


SnmpValue = int | bytes | ObjectId | Number | Missing | None


@dataclass(frozen=True, slots=True)
class Binding:
    """A name and its value; None in a request."""

    name: ObjectId
    value: SnmpValue = None


@dataclass(frozen=True, slots=True)
class SnmpMessage:
    """A request or an answer. In a GET_BULK `first` is how many names are asked for once, and `second` how often the
    others are; in an answer they are the error's number and which binding it is about (RFC 3416 §3)."""

    community: bytes
    kind: int
    request_id: int
    bindings: Sequence[Binding] = field(default_factory=list)
    first: int = 0
    second: int = 0


def make_message(message: SnmpMessage) -> bytes:
    """RFC 1901 §3, RFC 3416 §3."""
    bindings = b"".join(element(SEQUENCE, object_id(one.name) + _value(one.value)) for one in message.bindings)
    pdu = integer(message.request_id) + integer(message.first) + integer(message.second) + element(SEQUENCE, bindings)
    return element(SEQUENCE, integer(V2C) + element(OCTETS, message.community) + element(message.kind, pdu))


def _value(value: SnmpValue) -> bytes:
    match value:
        case None:
            return bytes((NULL, 0))
        case int():
            return integer(value)
        case bytes():
            return element(OCTETS, value)
        case Number():
            return integer(value.value, value.tag)
        case Missing():
            return bytes((next(tag for tag, why in _MISSING.items() if why == value.why), 0))
        case _:
            return object_id(value)


def read_message(data: bytes) -> SnmpMessage:
    """Raises MalformedBerError for what is no message of this version, whole and alone."""
    outside = BerReader(data)
    _, message = outside.inside(SEQUENCE)
    if message.integer() != V2C:
        raise MalformedBerError("a message of another version of SNMP")
    community = message.octets()
    kind, pdu = message.inside(RESPONSE, *_REQUESTS)
    request_id, first, second = pdu.integer(), pdu.integer(), pdu.integer()
    _, listed = pdu.inside(SEQUENCE)
    bindings = list(_bindings(listed))
    if outside.has_more or message.has_more or pdu.has_more:
        raise MalformedBerError("more than one message in one datagram")
    return SnmpMessage(community, kind, request_id, bindings, first, second)


def _bindings(listed: BerReader) -> Iterator[Binding]:
    number = 0
    while listed.has_more:
        number += 1
        if number > MAX_BINDINGS:
            raise MalformedBerError(f"more than {MAX_BINDINGS} values")
        _, binding = listed.inside(SEQUENCE)
        yield Binding(binding.object_id(), _read_value(*binding.next()))
        if binding.has_more:
            raise MalformedBerError("more than a name and its value")


def _read_value(tag: int, content: bytes) -> SnmpValue:
    if tag in _UNSIGNED:
        return Number(read_unsigned(content), tag)
    if tag == INTEGER:
        return read_integer(content)
    if tag in (OCTETS, IP_ADDRESS):
        return content
    if tag == OID:
        return read_object_id(content)
    if tag in _MISSING:
        return Missing(_MISSING[tag])
    if tag == NULL:
        return None
    return content  # an Opaque, or a type of later versions: nothing here asks for one


def number_of(value: SnmpValue) -> int | None:
    """The number that a value is; None for one that is none."""
    if isinstance(value, Number):
        return value.value
    return value if isinstance(value, int) else None


def text_of(value: SnmpValue) -> str:
    """The text that a value is; empty for one that is none. Agents write what they like in it."""
    if not isinstance(value, bytes):
        return ""
    return value.decode("utf-8", errors="replace").strip("\x00 \r\n\t")
