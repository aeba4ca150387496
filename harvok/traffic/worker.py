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
from harvok.core.trials.tcp import Method
from harvok.traffic.counters import Cell, Counters
from harvok.traffic.zero_copy import BLOCK_BYTES, block_of, drop_and_compare, send_from_file
from harvok.worker.child import run, say_ready, wait_begin

BLOCKS_ALONE, BLOCKS_SHARING, BLOCKS_FAST = 2, 8, 32
"""How many blocks one call moves. All of them are one and the same block: it stays in the core's cache, so that what is
measured is the kernel and the link, not this host's memory. A flow that is alone goes fastest with short calls, which
let acknowledgements in between; several flows, which share cores, with long calls, which switch less often, and the
longest while they are fast: between two calls the interpreter finds its own code gone from the cache."""

_FAST_BPS, _NO_LONGER_FAST_BPS = 4e9, 1e9
"""Of one flow: then the longest call takes 4 ms, and no more than 17 ms; a flow that waits for its turn is not slow."""
_LOOK_EVERY_BYTES = 8 * 1024 * 1024


@dataclass(frozen=True, slots=True)
class Orders:
    """What a worker is to do: play `role` on the sockets `fds`, counting in the rows `flows` of the counters.

    `amount_bytes` is for each flow; None sends until the parent ends it. `seed` is what both ends make the bytes of.
    """

    role: Role
    fds: list[int]
    flows: list[int]
    counters_fd: int
    counters_rows: int
    method: Method
    seed: str
    amount_bytes: int | None = None

    def encode(self) -> str:
        return json.dumps(asdict(self))

    @classmethod
    def decode(cls, text: str) -> "Orders":
        return cls(**json.loads(text))


def _block(seed: str) -> memoryview:
    """The trial's block of random bytes, page-aligned."""
    block = memoryview(mmap.mmap(-1, BLOCK_BYTES))
    block[:] = block_of(seed)
    return block


def _send(sock: socket.socket, block: memoryview, cells: memoryview, at: int, shares_cores: bool) -> None:
    """Sends without end, counting into `cells[at]`."""
    blocks = [block] * (BLOCKS_SHARING if shares_cores else BLOCKS_ALONE)
    speed = FlowSpeed() if shares_cores else None
    send, to, total = os.writev, sock.fileno(), 0
    while True:
        total += send(to, blocks)
        cells[at] = total
        if speed and total >= speed.look_at_bytes and speed.changes(total):
            blocks = [block] * (BLOCKS_FAST if speed.fast else BLOCKS_SHARING)


def _send_amount(sock: socket.socket, block: memoryview, cells: memoryview, at: int, amount_bytes: int) -> None:
    """Sends exactly `amount_bytes`."""
    total = 0
    while total < amount_bytes:
        place = total % BLOCK_BYTES
        total += sock.send(block[place : place + amount_bytes - total])
        cells[at] = total


def _await_reader(sock: socket.socket) -> None:
    """Closes the sending side and waits until the other end has read it all."""
    sock.shutdown(socket.SHUT_WR)
    while sock.recv(64):
        pass


def _receive(sock: socket.socket, cells: memoryview, at: int, first_at: int, shares_cores: bool) -> None:
    """Receives until the other end closes, counting into `cells[at]`; stamps the first byte into `cells[first_at]`."""
    blocks = [memoryview(mmap.mmap(-1, BLOCK_BYTES))] * (BLOCKS_FAST if shares_cores else BLOCKS_ALONE)
    speed = FlowSpeed() if shares_cores else None
    receive, of = os.readv, sock.fileno()
    total = receive(of, blocks)
    cells[first_at] = SYSTEM.now_ns()
    cells[at] = total
    while got := receive(of, blocks):
        total += got
        cells[at] = total
        if speed and total >= speed.look_at_bytes and speed.changes(total):
            wake_at(sock, BLOCKS_SHARING * BLOCK_BYTES if speed.fast else 1)


def wake_at(sock: socket.socket, some_bytes: int) -> None:
    """Has the kernel wake a receiver once that many bytes are there: many for a fast flow that shares its core, so that
    it takes fewer turns; one for a slow flow, so that what arrived is counted at once."""
    sock.setsockopt(socket.SOL_SOCKET, socket.SO_RCVLOWAT, some_bytes)


class FlowSpeed:
    """Whether a flow is fast: looked at every few megabytes while it is not, and at every call while it is, since a
    long call takes long as soon as it is slow."""

    def __init__(self) -> None:
        self.fast = False
        self._since_ns, self._since_bytes, self.look_at_bytes = SYSTEM.now_ns(), 0, _LOOK_EVERY_BYTES

    def changes(self, total: int) -> bool:
        """Looks at how fast the flow was since the last look, and says whether that is news."""
        now_ns, was_fast = SYSTEM.now_ns(), self.fast
        at_least_bps = _NO_LONGER_FAST_BPS if was_fast else _FAST_BPS
        self.fast = (total - self._since_bytes) * 8e9 > at_least_bps * (now_ns - self._since_ns)
        self._since_ns, self._since_bytes = now_ns, total
        self.look_at_bytes = total if self.fast else total + _LOOK_EVERY_BYTES
        return self.fast != was_fast


def _flow(orders: Orders, sock: socket.socket, counters: Counters, row: int) -> None:
    """Runs one flow to its end and leaves the time and the error, if any, in its row."""
    cells = counters.cells
    try:
        if orders.role == "receiver":
            _play_receiver(orders, sock, counters, row)
        else:
            _play_sender(orders, sock, cells, Counters.index(row, Cell.BYTES))
    except OSError as error:
        cells[Counters.index(row, Cell.ERRNO)] = error.errno or -1
    cells[Counters.index(row, Cell.LAST_NS)] = SYSTEM.now_ns()


def _play_receiver(orders: Orders, sock: socket.socket, counters: Counters, row: int) -> None:
    at, first_at = Counters.index(row, Cell.BYTES), Counters.index(row, Cell.FIRST_NS)
    if orders.method == "zero-copy":
        compared_at, altered_at = Counters.index(row, Cell.COMPARED), Counters.index(row, Cell.ALTERED)
        drop_and_compare(sock, block_of(orders.seed), counters.cells, at, first_at, compared_at, altered_at)
    else:
        _receive(sock, counters.cells, at, first_at, _shares_cores(orders))
    sock.shutdown(socket.SHUT_WR)  # tells a sender of a set amount that everything was read


def _play_sender(orders: Orders, sock: socket.socket, cells: memoryview, at: int) -> None:
    if orders.method == "zero-copy":
        send_from_file(sock, block_of(orders.seed), cells, at, orders.amount_bytes)
    elif orders.amount_bytes is None:
        _send(sock, _block(orders.seed), cells, at, _shares_cores(orders))
    else:
        _send_amount(sock, _block(orders.seed), cells, at, orders.amount_bytes)
    _await_reader(sock)


def _shares_cores(orders: Orders) -> bool:
    return orders.counters_rows > 1


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
