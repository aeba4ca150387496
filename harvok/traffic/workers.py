"""The worker processes that move the bytes of TCP flows."""

import os
from collections.abc import Sequence
from socket import socket

from harvok.core.ends import Role
from harvok.core.trials.tcp import Method
from harvok.traffic.counters import Counters
from harvok.traffic.worker import Orders
from harvok.worker.parent import Worker, died

_PROCESSES_A_CORE = 4
Moving = tuple[Method, str]
"""By which method, and the seed of the bytes."""


class Workers:
    """The worker processes of one half of one direction: a process for each flow, up to a few for each core.

    Beyond that a process has several flows, each with a thread: threads leave the interpreter while the kernel moves
    their bytes, but take turns in it, which costs a few percent where cores are short.
    """

    def __init__(
        self, role: Role, sockets: Sequence[socket], counters: Counters, how: Moving, amount_bytes: int | None
    ) -> None:
        count = min(len(sockets), _PROCESSES_A_CORE * (os.cpu_count() or 1))
        self._processes = []
        for number in range(count):
            flows = list(range(number, len(sockets), count))
            fds = [sockets[flow].fileno() for flow in flows]
            orders = Orders(role, fds, flows, counters.fileno(), len(sockets), *how, amount_bytes)
            self._processes.append(Worker("harvok.traffic.worker", orders.encode(), [*fds, counters.fileno()]))

    @property
    def pids(self) -> list[int]:
        return [process.pid for process in self._processes]

    def wait_ready(self) -> None:
        """Waits until every worker can begin at once. Raises NearEndError when one did not start."""
        for process in self._processes:
            process.wait_ready()

    def begin(self) -> None:
        """Lets the bytes flow."""
        for process in self._processes:
            process.begin()

    def check_alive(self, end: str) -> None:
        """Raises WorkerLostError when a worker ended, which none does unless it is asked to."""
        for process in self._processes:
            if not process.runs:
                raise died(f"a worker process at the {end} end", process.exit_code)

    def stop(self) -> None:
        """Ends all workers at once and waits for them; may be called again."""
        for process in self._processes:
            process.close_input()
        for process in self._processes:
            process.end()
