"""All ceilings of a line rate at once, for `harvok ceiling`."""

from collections.abc import Sequence
from dataclasses import asdict, dataclass
from typing import Any

from harvok.core.ethernet import (
    RFC2544_FRAME_SIZES,
    TCP_TIMESTAMPS_BYTES,
    VLAN_TAG_BYTES,
    FrameCeiling,
    IpVersion,
    frame_ceiling,
    tcp_goodput_ceiling_bps,
)


@dataclass(frozen=True, slots=True)
class TcpCeiling:
    """TCP goodput in b/s for one IP version, with or without the timestamps option."""

    ip_version: IpVersion
    timestamps: bool
    goodput_bps: float


@dataclass(frozen=True, slots=True)
class Ceilings:
    """What a line carries at most, for several frame sizes and kinds of TCP connection."""

    line_rate_bps: float
    mtu_bytes: int
    vlan_tags: int
    ip_version: IpVersion
    frames: list[FrameCeiling]
    tcp: list[TcpCeiling]

    def as_json(self) -> dict[str, Any]:
        """Plain values; rates in b/s and frames/s."""
        return asdict(self)


def ceilings(
    line_rate_bps: float,
    mtu_bytes: int = 1500,
    frame_sizes: Sequence[int] | None = None,
    vlan_tags: int = 0,
    ip_version: IpVersion = 4,
) -> Ceilings:
    """Every ceiling of a line rate. Without `frame_sizes` RFC 2544's seven are used, each with its tags added."""
    sizes = frame_sizes or [size + vlan_tags * VLAN_TAG_BYTES for size in RFC2544_FRAME_SIZES]
    versions: tuple[IpVersion, ...] = (4, 6)
    return Ceilings(
        line_rate_bps=line_rate_bps,
        mtu_bytes=mtu_bytes,
        vlan_tags=vlan_tags,
        ip_version=ip_version,
        frames=[frame_ceiling(line_rate_bps, size, ip_version, vlan_tags) for size in sizes],
        tcp=[
            TcpCeiling(
                version,
                timestamps,
                tcp_goodput_ceiling_bps(
                    line_rate_bps, mtu_bytes, version, TCP_TIMESTAMPS_BYTES if timestamps else 0, vlan_tags
                ),
            )
            for version in versions
            for timestamps in (True, False)
        ],
    )
