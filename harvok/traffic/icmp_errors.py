"""What routers and hosts on the way answer by ICMP to datagrams of ours: the error queue of a UDP socket (ip(7))."""

import contextlib
import socket
import struct
import sys
from collections.abc import Iterator
from dataclasses import dataclass

from harvok.zones import socket_address

_RECEIVE_ERRORS = {socket.AF_INET: (socket.IPPROTO_IP, 11), socket.AF_INET6: (socket.IPPROTO_IPV6, 25)}  # IP_RECVERR
_EXTENDED_ERROR = struct.Struct("=IBBBB")  # struct sock_extended_err: errno, origin, type, code, padding
_OFFENDER_AT = 16  # behind the whole structure: the socket address of who answered
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


@dataclass(frozen=True, slots=True)
class Refusal:
    """An answer that says that a datagram goes no further. `by` is who said so, a router or a host; `prohibited` where
    it is not let through, as against where there is no way."""

    by: str
    prohibited: bool


def take_prohibitions(sock: socket.socket) -> int:
    """How many of the answers that wait say that a firewall or router does not let datagrams through."""
    return sum(one.prohibited for one in _refusals(sock))


def _refusals(sock: socket.socket) -> Iterator[Refusal]:
    """The answers that wait."""
    with contextlib.suppress(OSError):  # the queue is empty
        while True:
            _, control, _, _ = sock.recvmsg(0, 512, socket.MSG_ERRQUEUE | socket.MSG_DONTWAIT)
            for _, _, data in control:
                if len(data) >= _EXTENDED_ERROR.size:
                    yield _refusal(data)


def _refusal(data: bytes) -> Refusal:
    _, origin, kind, code, _ = _EXTENDED_ERROR.unpack_from(data)
    by = ""
    if origin == _ORIGIN_ICMP:
        by = socket.inet_ntop(socket.AF_INET, data[_OFFENDER_AT + 4 : _OFFENDER_AT + 8])
    elif origin == _ORIGIN_ICMP6:
        by = socket.inet_ntop(socket.AF_INET6, data[_OFFENDER_AT + 8 : _OFFENDER_AT + 24])
    return Refusal(by, code in _PROHIBITED.get((origin, kind), ()))


def who_refuses(address: str, port: int, wait_s: float = 0.5) -> Refusal | None:
    """Who answers a datagram to a port with which no connection comes about, and whether that forbids it; the host
    itself, which is there then, forbids it as well. None where nobody answers."""
    family = socket.AF_INET6 if ":" in address else socket.AF_INET
    with socket.socket(family, socket.SOCK_DGRAM) as sock:
        hear_errors(sock)
        sock.settimeout(wait_s)
        try:
            sock.connect(socket_address(address, port))
            sock.send(b"")
            sock.recv(1)
        except ConnectionRefusedError:
            return Refusal(address, True)
        except OSError:
            found = [one for one in _refusals(sock) if one.by]
            return next((one for one in found if one.prohibited), found[0] if found else None)
        return Refusal(address, True)
