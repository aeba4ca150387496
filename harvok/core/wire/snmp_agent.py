"""The answering side of SNMPv2c (RFC 3416 §4.2): for the devices of our own that stand in for real ones."""

import bisect
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field

from harvok.core.device import mib
from harvok.core.device.reading import PortCounts
from harvok.core.wire.ber import MalformedBerError, ObjectId
from harvok.core.wire.snmp import (
    COUNTER_32,
    COUNTER_64,
    GAUGE_32,
    GET,
    GET_BULK,
    GET_NEXT,
    RESPONSE,
    SET,
    TIME_TICKS,
    TOO_BIG,
    Binding,
    Missing,
    Number,
    SnmpMessage,
    SnmpValue,
    make_message,
    read_message,
)

Objects = Mapping[ObjectId, SnmpValue]

MAX_ANSWER_BYTES = 1472
"""What fits into one frame of Ethernet over IPv4: longer ones would come in fragments."""
_MAX_REPETITIONS = 100
_NOT_WRITABLE = 17


def answer_to(request: bytes, community: str, objects: Objects) -> bytes | None:
    """What an agent with these objects answers; None where it is silent: to what is malformed, and to others."""
    try:
        asked = read_message(request)
    except MalformedBerError:
        return None
    if asked.community != community.encode() or asked.kind == RESPONSE:
        return None
    if asked.kind == SET:
        return make_message(_error(asked, _NOT_WRITABLE))
    names = sorted(objects)
    if asked.kind == GET:
        found = [Binding(one.name, objects.get(one.name, Missing())) for one in asked.bindings]
        return _within_a_frame(asked, found)
    once = asked.first if asked.kind == GET_BULK else len(asked.bindings)
    repetitions = min(max(asked.second, 0), _MAX_REPETITIONS) if asked.kind == GET_BULK else 0
    return _within_a_frame(
        asked, list(_following(asked.bindings, once, repetitions, names, objects)), asked.kind != GET_NEXT
    )


def _following(
    asked: Sequence[Binding], once: int, repetitions: int, names: Sequence[ObjectId], objects: Objects
) -> Iterator[Binding]:
    """RFC 3416 §4.2.3: what follows each of the first names once, and each of the others several times."""
    once = min(max(once, 0), len(asked))
    yield from (_next(one.name, names, objects) for one in asked[:once])
    at = [one.name for one in asked[once:]]
    for _ in range(repetitions):
        found = [_next(name, names, objects) for name in at]
        yield from found
        if all(isinstance(one.value, Missing) for one in found):
            return
        at = [one.name for one in found]


def _next(name: ObjectId, names: Sequence[ObjectId], objects: Objects) -> Binding:
    place = bisect.bisect_right(names, name)
    if place == len(names):
        return Binding(name, Missing("end of the view"))
    return Binding(names[place], objects[names[place]])


def _within_a_frame(asked: SnmpMessage, found: list[Binding], may_be_shorter: bool = False) -> bytes:
    """The answer, as long as it may be: what was asked for in bulk may be cut, anything else is refused."""
    while True:
        answer = make_message(SnmpMessage(asked.community, RESPONSE, asked.request_id, found))
        if len(answer) <= MAX_ANSWER_BYTES:
            return answer
        if not may_be_shorter or len(found) == 1:
            return make_message(_error(asked, TOO_BIG))
        found = found[: max(len(found) * MAX_ANSWER_BYTES // len(answer), 1)]


def _error(asked: SnmpMessage, number: int) -> SnmpMessage:
    return SnmpMessage(
        asked.community, RESPONSE, asked.request_id, asked.bindings if number != TOO_BIG else [], number, 1
    )


@dataclass(frozen=True, slots=True)
class AgentPort:
    """A port of a stand-in, and what it counted."""

    index: int
    name: str
    counts: PortCounts
    up: bool = True
    speed_bps: float = 10e9
    mtu_bytes: int = 1500
    hardware_address: bytes = b""
    neighbour: str = ""
    neighbour_mac: bytes = b""


@dataclass(frozen=True, slots=True)
class AgentState:
    """What a stand-in is at a moment."""

    name: str
    description: str
    uptime_s: float
    ports: Sequence[AgentPort]
    firmware: str = ""
    cpu: Sequence[float] = ()
    temperatures_c: Sequence[float] = field(default_factory=list)


def objects_of(state: AgentState) -> dict[ObjectId, SnmpValue]:
    """The state in the terms of the standard MIBs."""
    made: dict[ObjectId, SnmpValue] = {
        mib.SYS_DESCR: state.description.encode(),
        mib.SYS_OBJECT_ID: (0, 0),  # RFC 3418: of no maker
        mib.SYS_UPTIME: Number(round(state.uptime_s * mib.TICKS_PER_S) & 0xFFFF_FFFF, TIME_TICKS),
        mib.SYS_NAME: state.name.encode(),
    }
    if state.firmware:
        made[(*mib.ENTITY_SOFTWARE, 1)] = state.firmware.encode()
    for number, port in enumerate(state.ports, 1):
        made |= _port_objects(port, number)
    for number, share in enumerate(state.cpu, 1):
        made[(*mib.PROCESSOR_LOAD, number)] = round(100 * share)
    for number, celsius in enumerate(state.temperatures_c, 1):
        made[(*mib.SENSOR_TYPE, number)], made[(*mib.SENSOR_SCALE, number)] = mib.CELSIUS, 9
        made[(*mib.SENSOR_PRECISION, number)], made[(*mib.SENSOR_VALUE, number)] = 1, round(10 * celsius)
    return made


def _port_objects(port: AgentPort, number: int) -> dict[ObjectId, SnmpValue]:
    megabits = round(port.speed_bps / 1e6)
    columns: dict[ObjectId, SnmpValue] = {
        mib.IF_DESCR: port.name.encode(),
        mib.IF_NAME: port.name.encode(),
        mib.IF_MTU: port.mtu_bytes,
        mib.IF_SPEED: Number(min(round(port.speed_bps), 2**32 - 1), GAUGE_32),
        mib.IF_HIGH_SPEED: Number(megabits, GAUGE_32),
        mib.IF_PHYS_ADDRESS: port.hardware_address,
        mib.IF_OPER_STATUS: mib.OPER_UP if port.up else 2,
        mib.DUPLEX_STATUS: int(mib.Duplex.FULL),
    }
    for what, places in (mib.WIDE | mib.ALWAYS).items():
        count = getattr(port.counts, what)
        if count is None:
            continue
        tag = COUNTER_64 if what in mib.WIDE else COUNTER_32
        bits = 64 if what in mib.WIDE else 32
        for place, column in enumerate(places):  # all frames are unicast: the kernel tells no others apart
            columns[column] = Number((0 if place else count) % 2**bits, tag)
    made = {(*column, port.index): value for column, value in columns.items()}
    if port.neighbour_mac:
        made[(*mib.LLDP_LOCAL_PORT_SUBTYPE, number)] = 5
        made[(*mib.LLDP_LOCAL_PORT_ID, number)] = port.name.encode()
        made[(*mib.LLDP_REMOTE_PORT_SUBTYPE, 0, number, 1)] = mib.LLDP_BY_MAC
        made[(*mib.LLDP_REMOTE_PORT_ID, 0, number, 1)] = port.neighbour_mac
        made[(*mib.LLDP_REMOTE_NAME, 0, number, 1)] = port.neighbour.encode()
    return made
