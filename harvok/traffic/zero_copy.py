"""TCP flows whose bytes this host does not copy: sent out of a file in memory, and dropped in the kernel on arrival.

The receiver reads and compares one block in every few megabytes, so that it is known what arrives; the rest only the
kernel has seen (tcp(7), MSG_TRUNC). Both ends know the block of random bytes, which repeats, by the trial's id.
"""

import hashlib
import os
import socket
import sys

from harvok.clock import SYSTEM
from harvok.core.trials.tcp import Method
from harvok.errors import UnsupportedError

BLOCK_BYTES = 64 * 1024
_FILE_BLOCKS = 16
_COMPARE_EVERY_BYTES = 4 * 1024 * 1024
_DROP = getattr(socket, "MSG_TRUNC", 0x20)


def resolved(method: Method) -> Method:
    """`auto` as what this system can. Raises UnsupportedError for zero-copy where it cannot."""
    able = sys.platform == "linux" and hasattr(os, "memfd_create")
    if method == "zero-copy" and not able:
        raise UnsupportedError("this system cannot send or drop data without copying it", "Leave --method out.")
    return "zero-copy" if able and method != "copy" else "copy"


def block_of(seed: str) -> bytes:
    """The block of bytes of a trial: random, so that nothing on the way can shrink it."""
    return hashlib.shake_128(seed.encode()).digest(BLOCK_BYTES)


def send_from_file(sock: socket.socket, block: bytes, cells: memoryview, at: int, amount_bytes: int | None) -> None:
    """Sends the block again and again, without end or up to an amount, counting into `cells[at]`."""
    file = os.memfd_create("harvok-block")
    for _ in range(_FILE_BLOCKS):
        os.write(file, block)
    size = BLOCK_BYTES * _FILE_BLOCKS
    send, to, total = os.sendfile, sock.fileno(), 0
    while amount_bytes is None or total < amount_bytes:
        place = total % size
        count = size - place if amount_bytes is None else min(size - place, amount_bytes - total)
        total += send(to, file, place, count)
        cells[at] = total


def drop_and_compare(
    sock: socket.socket, block: bytes, cells: memoryview, at: int, first_at: int, compared_at: int, altered_at: int
) -> None:
    """Receives until the other end closes, counting into `cells[at]`; stamps the first byte into `cells[first_at]`, and
    counts what was compared and what was altered of it."""
    twice = block * 2
    spare = bytearray(_COMPARE_EVERY_BYTES)
    drop, read = sock.recv_into, sock.recv
    total, compared, due = 0, 0, 0
    while True:
        if total < due:
            got = drop(spare, due - total, _DROP)
        else:
            piece = read(BLOCK_BYTES - compared % BLOCK_BYTES)
            got, place = len(piece), total % BLOCK_BYTES
            if not total:
                cells[first_at] = SYSTEM.now_ns()
            if piece != twice[place : place + got]:
                cells[altered_at] += got
            compared += got
            cells[compared_at] = compared
            if not compared % BLOCK_BYTES:
                due = total + _COMPARE_EVERY_BYTES
        if not got:
            return
        total += got
        cells[at] = total
