"""Starts worker processes, and makes sure that none of them is left behind."""

import os
import signal
import subprocess
import sys
from collections.abc import Sequence
from socket import socket

from harvok.core.ends import Role
from harvok.errors import NearEndError
from harvok.traffic.counters import Counters
from harvok.traffic.worker import Orders

_PROCESSES_A_CORE = 4


class Workers:
    """The worker processes of one half of one direction: a process for each flow, up to a few for each core.

    Beyond that a process has several flows, each with a thread: threads leave the interpreter while the kernel moves
    their bytes, but take turns in it, which costs a few percent where cores are short.
    """

    def __init__(self, role: Role, sockets: Sequence[socket], counters: Counters, amount_bytes: int | None) -> None:
        count = min(len(sockets), _PROCESSES_A_CORE * (os.cpu_count() or 1))
        self._processes = []
        for number in range(count):
            flows = list(range(number, len(sockets), count))
            fds = [sockets[flow].fileno() for flow in flows]
            orders = Orders(role, fds, flows, counters.fileno(), len(sockets), amount_bytes)
            self._processes.append(spawn("harvok.traffic.worker", orders.encode(), [*fds, counters.fileno()]))

    @property
    def pids(self) -> list[int]:
        return [process.pid for process in self._processes]

    def wait_ready(self) -> None:
        """Waits until every worker can begin at once. Raises NearEndError when one did not start."""
        for process in self._processes:
            assert process.stdout
            if process.stdout.read(1) != b"r":
                raise NearEndError("a worker process did not start", "Check free memory and the limit on processes.")

    def begin(self) -> None:
        """Lets the bytes flow."""
        for process in self._processes:
            assert process.stdin
            process.stdin.write(b"g")

    def stop(self) -> None:
        """Ends all workers at once and waits for them; may be called again."""
        for process in self._processes:
            if process.stdin:
                process.stdin.close()
        for process in self._processes:
            reap(process)


def spawn(module: str, orders: str, fds: Sequence[int]) -> "subprocess.Popen[bytes]":
    """A worker process: a module, its orders as its first argument, and the file descriptors that they name."""
    return subprocess.Popen(
        [sys.executable, "-m", module, orders],
        pass_fds=fds,
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
        bufsize=0,
        start_new_session=True,  # a Ctrl-C at the terminal is for the parent, which then ends its workers
    )


def reap(process: "subprocess.Popen[bytes]") -> None:
    """Waits for a worker whose standard input was closed, not for long."""
    try:
        process.wait(timeout=2)
    except subprocess.TimeoutExpired:
        process.send_signal(signal.SIGKILL)
        process.wait()
    if process.stdout:
        process.stdout.close()
