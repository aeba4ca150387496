"""Datagram sockets that tell when the kernel received what they got, and with which TTL or hop limit."""

import contextlib
import socket
import struct
import sys
from dataclasses import dataclass
from typing import Any

from harvok.clock import Clock
from harvok.traffic.own_address import Control, from_same_address

SO_TIMESTAMPNS = 35  # uapi asm-generic/socket.h
_IPV6_RECVHOPLIMIT, _IPV6_HOPLIMIT = 51, 52  # uapi linux/in6.h
_IP_RECVTTL = 12  # uapi linux/in.h
_CONTROL_BYTES = 128


@dataclass(frozen=True, slots=True)
class ReceivedDatagram:
    """A datagram as it came in. `hops_left` is its TTL or hop limit, 255 where the system does not tell; `answer_from`
    is the control data with which an answer leaves from the address that it came to."""

    data: bytes
    peer: Any
    at_ns: int
    hops_left: int
    answer_from: Control


def tell_times(sock: socket.socket) -> None:
    """Asks the kernel for stamps and TTLs, as far as it has them."""
    if sys.platform != "linux":
        return
    sock.setsockopt(socket.SOL_SOCKET, SO_TIMESTAMPNS, 1)
    with contextlib.suppress(OSError):
        if sock.family == socket.AF_INET6:
            sock.setsockopt(socket.IPPROTO_IPV6, _IPV6_RECVHOPLIMIT, 1)
        else:
            sock.setsockopt(socket.IPPROTO_IP, _IP_RECVTTL, 1)


def receive(sock: socket.socket, max_bytes: int, clock: Clock) -> ReceivedDatagram:
    """The next datagram, with the kernel's stamp where it tells one, else with the time of reading."""
    data, control, _, peer = sock.recvmsg(max_bytes, _CONTROL_BYTES)
    at_ns, hops_left = 0, 255
    for level, kind, value in control:
        if (level, kind) == (socket.SOL_SOCKET, SO_TIMESTAMPNS):
            seconds, ns = struct.unpack("qq", value)
            at_ns = seconds * 1_000_000_000 + ns
        elif (level, kind) in ((socket.IPPROTO_IP, socket.IP_TTL), (socket.IPPROTO_IPV6, _IPV6_HOPLIMIT)):
            hops_left = struct.unpack("i", value)[0]
    return ReceivedDatagram(data, peer, at_ns or clock.wall_ns(), hops_left, from_same_address(control))
