"""Services as they are asked for: a committed rate, and what is promised at it (ITU-T Y.1564 §6, §7)."""

from dataclasses import dataclass

from harvok.core.ethernet import IpVersion, frame_bytes_of, udp_payload_bytes
from harvok.core.trials.udp import UdpService


@dataclass(frozen=True, slots=True)
class ServiceLimits:
    """What a service promises; None promises nothing. Times are seconds, one way; `loss` is a ratio."""

    loss: float | None = None
    delay_s: float | None = None
    variation_s: float | None = None


@dataclass(frozen=True, slots=True)
class ServiceSpec:
    """A service as it is asked for: a rate of Ethernet frames (L2, FCS included), and frame or payload size."""

    rate_bps: float
    frame_bytes: int | None = None
    payload_bytes: int | None = None
    name: str = ""
    flows: int = 1
    dscp: int | None = None
    limits: ServiceLimits = ServiceLimits()

    def at(self, share: float, ip_version: IpVersion) -> UdpService:
        """The service at a share of its rate. Raises UsageError for a frame that cannot hold its headers."""
        payload = self.payload_bytes
        if payload is None:
            payload = udp_payload_bytes(self.frame_bytes or 1518, ip_version)
        load_fps = share * self.rate_bps / (8 * frame_bytes_of(payload, ip_version))
        return UdpService(load_fps, payload, self.name, self.flows, self.dscp)
