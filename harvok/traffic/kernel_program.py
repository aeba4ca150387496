"""Programs that this host's kernel runs for each frame (eBPF), loaded and attached by its own system call.

A program is a list of instructions (RFC 9669); what it is attached to is let go with the file descriptor, however its
process ends.
"""

import ctypes
import errno
import os
import platform
import socket
import struct
from collections.abc import Sequence

Instruction = tuple[int, int, int, int, int]
"""Opcode, destination and source register, offset of a jump or of memory, immediate value."""

_SYSTEM_CALL = {"x86_64": 321, "aarch64": 280}
_LOAD, _CREATE_LINK = 5, 28  # uapi linux/bpf.h
_CLASSIFIER, _EGRESS = 3, 47  # BPF_PROG_TYPE_SCHED_CLS, BPF_TCX_EGRESS (Linux 6.6)
_LICENSE = b"GPL\0"
_ATTRIBUTES_BYTES = 128
_EXPECTED_ATTACH_TYPE_AT = 68


class NoKernelProgramError(Exception):
    """Why this kernel runs no program here: a half sentence."""


def load_egress(program: Sequence[Instruction]) -> int:
    """Loads a program for frames that leave; its file descriptor. Raises NoKernelProgramError."""
    code = ctypes.create_string_buffer(b"".join(_encoded(*line) for line in program))
    license_text = ctypes.create_string_buffer(_LICENSE)
    head = struct.pack("IIQQ", _CLASSIFIER, len(program), ctypes.addressof(code), ctypes.addressof(license_text))
    return _call(_LOAD, head.ljust(_EXPECTED_ATTACH_TYPE_AT, b"\0") + struct.pack("I", _EGRESS))


def attach_egress(program: int, interface: str) -> int:
    """Has a program run for every frame that leaves by an interface, until the descriptor that this returns is closed.
    Raises NoKernelProgramError."""
    return _call(_CREATE_LINK, struct.pack("IIII", program, socket.if_nametoindex(interface), _EGRESS, 0))


def _encoded(opcode: int, destination: int, source: int, offset: int, value: int) -> bytes:
    return struct.pack("=BBhi", opcode, source << 4 | destination, offset, value)


def _call(command: int, attributes: bytes) -> int:
    number = _SYSTEM_CALL.get(platform.machine())
    if number is None:
        raise NoKernelProgramError(f"programs for the kernel of {platform.machine()} are not known here")
    library = ctypes.CDLL(None, use_errno=True)
    buffer = ctypes.create_string_buffer(attributes, _ATTRIBUTES_BYTES)
    made: int = library.syscall(number, command, buffer, _ATTRIBUTES_BYTES)
    if made < 0:
        raise NoKernelProgramError(_why(ctypes.get_errno()))
    return made


def _why(number: int) -> str:
    if number in (errno.EPERM, errno.EACCES):
        return "this user may not load programs into the kernel (root, or CAP_BPF and CAP_NET_ADMIN)"
    if number in (errno.ENOSYS, errno.EINVAL, errno.EOPNOTSUPP):
        return "this kernel runs no programs for frames that leave (Linux 6.6 or newer does)"
    return f"the kernel refused its program: {os.strerror(number)}"
