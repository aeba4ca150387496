"""Linux's `struct tcp_info` (uapi/linux/tcp.h), bytes to TcpInfo. Older kernels return less: what is there is read."""

import struct

from harvok.core.trials.tcp import TcpInfo

TCP_INFO_BYTES = 280

_OPTIONS_OFFSET = 5
# field of TcpInfo -> (offset in bytes, struct format, factor)
_FIELDS: dict[str, tuple[int, str, int]] = {
    "mss_bytes": (16, "I", 1),
    "path_mtu_bytes": (60, "I", 1),
    "rtt_us": (68, "I", 1),
    "rtt_variation_us": (72, "I", 1),
    "cwnd_segments": (80, "I", 1),
    "retransmitted_segments": (100, "I", 1),
    "acked_bytes": (120, "Q", 1),
    "min_rtt_us": (148, "I", 1),
    "delivery_rate_bps": (160, "Q", 8),
    "busy_us": (168, "Q", 1),
    "window_limited_us": (176, "Q", 1),
    "buffer_limited_us": (184, "Q", 1),
    "sent_bytes": (200, "Q", 1),
    "retransmitted_bytes": (208, "Q", 1),
    "peer_window_bytes": (228, "I", 1),
}
SEGMENTS_INFO_BYTES = 144
"""As much of it as decode_segments reads."""
_SEGMENTS, _SEGMENTS_OFFSET = struct.Struct("=I32xII"), 100
_UNKNOWN_RTT = 0xFFFFFFFF  # the kernel's start value of min_rtt: no sample yet


def decode_tcp_info(raw: bytes) -> TcpInfo:
    """Reads what `getsockopt(TCP_INFO)` returned; a field past the end of `raw` stays None."""
    values: dict[str, int] = {}
    if len(raw) > _OPTIONS_OFFSET:
        values["options"] = raw[_OPTIONS_OFFSET]
    for name, (offset, form, factor) in _FIELDS.items():
        if offset + struct.calcsize(form) <= len(raw):
            values[name] = struct.unpack_from("=" + form, raw, offset)[0] * factor
    if values.get("min_rtt_us") == _UNKNOWN_RTT:
        del values["min_rtt_us"]
    return TcpInfo(**values)


def decode_segments(raw: bytes) -> tuple[int, int, int] | None:
    """Segments that were sent, received and sent again so far, and nothing else, for connections by the thousand; None
    where the kernel does not count them."""
    if len(raw) < SEGMENTS_INFO_BYTES:
        return None
    again, sent, received = _SEGMENTS.unpack_from(raw, _SEGMENTS_OFFSET)
    return sent, received, again
