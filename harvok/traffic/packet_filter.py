"""Which packets a socket takes, decided by the kernel: a classic BPF program."""

import ctypes
import socket
import struct
from collections.abc import Sequence

Instruction = tuple[int, int, int, int]

_SO_ATTACH_FILTER = 26  # uapi asm-generic/socket.h
_SOL_PACKET, _FANOUT, _FANOUT_DATA = 263, 18, 22  # uapi linux/if_packet.h
_BY_PROGRAM, _IGNORE_OUTGOING = 6, 0x4000
_HEADER_LENGTH, _LOAD_HALF_AFTER_IT, _IF_EQUAL, _GIVE = 0xB1, 0x48, 0x15, 0x06
_ALL_BYTES = 65_535


def attach_filter(sock: socket.socket, program: Sequence[Instruction]) -> None:
    """Puts a classic BPF program before a socket."""
    _give(sock, socket.SOL_SOCKET, _SO_ATTACH_FILTER, program)


def share_by(sock: socket.socket, group: int, program: Sequence[Instruction]) -> None:
    """Has a packet socket share what comes to its port with the others of a group of this network: the program says
    which of them gets a frame, by a number that is taken modulo theirs (PACKET_FANOUT_CBPF)."""
    joining = (group & 0xFFFF) | (_BY_PROGRAM | _IGNORE_OUTGOING) << 16
    sock.setsockopt(_SOL_PACKET, _FANOUT, struct.pack("I", joining))
    _give(sock, _SOL_PACKET, _FANOUT_DATA, program)


def _give(sock: socket.socket, level: int, option: int, program: Sequence[Instruction]) -> None:
    code = b"".join(struct.pack("HBBI", *line) for line in program)
    buffer = ctypes.create_string_buffer(code)
    sock.setsockopt(level, option, struct.pack("HxxxxxxP", len(program), ctypes.addressof(buffer)))


def take_segments_to(sock: socket.socket, ports: Sequence[int]) -> None:
    """Lets a raw IPv4 socket take TCP segments to some ports and nothing else: a copy of every segment of a load would
    cost more than the load."""
    count = len(ports)
    equal = [(_IF_EQUAL, count - number, 0, port) for number, port in enumerate(ports)]
    load = [(_HEADER_LENGTH, 0, 0, 0), (_LOAD_HALF_AFTER_IT, 0, 0, 2)]
    attach_filter(sock, [*load, *equal, (_GIVE, 0, 0, 0), (_GIVE, 0, 0, _ALL_BYTES)])
