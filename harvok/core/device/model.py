"""A device that can be asked, as a model in virtual or real time: it counts exactly what it is given, and tells it with
the faults of real agents where they are ordered."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

from harvok.core.device.reading import ALWAYS_NARROW, COUNTS, DeviceFacts, DevicePort, DeviceReading, PortCounts


@dataclass(frozen=True, slots=True)
class AgentFaults:
    """What makes an agent harder to believe: its counters are read anew only every `refresh_s`; they have `bits`, 32 or
    64, and begin so far below their wrap (`wraps_after`); it starts anew `restart_at_s` after its first start."""

    refresh_s: float = 0.0
    bits: int = 64
    wraps_after: int | None = None
    restart_at_s: float | None = None


@dataclass(slots=True)
class ModelAgent:
    """Counters of the ports of a device, told with faults. Times are seconds since it was first started."""

    name: str
    ports: Sequence[str]
    speed_bps: float
    faults: AgentFaults = AgentFaults()
    cpu: float = 0.05
    _counts: dict[str, dict[str, int]] = field(default_factory=dict)
    _told: tuple[float, dict[str, PortCounts]] | None = None
    _restarted: bool = False

    def __post_init__(self) -> None:
        start = 2**self.faults.bits - self.faults.wraps_after if self.faults.wraps_after is not None else 0
        self._counts = {port: dict.fromkeys(COUNTS, start) for port in self.ports}

    def count(self, port: str, **changes: int) -> None:
        """Adds to the counters of a port, by the names that PortCounts gives them."""
        for name, change in changes.items():
            self._counts[port][name] += change

    def facts(self, at_s: float) -> DeviceFacts:
        """What it is."""
        ports = [
            DevicePort(number, name, up=True, speed_bps=self.speed_bps, duplex="full", mtu_bytes=1500)
            for number, name in enumerate(self.ports, 1)
        ]
        uptime_s = self._uptime_s(at_s)
        return DeviceFacts(
            "a modelled device of Harvok", self.name, "0.0", uptime_s, "1.0", ports, self.faults.bits == 64
        )

    def reading(self, at_s: float) -> DeviceReading:
        """What it answers at a moment."""
        self._restart_when_due(at_s)
        if self._told is None or at_s >= self._told[0] + self.faults.refresh_s:
            self._told = self._refreshed_s(at_s), {port: self._as_told(counts) for port, counts in self._counts.items()}
        return DeviceReading(round(at_s * 1e9), self._uptime_s(at_s), self._told[1], [self.cpu])

    def _refreshed_s(self, at_s: float) -> float:
        """When its counters were read last: at whole periods of its own."""
        every_s = self.faults.refresh_s
        return at_s // every_s * every_s if every_s else at_s

    def _restart_when_due(self, at_s: float) -> None:
        due_s = self.faults.restart_at_s
        if due_s is not None and at_s >= due_s and not self._restarted:
            self._restarted, self._told = True, None
            self._counts = {port: dict.fromkeys(COUNTS, 0) for port in self.ports}

    def _uptime_s(self, at_s: float) -> float:
        return at_s - (self.faults.restart_at_s or 0.0) if self._restarted else at_s

    def _as_told(self, counts: Mapping[str, int]) -> PortCounts:
        bits = {name: 32 if name in ALWAYS_NARROW else self.faults.bits for name in counts}
        return PortCounts(**{name: count % 2 ** bits[name] for name, count in counts.items()})
