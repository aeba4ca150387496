"""What is due when, in one epoll loop."""

from collections.abc import Callable
from heapq import heappop, heappush
from itertools import count
from typing import Any

from harvok.clock import monotonic_ns
from harvok.traffic.alarm import Alarm

Due = Callable[[int, Any], None]
"""Called with the moment that was meant, and with what was given along."""


class Timers:
    """Calls things when they are due; `alarm` wakes the loop for the next."""

    def __init__(self) -> None:
        self.alarm = Alarm()
        self._heap: list[tuple[int, int, Due, Any]] = []
        self._number = count()

    def at(self, due_ns: int, what: Due, given: Any = None) -> None:
        """Has something called at a moment of the monotonic clock."""
        heappush(self._heap, (due_ns, next(self._number), what, given))

    def run(self) -> None:
        """Calls all that is due, and sets the alarm for what comes next."""
        heap = self._heap
        while heap and heap[0][0] <= monotonic_ns():
            due_ns, _, what, given = heappop(heap)
            what(due_ns, given)
        if heap:
            self.alarm.set(heap[0][0])
