"""What two hosts make of what a test asks of them, said before anything is sent."""

from collections.abc import Iterator

from harvok.core.conditions import HostConditions
from harvok.core.ethernet import ETHERNET_HEADER_BYTES, FCS_BYTES
from harvok.core.units import format_size
from harvok.errors import UsageError

_ETHERNET_BYTES = ETHERNET_HEADER_BYTES + FCS_BYTES


def buffer_notices(asked_bytes: int | None, near: HostConditions, far: HostConditions | None) -> Iterator[str]:
    """Says when a kernel will not grant the socket buffer that was asked for."""
    for end, host in (("near", near), ("far", far)):
        limits = host.socket_limits if host else None
        known = (limits.receive_max_bytes, limits.send_max_bytes) if limits else ()
        capped = [limit for limit in known if limit and asked_bytes and limit < asked_bytes]
        if capped:
            yield (
                f"the {end} end allows socket buffers of {format_size(min(capped))} at most, not the "
                f"{format_size(asked_bytes or 0)} asked for: raise net.core.rmem_max and net.core.wmem_max there"
            )


def check_frame_fits(frame_bytes: int, near: HostConditions) -> None:
    """Datagrams are never fragmented, so one larger than this end's MTU would not leave. Raises UsageError."""
    mtu = near.interface.mtu_bytes if near.interface else None
    if mtu and frame_bytes - _ETHERNET_BYTES > mtu:
        raise UsageError(
            f"frames of {frame_bytes} B carry IP packets of {frame_bytes - _ETHERNET_BYTES} B, and the MTU here is "
            f"{mtu} B",
            f"Use a frame size of {mtu + _ETHERNET_BYTES} B at most, or raise the MTU at both ends.",
        )
