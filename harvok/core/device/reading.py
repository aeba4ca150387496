"""What a device says: what it is, what it counted, and how it feels. Plain dataclasses: a worker process makes them."""

from dataclasses import asdict, dataclass, field, fields
from typing import Any


@dataclass(frozen=True, slots=True)
class DevicePort:
    """A port of the device: `index` is its ifIndex, `neighbour` what LLDP sees at the other end of its lead, and
    `neighbour_mac` that end's hardware address, where it says one."""

    index: int
    name: str
    alias: str = ""
    up: bool = False
    speed_bps: float | None = None
    duplex: str | None = None
    mtu_bytes: int | None = None
    hardware_address: str | None = None
    neighbour: str = ""
    neighbour_mac: str = ""


@dataclass(frozen=True, slots=True)
class DeviceFacts:
    """What a device is. `firmware` is what it says of that apart from its description; `wide` whether its counters
    have 64 bits."""

    description: str
    name: str
    object_id: str
    uptime_s: float
    firmware: str = ""
    ports: list[DevicePort] = field(default_factory=list)
    wide: bool = True

    def port(self, name: str) -> DevicePort | None:
        """By its name or its alias."""
        return next((port for port in self.ports if name in (port.name, port.alias)), None)


@dataclass(frozen=True, slots=True)
class PortCounts:
    """What a port counted so far; None for what the device does not tell.

    Frames are those of all kinds that were taken and given on (RFC 2863: unicast, multicast and broadcast packets).
    """

    octets_in: int | None = None
    frames_in: int | None = None
    errors_in: int | None = None
    discards_in: int | None = None
    fcs_errors: int | None = None
    octets_out: int | None = None
    frames_out: int | None = None
    errors_out: int | None = None
    discards_out: int | None = None


COUNTS = tuple(one.name for one in fields(PortCounts))
ALWAYS_NARROW = ("errors_in", "discards_in", "fcs_errors", "errors_out", "discards_out")
"""Counters of 32 bits in every agent (RFC 2863, RFC 3635)."""


@dataclass(frozen=True, slots=True)
class DeviceReading:
    """One answer: all counters at `at_ns` of the near end's monotonic clock, half way between question and answer.

    `ports` are counts by the port's name, `cpu` how busy each processor is (ratios), `memory` how much of it is used,
    `temperatures_c` what its sensors say.
    """

    at_ns: int
    uptime_s: float
    ports: dict[str, PortCounts]
    cpu: list[float] = field(default_factory=list)
    memory: float | None = None
    temperatures_c: list[float] = field(default_factory=list)
    within_ns: int = 0
    """How long the answer took: the counters are of a moment within that time."""


def reading_of(told: dict[str, Any]) -> DeviceReading:
    """A reading as a worker wrote it."""
    return DeviceReading(**(told | {"ports": {name: PortCounts(**counts) for name, counts in told["ports"].items()}}))


def facts_of(told: dict[str, Any]) -> DeviceFacts:
    """Facts as a worker wrote them."""
    return DeviceFacts(**(told | {"ports": [DevicePort(**port) for port in told["ports"]]}))


def told_of(what: DeviceReading | DeviceFacts) -> dict[str, Any]:
    """As a worker writes them."""
    return asdict(what)
