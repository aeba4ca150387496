"""Which packets a socket takes, decided by the kernel: a classic BPF program."""

import ctypes
import socket
import struct
from collections.abc import Sequence

Instruction = tuple[int, int, int, int]

_SO_ATTACH_FILTER = 26  # uapi asm-generic/socket.h
_HEADER_LENGTH, _LOAD_HALF_AFTER_IT, _IF_EQUAL, _GIVE = 0xB1, 0x48, 0x15, 0x06
_ALL_BYTES = 65_535


def attach_filter(sock: socket.socket, program: Sequence[Instruction]) -> None:
    """Puts a classic BPF program before a socket."""
    code = b"".join(struct.pack("HBBI", *line) for line in program)
    buffer = ctypes.create_string_buffer(code)
    sock.setsockopt(
        socket.SOL_SOCKET, _SO_ATTACH_FILTER, struct.pack("HxxxxxxP", len(program), ctypes.addressof(buffer))
    )


def take_segments_to(sock: socket.socket, ports: Sequence[int]) -> None:
    """Lets a raw IPv4 socket take TCP segments to some ports and nothing else: a copy of every segment of a load would
    cost more than the load."""
    count = len(ports)
    equal = [(_IF_EQUAL, count - number, 0, port) for number, port in enumerate(ports)]
    load = [(_HEADER_LENGTH, 0, 0, 0), (_LOAD_HALF_AFTER_IT, 0, 0, 2)]
    attach_filter(sock, [*load, *equal, (_GIVE, 0, 0, 0), (_GIVE, 0, 0, _ALL_BYTES)])
