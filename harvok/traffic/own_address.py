"""Datagram sockets of a host with several addresses: which one a datagram came to, and answers that leave from it.

Without this an answer leaves from the address of the route back, and who asked another one drops it as a stranger's.
"""

import socket
import struct
import sys

from harvok.zones import with_zone

IP_PKTINFO = 8  # uapi linux/in.h
_IPV6_RECVPKTINFO, _IPV6_PKTINFO = 49, 50  # uapi linux/in6.h

Control = list[tuple[int, int, bytes]]
"""Control data of a datagram, as recvmsg gives it and sendmsg takes it."""


def tell_own_address(sock: socket.socket) -> None:
    """Asks the kernel to tell which address each datagram came to."""
    if sys.platform != "linux":
        return
    if sock.family == socket.AF_INET6:
        sock.setsockopt(socket.IPPROTO_IPV6, _IPV6_RECVPKTINFO, 1)
    else:
        sock.setsockopt(socket.IPPROTO_IP, IP_PKTINFO, 1)


def own_address(control: Control) -> str:
    """Which of this host's addresses a datagram came to, with its zone where it needs one."""
    for level, kind, data in control:
        if (level, kind) == (socket.IPPROTO_IP, IP_PKTINFO):
            return socket.inet_ntop(socket.AF_INET, data[8:12])
        if (level, kind) == (socket.IPPROTO_IPV6, _IPV6_PKTINFO):
            zone = int.from_bytes(data[16:20], sys.byteorder)
            return with_zone((socket.inet_ntop(socket.AF_INET6, data[:16]), 0, 0, zone))
    return ""


def from_same_address(control: Control) -> Control:
    """Control data that makes an answer leave from the address that was asked."""
    for level, kind, data in control:
        if (level, kind) == (socket.IPPROTO_IP, IP_PKTINFO):
            return [(level, kind, struct.pack("=I4s4s", 0, data[8:12], bytes(4)))]
        if (level, kind) == (socket.IPPROTO_IPV6, _IPV6_PKTINFO):
            return [(level, kind, data[:20])]
    return []
