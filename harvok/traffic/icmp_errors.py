"""What routers and hosts on the way answer by ICMP to datagrams of ours: the error queue of a UDP socket (ip(7))."""

import contextlib
import socket
import struct
import sys

from harvok.zones import socket_address

_RECEIVE_ERRORS = {socket.AF_INET: (socket.IPPROTO_IP, 11), socket.AF_INET6: (socket.IPPROTO_IPV6, 25)}  # IP_RECVERR
_EXTENDED_ERROR = struct.Struct("=IBBBB")  # struct sock_extended_err: errno, origin, type, code, padding
_ORIGIN_ICMP, _ORIGIN_ICMP6 = 2, 3
_PROHIBITED = {
    (_ORIGIN_ICMP, 3): (
        9,
        10,
        13,
    ),  # destination unreachable: network, host, communication prohibited (RFC 1812 §5.2.7.1)
    (_ORIGIN_ICMP6, 1): (1, 5, 6),  # destination unreachable: prohibited, failed policy, rejected route (RFC 4443 §3.1)
}


def hear_errors(sock: socket.socket, wanted: bool = True) -> None:
    """Has the kernel queue what is answered, where it can; or no longer."""
    if sys.platform == "linux":
        sock.setsockopt(*_RECEIVE_ERRORS[socket.AddressFamily(sock.family)], int(wanted))


def take_prohibitions(sock: socket.socket) -> int:
    """How many of the answers that wait say that a firewall or router does not let datagrams through."""
    count = 0
    with contextlib.suppress(OSError):  # the queue is empty
        while True:
            _, control, _, _ = sock.recvmsg(0, 512, socket.MSG_ERRQUEUE | socket.MSG_DONTWAIT)
            count += any(_is_prohibition(data) for _, _, data in control if len(data) >= _EXTENDED_ERROR.size)
    return count


def _is_prohibition(data: bytes) -> bool:
    _, origin, kind, code, _ = _EXTENDED_ERROR.unpack_from(data)
    return code in _PROHIBITED.get((origin, kind), ())


def is_rejected(address: str, port: int, wait_s: float = 0.5) -> bool:
    """Whether a connection that fails for want of a route is rejected by a firewall in truth: a datagram to that port
    is answered with a prohibition, or by the host itself, which is there then."""
    family = socket.AF_INET6 if ":" in address else socket.AF_INET
    with socket.socket(family, socket.SOCK_DGRAM) as sock:
        hear_errors(sock)
        sock.settimeout(wait_s)
        try:
            sock.connect(socket_address(address, port))
            sock.send(b"")
            sock.recv(1)
        except ConnectionRefusedError:
            return True
        except OSError:
            return take_prohibitions(sock) > 0
        return True
