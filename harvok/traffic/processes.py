"""The worker processes of one direction at one end, which tell what they see line by line, heard together."""

import os
import queue
import threading
from collections.abc import Callable, Iterator, Sequence
from typing import Any

from harvok.core.ends import End, Role
from harvok.errors import HarvokError, NearEndError
from harvok.worker.parent import Worker, died

Line = dict[str, Any]


def processes_for_each_end() -> int:
    """Half of the cores: the other half is the kernel's, which does most of the work, or the other end's."""
    return max((os.cpu_count() or 1) // 2, 1)


class Processes:
    """Several workers. Each says `over` or `errno` in its last line."""

    def __init__(self, end: End, workers: Sequence[Worker]) -> None:
        self._end, self._workers, self._stopping = end, workers, False
        self._lines: queue.SimpleQueue[Line | HarvokError | None] = queue.SimpleQueue()

    @property
    def pids(self) -> list[int]:
        return [worker.pid for worker in self._workers]

    def wait_ready(self) -> None:
        """Waits until every worker can begin at once. Raises NearEndError when one did not start."""
        for worker in self._workers:
            worker.wait_ready()
            threading.Thread(target=self._read, args=[worker], daemon=True).start()

    def begin(self) -> None:
        """The word for which they wait."""
        for worker in self._workers:
            worker.begin()

    def lines(self) -> Iterator[Line]:
        """What they say, as it comes, until all are over. Raises NearEndError when one failed, and WorkerLostError when
        one ended though nobody asked it to."""
        running = len(self._workers)
        while running:
            line = self._lines.get()
            if isinstance(line, HarvokError):
                raise line
            if line is None:
                running -= 1
            else:
                yield line

    def intervals(self, take: Callable[[Line], None]) -> Iterator[list[Line]]:
        """The lines of each interval, as soon as every worker has told of it, and at the end of those that only some
        have told of; `take` gets all other lines. Raises what lines() and `take` do."""
        waiting: dict[int, list[Line]] = {}
        for line in self.lines():
            if "interval" not in line:
                take(line)
                continue
            told = waiting.setdefault(line["interval"], [])
            told.append(line)
            if len(told) == len(self._workers):
                yield waiting.pop(line["interval"])
        for index in sorted(waiting):
            yield waiting[index]

    def interrupt(self) -> None:
        """Ends the workers at once; may be called again."""
        self._stopping = True
        for worker in self._workers:
            worker.close_input()

    def close(self) -> None:
        """Ends the workers and waits for them."""
        self.interrupt()
        for worker in self._workers:
            worker.end()

    def _read(self, worker: Worker) -> None:
        """Passes lines on as they come, then None; or what the worker could not do, also when it was to go on."""
        ended = False
        try:
            for line in worker.lines():
                ended = ended or "over" in line or "errno" in line
                self._lines.put(line)
        except NearEndError as fault:
            self._lines.put(fault)
            return
        lost = not ended and not self._stopping
        self._lines.put(died(f"a worker process at the {self._end} end", worker.wait_code()) if lost else None)


class ProcessWatch:
    """One direction at one end, as its workers tell it."""

    def __init__(self, direction: str, role: Role, processes: Processes) -> None:
        self.direction, self.role = direction, role
        self._processes = processes

    def wait_ready(self) -> None:
        """Waits until every worker can begin at once. Raises NearEndError when one did not start."""
        self._processes.wait_ready()

    def begin(self) -> None:
        """Lets it begin."""
        self._processes.begin()

    def interrupt(self) -> None:
        """Ends the workers at once; may be called again."""
        self._processes.interrupt()

    def close(self) -> None:
        """Ends the workers and waits for them."""
        self._processes.close()
