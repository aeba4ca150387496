"""The time at which each frame leaves, written into that frame by the kernel: a program at the egress of a port.

A sender hands over many frames at a time, which leave one after the other; with one stamp for all of them, those behind
the first seem late. The sockets of a sender carry a mark that says where in their frames the stamp stands, so that one
program serves frames of all forms and touches nobody else's.
"""

import os
import socket
import struct
from collections.abc import Collection, Iterator
from contextlib import ExitStack, contextmanager

from harvok.clock import SYSTEM
from harvok.core.wire.frame import FrameIp, mark_offset
from harvok.traffic.kernel_program import Instruction, NoKernelProgramError, attach_egress, load_egress

_SO_MARK = 36  # uapi asm-generic/socket.h
_OWN, _BALANCED = 0x48AB_0000, 0x100
_LAP_BYTES, _STAMP_BYTES, _BALANCE_BYTES = 4, 8, 2

# RFC 9669 §4: opcodes; registers: 0 answers of calls, 1 the frame's description, 6 to 9 kept over calls
_MOVE, _MOVE_VALUE, _ADD, _ADD_VALUE, _AND_VALUE, _OR_VALUE, _XOR_VALUE, _SHIFT_RIGHT = (
    0xBF, 0xB7, 0x0F, 0x07, 0x57, 0x47, 0xA7, 0x77,
)  # fmt: skip
_LOAD_32, _LOAD_LONG, _STORE_64, _STORE_16, _BIG_ENDIAN = 0x61, 0x18, 0x7B, 0x6B, 0xDC
_IF_GREATER, _IF_VALUE_IS_NOT, _CALL, _EXIT = 0x2D, 0x55, 0x85, 0x95
_OUT = 0x7FFF
"""Stands for the distance to the last two instructions."""
_MARK_AT, _DATA_AT, _DATA_END_AT = 8, 76, 80  # of struct __sk_buff
_TAI_NS = 208  # bpf_ktime_get_tai_ns (Linux 6.1), which the wall clock follows at a distance of whole seconds
_NEXT = -1  # TCX_NEXT: whatever else is to see the frame


def stamping_program(tai_ahead_ns: int) -> list[Instruction]:
    """Writes the wall clock into every frame that a marked socket sends, odd, which says whose stamp it is; of frames
    with a balance the balance too. `tai_ahead_ns` is how far the clock that the kernel grants is ahead of it."""
    checked = [
        (_MOVE, 6, 1, 0, 0),
        (_LOAD_32, 7, 1, _MARK_AT, 0),
        (_MOVE, 2, 7, 0, 0),
        (_AND_VALUE, 2, 0, 0, -1 - 0x1FF),
        (_IF_VALUE_IS_NOT, 2, 0, _OUT, _OWN),
    ]
    found = [
        (_LOAD_32, 8, 6, _DATA_AT, 0),
        (_LOAD_32, 9, 6, _DATA_END_AT, 0),
        (_MOVE, 2, 7, 0, 0),
        (_AND_VALUE, 2, 0, 0, 0xFF),
        (_ADD, 8, 2, 0, 0),
        (_MOVE, 2, 8, 0, 0),
        (_ADD_VALUE, 2, 0, 0, _LAP_BYTES + _STAMP_BYTES),
        (_IF_GREATER, 2, 9, _OUT, 0),
    ]
    now = [
        (_CALL, 0, 0, 0, _TAI_NS),
        (_LOAD_LONG, 2, 0, 0, _low(-tai_ahead_ns)),
        (0, 0, 0, 0, _high(-tai_ahead_ns)),
        (_ADD, 0, 2, 0, 0),
        (_OR_VALUE, 0, 0, 0, 1),
        (_BIG_ENDIAN, 0, 0, 0, 64),
        (_STORE_64, 8, 0, _LAP_BYTES, 0),
    ]
    program = [*checked, *found, *now, *_balance(), (_MOVE_VALUE, 0, 0, 0, _NEXT), (_EXIT, 0, 0, 0, 0)]
    end = len(program) - 2
    return [
        (code, to, source, end - at - 1 if offset == _OUT else offset, value)
        for at, (code, to, source, offset, value) in enumerate(program)
    ]


def _balance() -> list[Instruction]:
    """Sums lap and stamp up word by word as they lie in memory, which RFC 1071 §2 (B) allows, and writes the rest."""
    words = [(_LOAD_32, 1, 8, 0, 0), (_MOVE, 2, 1, 0, 0), (_AND_VALUE, 1, 0, 0, 0xFFFF), (_SHIFT_RIGHT, 2, 0, 0, 16)]
    words.append((_ADD, 1, 2, 0, 0))
    for shift in (0, 16, 32, 48):
        words += [
            (_MOVE, 2, 0, 0, 0),
            (_SHIFT_RIGHT, 2, 0, 0, shift),
            (_AND_VALUE, 2, 0, 0, 0xFFFF),
            (_ADD, 1, 2, 0, 0),
        ]
    fold = [(_MOVE, 2, 1, 0, 0), (_SHIFT_RIGHT, 2, 0, 0, 16), (_AND_VALUE, 1, 0, 0, 0xFFFF), (_ADD, 1, 2, 0, 0)]
    at = _LAP_BYTES + _STAMP_BYTES
    return [
        (_AND_VALUE, 7, 0, 0, _BALANCED),
        (_IF_VALUE_IS_NOT, 7, 0, _OUT, _BALANCED),
        (_MOVE, 2, 8, 0, 0),
        (_ADD_VALUE, 2, 0, 0, at + _BALANCE_BYTES),
        (_IF_GREATER, 2, 9, _OUT, 0),
        *words,
        *fold,
        *fold,
        (_XOR_VALUE, 1, 0, 0, 0xFFFF),
        (_STORE_16, 8, 1, at, 0),
    ]


def _low(value: int) -> int:
    return int(struct.unpack("=i", struct.pack("=I", value & 0xFFFF_FFFF))[0])


def _high(value: int) -> int:
    return _low(value >> 32)


class Stamping:
    """The program of one process, and the ports that it is attached to. Made before the process enters a namespace in
    which it has no rights on this host. `missing` says what keeps it from stamping frames."""

    def __init__(self) -> None:
        self.missing, self._program = "", -1
        try:
            self._program = load_egress(stamping_program(SYSTEM.tai_ahead_ns()))
        except NoKernelProgramError as error:
            self.missing = str(error)

    def claim(self, sock: socket.socket, ip: FrameIp, tags: int) -> None:
        """Says that what a socket sends is to be stamped, and where in its frames."""
        if self.missing:
            return
        try:
            sock.setsockopt(socket.SOL_SOCKET, _SO_MARK, _OWN | mark_offset(ip, tags) | (_BALANCED if ip == 6 else 0))
        except PermissionError:
            self.missing = "this user may not mark what it sends (CAP_NET_ADMIN)"

    @contextmanager
    def at(self, interfaces: Collection[str]) -> Iterator[None]:
        """Stamps what leaves by some interfaces meanwhile, where that can be done."""
        with ExitStack() as stack:
            try:
                for interface in () if self.missing else interfaces:
                    stack.callback(os.close, attach_egress(self._program, interface))
            except NoKernelProgramError as error:
                self.missing = str(error)
                stack.close()
            yield
