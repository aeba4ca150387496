"""The worker processes of one direction at one end, which tell what they see line by line, heard together."""

import queue
import threading
from collections.abc import Iterator, Sequence
from typing import Any

from harvok.core.ends import End
from harvok.errors import HarvokError, NearEndError
from harvok.worker.parent import Worker, died

Line = dict[str, Any]


class Processes:
    """Several workers. Each says `over` or `errno` in its last line."""

    def __init__(self, end: End, workers: Sequence[Worker]) -> None:
        self._end, self._workers, self._stopping = end, workers, False
        self._lines: queue.SimpleQueue[Line | HarvokError | None] = queue.SimpleQueue()

    def __len__(self) -> int:
        return len(self._workers)

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
