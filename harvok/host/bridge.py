"""What a kernel bridge is told that the netlink package in use does not know yet: how many addresses it may learn
(IFLA_BR_FDB_MAX_LEARNED, uapi linux/if_link.h, Linux 6.7)."""

import errno
import os
import socket
import struct

from harvok.errors import NearEndError

_NEW_LINK, _REQUEST_AND_ACK, _ERROR = 16, 0x05, 2
_LINK_INFO, _KIND, _DATA, _NESTED = 18, 1, 2, 0x8000
_FDB_MAX_LEARNED = 49
_SINCE = (6, 7)


def limit_addresses(index: int, number: int) -> None:
    """Lets a bridge learn so many addresses, and no more. Raises NearEndError on a kernel that cannot."""
    if _kernel_version() < _SINCE:
        raise NearEndError(
            f"this kernel ({os.uname().release}) cannot limit the addresses of a virtual switch",
            "Leave `addresses` out of the rig file, or use Linux 6.7 or later.",
        )
    data = _attribute(_DATA | _NESTED, _attribute(_FDB_MAX_LEARNED, struct.pack("=I", number)))
    info = _attribute(_LINK_INFO | _NESTED, _attribute(_KIND, b"bridge\0") + data)
    body = struct.pack("=BxHiII", socket.AF_UNSPEC, 0, index, 0, 0) + info
    message = struct.pack("=IHHII", 16 + len(body), _NEW_LINK, _REQUEST_AND_ACK, 1, 0) + body
    with socket.socket(socket.AF_NETLINK, socket.SOCK_RAW, socket.NETLINK_ROUTE) as sock:
        sock.bind((0, 0))
        sock.send(message)
        answer = sock.recv(4096)
    kind, code = struct.unpack_from("=H", answer, 4)[0], -struct.unpack_from("=i", answer, 16)[0]
    if kind == _ERROR and code:
        raise OSError(code, f"{os.strerror(code)} ({errno.errorcode.get(code, code)})")


def _attribute(kind: int, value: bytes) -> bytes:
    """An attribute with its length, padded to a multiple of four."""
    return (struct.pack("=HH", 4 + len(value), kind) + value).ljust(-(-(4 + len(value)) // 4) * 4, b"\0")


def _kernel_version() -> tuple[int, int]:
    major, minor = os.uname().release.split(".")[:2]
    return int(major), int("".join(letter for letter in minor if letter.isdigit()) or 0)
