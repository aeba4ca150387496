"""A worker process: moves the bytes of one or more TCP flows at the speed of the kernel, and counts them.

It begins at the word to begin (see harvok.worker), and ends at once when its standard input closes. Nothing heavy is
imported here.
"""

import json
import mmap
import os
import socket
import threading
from collections.abc import Callable
from dataclasses import asdict, dataclass

from harvok.clock import SYSTEM
from harvok.core.ends import Role
from harvok.traffic.counters import Cell, Counters
from harvok.worker.child import run, say_ready, wait_begin

BLOCK_BYTES = 64 * 1024
BLOCKS_ALONE, BLOCKS_SHARING = 2, 8
"""How many blocks one call moves. All of them are one and the same block: it stays in the core's cache, so that what is
measured is the kernel and the link, not this host's memory. A flow that is alone goes fastest with short
calls, which let acknowledgements in between; several flows, which share cores, with long calls, which switch less
often."""


@dataclass(frozen=True, slots=True)
class Orders:
    """What a worker is to do: play `role` on the sockets `fds`, counting in the rows `flows` of the counters.

    `amount_bytes` is for each flow; None sends until the parent ends it.
    """

    role: Role
    fds: list[int]
    flows: list[int]
    counters_fd: int
    counters_rows: int
    amount_bytes: int | None = None

    def encode(self) -> str:
        return json.dumps(asdict(self))

    @classmethod
    def decode(cls, text: str) -> "Orders":
        return cls(**json.loads(text))


def _block() -> memoryview:
    """A page-aligned block of random bytes, so that nothing on the way can shrink it."""
    block = memoryview(mmap.mmap(-1, BLOCK_BYTES))
    block[:] = os.urandom(BLOCK_BYTES)
    return block


def _send(sock: socket.socket, cells: memoryview, at: int, blocks_a_call: int) -> None:
    """Sends without end, counting into `cells[at]`."""
    blocks = [_block()] * blocks_a_call
    send, total = sock.sendmsg, 0
    while True:
        total += send(blocks)
        cells[at] = total


def _send_amount(sock: socket.socket, cells: memoryview, at: int, amount_bytes: int) -> None:
    """Sends exactly `amount_bytes`, closes the sending side and waits until the other end has read it all."""
    block = _block()
    left = amount_bytes
    while left:
        left -= sock.send(block[:left])
        cells[at] = amount_bytes - left
    sock.shutdown(socket.SHUT_WR)
    while sock.recv(64):
        pass


def _receive(sock: socket.socket, cells: memoryview, at: int, first_at: int, blocks_a_call: int) -> None:
    """Receives until the other end closes, counting into `cells[at]`; stamps the first byte into `cells[first_at]`."""
    blocks = [_block()] * blocks_a_call
    receive = sock.recvmsg_into
    total = receive(blocks)[0]
    cells[first_at] = SYSTEM.now_ns()
    cells[at] = total
    while got := receive(blocks)[0]:
        total += got
        cells[at] = total
    sock.shutdown(socket.SHUT_WR)  # tells a sender of a set amount that everything was read


def _flow(orders: Orders, sock: socket.socket, counters: Counters, row: int) -> None:
    """Runs one flow to its end and leaves the time and the error, if any, in its row."""
    cells, at = counters.cells, Counters.index(row, Cell.BYTES)
    blocks = BLOCKS_ALONE if orders.counters_rows == 1 else BLOCKS_SHARING
    try:
        if orders.role == "receiver":
            _receive(sock, cells, at, Counters.index(row, Cell.FIRST_NS), blocks)
        elif orders.amount_bytes is None:
            _send(sock, cells, at, blocks)
        else:
            _send_amount(sock, cells, at, orders.amount_bytes)
    except OSError as error:
        cells[Counters.index(row, Cell.ERRNO)] = error.errno or -1
    cells[Counters.index(row, Cell.LAST_NS)] = SYSTEM.now_ns()


def _start(work: Callable[..., None], *args: object) -> None:
    threading.Thread(target=work, args=args, daemon=True).start()


def work(text: str) -> None:
    orders = Orders.decode(text)
    counters = Counters(orders.counters_rows, orders.counters_fd)
    sockets = [socket.socket(fileno=fd) for fd in orders.fds]
    say_ready()
    wait_begin()
    for sock, row in zip(sockets, orders.flows, strict=True):
        _start(_flow, orders, sock, counters, row)
    os.read(0, 1)  # returns when the parent closes it, or dies
    os._exit(0)


if __name__ == "__main__":
    run(work)
