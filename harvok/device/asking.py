"""What is asked of a device: first what it is, then again and again what it counted."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field

from harvok.clock import SYSTEM, Clock
from harvok.core.device import mib
from harvok.core.device.reading import DeviceFacts, DevicePort, DeviceReading, PortCounts
from harvok.core.wire.ber import ObjectId, written
from harvok.core.wire.snmp import Missing, SnmpValue, number_of, text_of
from harvok.device.orders import SnmpAccess, WatchOrders
from harvok.device.session import CommunitySession, SnmpSession, TableRow, read_table
from harvok.errors import DeviceFileError

_MAX_WATCHED = 64
"""Ports that are watched where none are named: six requests."""
_TEXTS = (mib.IF_DESCR, mib.IF_NAME, mib.IF_ALIAS)
_PORT_COLUMNS = (
    *_TEXTS, mib.IF_MTU, mib.IF_SPEED, mib.IF_PHYS_ADDRESS, mib.IF_OPER_STATUS, mib.IF_HIGH_SPEED, mib.DUPLEX_STATUS,
)  # fmt: skip
_LLDP_REMOTE = (mib.LLDP_REMOTE_PORT_SUBTYPE, mib.LLDP_REMOTE_PORT_ID, mib.LLDP_REMOTE_NAME)
_LLDP_LOCAL = (mib.LLDP_LOCAL_PORT_SUBTYPE, mib.LLDP_LOCAL_PORT_ID, mib.LLDP_LOCAL_PORT_DESCR)
_DUPLEX: dict[int, str] = {mib.Duplex.HALF: "half", mib.Duplex.FULL: "full"}
_UNTOLD_SPEED = 2**32 - 1
"""RFC 2863: what ifSpeed says of a port that is too fast for it."""


def open_session(access: SnmpAccess, clock: Clock = SYSTEM) -> SnmpSession:
    """A session of the version that is asked for."""
    if not access.user:
        return CommunitySession(access, clock)
    from harvok.device.v3 import UserSession

    return UserSession(access)


def read_facts(session: SnmpSession) -> DeviceFacts:
    """What a device is, and all its ports. Raises DeviceSilentError, DeviceRefusedError."""
    description, object_id, uptime, name = session.get([mib.SYS_DESCR, mib.SYS_OBJECT_ID, mib.SYS_UPTIME, mib.SYS_NAME])
    rows = read_table(session, _PORT_COLUMNS)
    neighbours = dict(_neighbours(session, rows))
    wide = _is_wide(session, rows)
    return DeviceFacts(
        description=text_of(description),
        name=text_of(name),
        object_id=written(object_id) if isinstance(object_id, tuple) else "",
        uptime_s=(number_of(uptime) or 0) / mib.TICKS_PER_S,
        firmware=_firmware(session),
        ports=[_port(row, neighbours.get(row.index[-1], ("", ""))) for row in rows if row.index],
        wide=wide,
    )


def _is_wide(session: SnmpSession, rows: Sequence[TableRow]) -> bool:
    """Whether a port has counters of 64 bits."""
    if not rows:
        return False
    (octets,) = mib.WIDE["octets_in"]
    return not isinstance(session.get([(*octets, *rows[0].index)])[0], Missing)


def _port(row: TableRow, neighbour: tuple[str, str]) -> DevicePort:
    values = row.values
    megabits, bits = number_of(values.get(mib.IF_HIGH_SPEED)), number_of(values.get(mib.IF_SPEED))
    speed = megabits * 1e6 if megabits else float(bits) if bits and bits != _UNTOLD_SPEED else None
    address = values.get(mib.IF_PHYS_ADDRESS)
    descr, name, alias = (text_of(values.get(column)) for column in _TEXTS)
    return DevicePort(
        index=row.index[-1],
        name=name or descr or str(row.index[-1]),
        alias=alias,
        up=number_of(values.get(mib.IF_OPER_STATUS)) == mib.OPER_UP,
        speed_bps=speed,
        duplex=_DUPLEX.get(number_of(values.get(mib.DUPLEX_STATUS)) or 0),
        mtu_bytes=number_of(values.get(mib.IF_MTU)),
        hardware_address=_hardware_address(address),
        neighbour=neighbour[0],
        neighbour_mac=neighbour[1],
    )


def _hardware_address(value: SnmpValue) -> str | None:
    return value.hex(":") if isinstance(value, bytes) and len(value) == 6 else None


def _firmware(session: SnmpSession) -> str:
    """What the device says of its firmware and software, of the first part that says any (the chassis)."""
    for column in (mib.ENTITY_SOFTWARE, mib.ENTITY_FIRMWARE):
        for row in read_table(session, [column]):
            if text := text_of(row.values[column]):
                return text
    return ""


def _neighbours(session: SnmpSession, ports: Sequence[TableRow]) -> Iterator[tuple[int, tuple[str, str]]]:
    """By ifIndex, who LLDP sees at the other end, and the hardware address of his port. LLDP numbers ports in its own
    way: they are found by their names, or else have the same numbers (IEEE 802.1AB §11)."""
    remote = read_table(session, _LLDP_REMOTE)
    if not remote:
        return
    names = {
        text_of(row.values.get(column)): row.index[-1]
        for column in (mib.IF_ALIAS, mib.IF_DESCR, mib.IF_NAME)
        for row in ports
        if row.index
    }
    local = {row.index[-1]: row for row in read_table(session, _LLDP_LOCAL) if row.index}
    for row in remote:
        if len(row.index) != 3:
            continue
        number = row.index[1]
        said = local.get(number)
        texts = [text_of(said.values.get(column)) for column in _LLDP_LOCAL[1:]] if said else []
        index = next((names[text] for text in texts if text in names), number)
        port_id = row.values.get(mib.LLDP_REMOTE_PORT_ID)
        by_mac = number_of(row.values.get(mib.LLDP_REMOTE_PORT_SUBTYPE)) == mib.LLDP_BY_MAC
        mac = (_hardware_address(port_id) or "") if by_mac else ""
        yield (
            index,
            (" ".join(filter(None, (text_of(row.values.get(mib.LLDP_REMOTE_NAME)), mac or text_of(port_id)))), mac),
        )


def watched_ports(facts: DeviceFacts, names: Sequence[str]) -> list[DevicePort]:
    """The ports of these names, or where there are none all that are up. Raises DeviceFileError for a name that the
    device does not have."""
    if not names:
        return [port for port in facts.ports if port.up][:_MAX_WATCHED]
    found = [(name, facts.port(name)) for name in names]
    missing = [name for name, port in found if port is None]
    if missing:
        have = ", ".join(port.name for port in facts.ports[:24])
        raise DeviceFileError(f"the device has no port {missing[0]}", f"It has: {have}.")
    return list({port.index: port for _, port in found if port}.values())


@dataclass(frozen=True, slots=True)
class _Asked:
    """What one name of a request is for: a count of a port, of which `number` 0 must be there and others may, or
    something of the device."""

    what: str
    port: str = ""
    number: int = 0


class Poll:
    """The request that is made again and again. Built once, from what the device was found to have."""

    def __init__(self, session: SnmpSession, facts: DeviceFacts, orders: WatchOrders, clock: Clock = SYSTEM) -> None:
        self._session, self._clock = session, clock
        self.ports = watched_ports(facts, orders.ports)
        self._asked: list[tuple[ObjectId, _Asked]] = [(mib.SYS_UPTIME, _Asked("uptime"))]
        counters = (mib.WIDE if facts.wide else mib.NARROW) | mib.ALWAYS
        for port in self.ports:
            for what, columns in counters.items():
                self._asked += [
                    ((*column, port.index), _Asked(what, port.name, place)) for place, column in enumerate(columns)
                ]
        if orders.cpu:
            rows = read_table(session, [mib.PROCESSOR_LOAD])
            self._asked += [((*mib.PROCESSOR_LOAD, *row.index), _Asked("cpu")) for row in rows]
        if orders.memory:
            self._ask_for_memory()
        self._sensors: list[tuple[int, int]] = []
        if orders.temperature:
            self._ask_for_temperatures()
        self._names = [name for name, _ in self._asked]

    def _ask_for_memory(self) -> None:
        for row in read_table(self._session, [mib.STORAGE_TYPE]):
            if row.values[mib.STORAGE_TYPE] == mib.STORAGE_RAM:
                self._asked.append(((*mib.STORAGE_SIZE, *row.index), _Asked("memory-size")))
                self._asked.append(((*mib.STORAGE_USED, *row.index), _Asked("memory-used")))
                return

    def _ask_for_temperatures(self) -> None:
        columns = (mib.SENSOR_TYPE, mib.SENSOR_SCALE, mib.SENSOR_PRECISION)
        for row in read_table(self._session, columns):
            kind, scale, precision = (number_of(row.values.get(column)) for column in columns)
            if kind == mib.CELSIUS and scale is not None and precision is not None:
                self._asked.append(((*mib.SENSOR_VALUE, *row.index), _Asked("temperature", number=len(self._sensors))))
                self._sensors.append((scale, precision))

    def read(self) -> DeviceReading:
        """One question and its answer. Raises DeviceSilentError, DeviceRefusedError."""
        before_ns = self._clock.now_ns()
        values = self._session.get(self._names)
        after_ns = self._clock.now_ns()
        answer = _Answered({port.name: {} for port in self.ports})
        for (_, asked), value in zip(self._asked, values, strict=True):
            number = number_of(value)
            if number is not None:
                answer.take(asked, number, self._sensors)
        return answer.reading((before_ns + after_ns) // 2, after_ns - before_ns)


@dataclass(slots=True)
class _Answered:
    """Numbers of one answer, put together."""

    counts: dict[str, dict[str, int]]
    uptime_s: float = 0.0
    used: int | None = None
    size: int | None = None
    cpu: list[float] = field(default_factory=list)
    temperatures_c: list[float] = field(default_factory=list)

    def take(self, asked: _Asked, number: int, sensors: Sequence[tuple[int, int]]) -> None:
        match asked.what:
            case "uptime":
                self.uptime_s = number / mib.TICKS_PER_S
            case "cpu":
                self.cpu.append(number / 100)
            case "memory-size":
                self.size = number
            case "memory-used":
                self.used = number
            case "temperature":
                self.temperatures_c.append(mib.sensor_value(number, *sensors[asked.number]))
            case what:
                of_port = self.counts[asked.port]
                if asked.number == 0:
                    of_port[what] = number
                elif what in of_port:
                    of_port[what] += number

    def reading(self, at_ns: int, within_ns: int) -> DeviceReading:
        memory = self.used / self.size if self.used is not None and self.size else None
        ports = {name: PortCounts(**of_port) for name, of_port in self.counts.items()}
        return DeviceReading(at_ns, self.uptime_s, ports, self.cpu, memory, self.temperatures_c, within_ns)
