"""The ceiling of one direction: what the arithmetic allows for this line rate and this very connection."""

from dataclasses import dataclass

from harvok.core.ethernet import (
    ETHERNET_HEADER_BYTES,
    FCS_BYTES,
    IP_HEADER_BYTES,
    TCP_HEADER_BYTES,
    TCP_TIMESTAMPS_BYTES,
    IpVersion,
    line_bytes,
)
from harvok.core.link import Link
from harvok.core.units import format_speed

_USUAL_MTU_BYTES = 1500


@dataclass(frozen=True, slots=True)
class Ceiling:
    """The highest goodput in b/s; `source` says where the line rate comes from, `assumed` what could not be read."""

    goodput_bps: float
    line_rate_bps: float
    packet_bytes: int
    segment_bytes: int
    ip_version: IpVersion
    source: str
    assumed: str = ""


@dataclass(frozen=True, slots=True)
class Segment:
    """How a connection cuts its data: payload bytes of a full segment and whether it carries timestamps.

    What is None was not told by the system; the usual is then assumed.
    """

    ip_version: IpVersion
    payload_bytes: int | None = None
    timestamps: bool | None = None


def ceiling_of(link: Link, segment: Segment) -> Ceiling | None:
    """The ceiling from the rated speed, else the lower negotiated one; None when no speed is known."""
    line_rate_bps = link.line_rate_bps
    if line_rate_bps is None:
        return None
    return ceiling_at(line_rate_bps, _source(link), segment)


def frame_bytes_of_segment(cut: Segment) -> int:
    """The frame of a full segment, from the Ethernet header to the FCS, with what is not told as usual."""
    segment, headers = _cut(cut)
    return segment + headers + ETHERNET_HEADER_BYTES + FCS_BYTES


def _cut(cut: Segment) -> tuple[int, int]:
    """Payload of a full segment, and its IP and TCP headers, in bytes."""
    options = 0 if cut.timestamps is False else TCP_TIMESTAMPS_BYTES
    headers = IP_HEADER_BYTES[cut.ip_version] + TCP_HEADER_BYTES + options
    return cut.payload_bytes or _USUAL_MTU_BYTES - headers, headers


def ceiling_at(line_rate_bps: float, source: str, cut: Segment) -> Ceiling:
    """The ceiling at a given line rate, with the segment size and TCP options that the connection really used."""
    segment, headers = _cut(cut)
    return Ceiling(
        goodput_bps=line_rate_bps * segment / line_bytes(segment + headers),
        line_rate_bps=line_rate_bps,
        packet_bytes=segment + headers,
        segment_bytes=segment,
        ip_version=cut.ip_version,
        source=source,
        assumed="" if cut.payload_bytes else f"MTU {_USUAL_MTU_BYTES} and TCP timestamps",
    )


def _source(link: Link) -> str:
    if link.rated_bps:
        return f"rated {format_speed(link.rated_bps)}"
    slowest = min(
        (port for port in (link.near, link.far) if port and port.negotiated_bps),
        key=lambda port: port.negotiated_bps or 0.0,
    )
    return f"{slowest.interface} negotiated {format_speed(slowest.negotiated_bps or 0.0)}"
