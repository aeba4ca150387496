"""Hears which neighbours announce themselves on this host's ports by LLDP. Needs the right to open packet sockets."""

import select
import socket
import struct
from collections.abc import Sequence

from harvok.clock import SYSTEM, Clock
from harvok.core.wire.lldp import LLDP_ETHERTYPE, Neighbour, decode_lldp
from harvok.errors import NearEndError

_SOL_PACKET, _ADD_MEMBERSHIP, _MULTICAST = 263, 1, 0  # uapi linux/if_packet.h
_NEAREST_BRIDGE = bytes.fromhex("0180c200000e")  # IEEE 802.1AB §7.1
_OUTGOING = 4  # PACKET_OUTGOING
_MAX_BYTES = 1600


def hear_neighbours(ports: Sequence[str], for_s: float, clock: Clock = SYSTEM) -> dict[str, Neighbour]:
    """The neighbour of each port that announced itself within a time. Ends early once all have been heard."""
    by_fd: dict[int, tuple[str, socket.socket]] = {}
    heard: dict[str, Neighbour] = {}
    try:
        poll = select.poll()
        for port in ports:
            sock = _open(port)
            by_fd[sock.fileno()] = port, sock
            poll.register(sock, select.POLLIN)
        deadline_ns = clock.now_ns() + int(for_s * 1e9)
        while len(heard) < len(ports) and (left_ns := deadline_ns - clock.now_ns()) > 0:
            for fd, _ in poll.poll(left_ns // 1_000_000 + 1):
                port, sock = by_fd[fd]
                frame, where = sock.recvfrom(_MAX_BYTES)
                found = decode_lldp(frame)
                if found and where[2] != _OUTGOING:
                    heard[port] = found
    finally:
        for _, sock in by_fd.values():
            sock.close()
    return heard


def _open(port: str) -> socket.socket:
    try:
        sock = socket.socket(socket.AF_PACKET, socket.SOCK_RAW, socket.htons(LLDP_ETHERTYPE))
    except PermissionError as error:
        raise NearEndError(
            "hearing neighbours needs the right to open packet sockets",
            "Run Harvok as root, or leave --neighbours out.",
        ) from error
    try:
        sock.bind((port, LLDP_ETHERTYPE))
        index = socket.if_nametoindex(port)
        sock.setsockopt(_SOL_PACKET, _ADD_MEMBERSHIP, struct.pack("iHH8s", index, _MULTICAST, 6, _NEAREST_BRIDGE))
    except BaseException:
        sock.close()
        raise
    return sock
