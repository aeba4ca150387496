"""Where a device keeps what we ask for: object identifiers of the standard MIBs, and what their values mean."""

from enum import IntEnum

ObjectId = tuple[int, ...]

_MIB_2: ObjectId = (1, 3, 6, 1, 2, 1)

SYS_DESCR, SYS_OBJECT_ID, SYS_UPTIME, SYS_NAME = ((*_MIB_2, 1, number, 0) for number in (1, 2, 3, 5))
"""SNMPv2-MIB (RFC 3418)."""


def _columns(table: ObjectId, *numbers: int) -> tuple[ObjectId, ...]:
    return tuple((*table, number) for number in numbers)


_IF_TABLE, _IF_X_TABLE = (*_MIB_2, 2, 2, 1), (*_MIB_2, 31, 1, 1, 1)
IF_DESCR, IF_MTU, IF_SPEED, IF_PHYS_ADDRESS, IF_OPER_STATUS = _columns(_IF_TABLE, 2, 4, 5, 6, 8)
IF_NAME, IF_HIGH_SPEED, IF_ALIAS = _columns(_IF_X_TABLE, 1, 15, 18)
"""IF-MIB (RFC 2863)."""
DUPLEX_STATUS = (*_MIB_2, 10, 7, 2, 1, 19)
"""EtherLike-MIB (RFC 3635): dot3StatsDuplexStatus."""

WIDE: dict[str, tuple[ObjectId, ...]] = {
    "octets_in": _columns(_IF_X_TABLE, 6),
    "frames_in": _columns(_IF_X_TABLE, 7, 8, 9),
    "octets_out": _columns(_IF_X_TABLE, 10),
    "frames_out": _columns(_IF_X_TABLE, 11, 12, 13),
}
"""Counters of 64 bits by what they count; of frames the unicast, multicast and broadcast ones together."""
NARROW: dict[str, tuple[ObjectId, ...]] = {
    "octets_in": _columns(_IF_TABLE, 10),
    "frames_in": _columns(_IF_TABLE, 11, 12),
    "octets_out": _columns(_IF_TABLE, 16),
    "frames_out": _columns(_IF_TABLE, 17, 18),
}
"""The same of 32 bits, for agents that have no others."""
ALWAYS: dict[str, tuple[ObjectId, ...]] = {
    "discards_in": _columns(_IF_TABLE, 13),
    "errors_in": _columns(_IF_TABLE, 14),
    "discards_out": _columns(_IF_TABLE, 19),
    "errors_out": _columns(_IF_TABLE, 20),
    "fcs_errors": ((*_MIB_2, 10, 7, 2, 1, 3),),
}
"""Of 32 bits in every agent."""

PROCESSOR_LOAD = (*_MIB_2, 25, 3, 3, 1, 2)
"""HOST-RESOURCES-MIB (RFC 2790): hrProcessorLoad, in percent of the last minute."""
_STORAGE = (*_MIB_2, 25, 2, 3, 1)
STORAGE_TYPE, STORAGE_SIZE, STORAGE_USED = _columns(_STORAGE, 2, 5, 6)
STORAGE_RAM = (*_MIB_2, 25, 2, 1, 2)

_SENSOR = (*_MIB_2, 99, 1, 1, 1)
SENSOR_TYPE, SENSOR_SCALE, SENSOR_PRECISION, SENSOR_VALUE = _columns(_SENSOR, 1, 2, 3, 4)
"""ENTITY-SENSOR-MIB (RFC 3433)."""
CELSIUS = 8
_UNITS_SCALE = 9  # RFC 3433 §3: units; each step a thousand

_ENTITY = (*_MIB_2, 47, 1, 1, 1, 1)
ENTITY_NAME, ENTITY_FIRMWARE, ENTITY_SOFTWARE = _columns(_ENTITY, 7, 9, 10)
"""ENTITY-MIB (RFC 6933): entPhysicalName, …FirmwareRev, …SoftwareRev."""

_LLDP = (1, 0, 8802, 1, 1, 2, 1)
LLDP_LOCAL_PORT_SUBTYPE, LLDP_LOCAL_PORT_ID, LLDP_LOCAL_PORT_DESCR = _columns((*_LLDP, 3, 7, 1), 2, 3, 4)
LLDP_REMOTE_PORT_SUBTYPE, LLDP_REMOTE_PORT_ID, LLDP_REMOTE_NAME = _columns((*_LLDP, 4, 1, 1), 6, 7, 9)
"""LLDP-MIB (IEEE 802.1AB): who is at the other end of each port."""
LLDP_BY_MAC = 3


class Duplex(IntEnum):
    """RFC 3635: dot3StatsDuplexStatus."""

    UNKNOWN = 1
    HALF = 2
    FULL = 3


OPER_UP = 1
"""RFC 2863: ifOperStatus."""
TICKS_PER_S = 100
"""RFC 2578 §7.1.8: TimeTicks."""


def sensor_value(value: int, scale: int, precision: int) -> float:
    """What a sensor shows, in its unit (RFC 3433 §3)."""
    return float(value * 1000.0 ** (scale - _UNITS_SCALE) / 10.0**precision)
