"""Counters that processes share through a file descriptor: a worker writes and its parent reads, or the other way.

One row of 64-bit cells for each flow. Each cell has a single writer and is stored in one aligned write, so a
reader sees the old or the new value and never a mixture; nothing is locked.
"""

import mmap
import os
import tempfile
from enum import IntEnum

from harvok.core.trials.frames import MAX_STEPS

_CELL_BYTES = 8


class Cell(IntEnum):
    """The cells of a row."""

    BYTES = 0
    """Payload bytes sent or received so far."""
    FIRST_NS = 1
    """Monotonic time of the first byte that arrived; 0 before it."""
    LAST_NS = 2
    """Monotonic time when the flow ended; 0 while it runs."""
    ERRNO = 3
    """The operating system's error number that ended the flow; 0 for none."""
    COMPARED = 4
    """Bytes that a receiver compared with what the sender sent."""
    ALTERED = 5
    """Bytes of those in blocks that were not the same."""


class FrameCell(IntEnum):
    """The cells of a row of the frame engine."""

    FRAMES = 0
    """Frames sent so far, or received so far without duplicates."""
    STOP = 1
    """Set by the parent: the worker is to end."""
    DELAY_NS = 2
    """Mean delay of the frames that came last; 0 before any came."""


ROWS_FOR_STEPS = -(-MAX_STEPS // len(Cell))
"""Where each step of a frame trial begins is told in a cell of its own."""
NOT_YET = (1 << 63) - 1
"""Where a step begins that has not begun: above every number."""


class Counters:
    """A table of cells, `flows` rows long. The creator passes `fileno()` to the worker, which attaches to it."""

    def __init__(self, flows: int, fd: int | None = None) -> None:
        size = flows * len(Cell) * _CELL_BYTES
        self._fd = _new_memory(size) if fd is None else fd
        self._map = mmap.mmap(self._fd, size)
        self.cells = memoryview(self._map).cast("q")

    def fileno(self) -> int:
        return self._fd

    @staticmethod
    def index(flow: int, cell: Cell | FrameCell) -> int:
        """Where a cell stands in `cells`; hot loops look it up once."""
        return flow * len(Cell) + cell

    def row_cells(self, row: int, count: int) -> memoryview:
        """`count` cells from the start of a row on, over as many rows as it takes."""
        start = row * len(Cell)
        return self.cells[start : start + count]

    def read(self, flow: int, cell: Cell | FrameCell) -> int:
        return self.cells[self.index(flow, cell)]

    def close(self) -> None:
        self.cells.release()
        self._map.close()
        os.close(self._fd)


def _new_memory(size: int) -> int:
    """An anonymous file of `size` bytes: in memory where the system can, else a deleted temporary file."""
    if hasattr(os, "memfd_create"):
        fd = os.memfd_create("harvok-counters")
    else:
        with tempfile.TemporaryFile() as file:
            fd = os.dup(file.fileno())
    os.ftruncate(fd, size)
    return fd
