"""What is known about the link under test before anything is sent: its speeds, and where they were read."""

from dataclasses import dataclass

from harvok.core.conditions import HostConditions


@dataclass(frozen=True, slots=True)
class PortSpeed:
    """The interface that one end really uses, and the speed it negotiated; None where it has no meaningful speed."""

    interface: str
    negotiated_bps: float | None
    loopback: bool = False


def port_speed(host: HostConditions | None) -> PortSpeed | None:
    """That of the interface that a host really uses; None where the system does not tell which."""
    if not host or not host.interface:
        return None
    port = host.interface
    return PortSpeed(port.name, port.negotiated_bps, loopback=port.kind == "loopback")


@dataclass(frozen=True, slots=True)
class Link:
    """Rated speed as the user gave it (None if not given), and both ends' ports as the route lookup found them."""

    rated_bps: float | None = None
    near: PortSpeed | None = None
    far: PortSpeed | None = None

    @property
    def negotiated_bps(self) -> float | None:
        """The lower of the negotiated speeds that are known; None when neither is."""
        known = [port.negotiated_bps for port in (self.near, self.far) if port and port.negotiated_bps]
        return min(known, default=None)

    @property
    def line_rate_bps(self) -> float | None:
        """What ceilings are computed from: the rated speed where given, else the negotiated one, else nothing."""
        return self.rated_bps or self.negotiated_bps
