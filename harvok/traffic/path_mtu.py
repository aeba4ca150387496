"""Finds the path MTU by probing (RFC 8899 in spirit): padded STAMP packets that may not be fragmented."""

import contextlib

from harvok.clock import Clock
from harvok.core.ethernet import IP_HEADER_BYTES, UDP_HEADER_BYTES, IpVersion, ip_version_of
from harvok.core.trials.delay import DelayTrial
from harvok.core.wire.stamp import AUTHENTICATED_BYTES, PLAIN_BYTES
from harvok.errors import NearEndError
from harvok.traffic.delay import DelaySession, StampProber
from harvok.traffic.sockets import Source, never_fragment

_MIN: dict[IpVersion, int] = {4: 576, 6: 1280}  # RFC 791 §3.1, RFC 8200 §5
_MAX_BYTES = 9216
_TRIES, _GAP_S, _WAIT_S = 3, 0.02, 0.25


def path_mtu_bytes(
    address: tuple[str, int], interface_mtu: int | None, source: Source, key: bytes | None, clock: Clock
) -> int | None:
    """The largest IP packet that a reflector got and gave back; None when it answers to none of any size."""
    version = ip_version_of(address[0])

    def comes_back(packet_bytes: int) -> bool:
        return _comes_back(address, version, packet_bytes, source, key, clock)

    high = min(interface_mtu or _MAX_BYTES, _MAX_BYTES)
    if comes_back(high):
        return high
    low = _MIN[version]
    if not comes_back(low):
        return None
    while high - low > 1:
        middle = (low + high) // 2
        low, high = (middle, high) if comes_back(middle) else (low, middle)
    return low


def _comes_back(
    address: tuple[str, int], version: IpVersion, packet_bytes: int, source: Source, key: bytes | None, clock: Clock
) -> bool:
    payload = packet_bytes - IP_HEADER_BYTES[version] - UDP_HEADER_BYTES
    if payload < (PLAIN_BYTES if key is None else AUTHENTICATED_BYTES):
        return False
    prober = StampProber(address, source, key, payload)
    with contextlib.closing(prober.sock):
        never_fragment(prober.sock, whatever_the_kernel_believes=True)
        session = DelaySession(prober, clock)
        try:
            got = session.run(DelayTrial(_TRIES, _GAP_S, payload, wait_s=_WAIT_S), lambda _: session.interrupt())
        except NearEndError:
            return False  # larger than this host's own interface takes
    return any(echo.two_way_s is not None for echo in got.echoes)
