"""Waits for the moment at which something is due to be sent.

Waiting busily looks safe and is not: a process that never sleeps has used up its share of a contended core when its
moment comes. Beside two busy loops on two cores, flows of one datagram every 0.25, 0.5 and 1.25 ms sent 57, 40-55 and
77-100 % of their schedule by waiting busily, and 90-92, 85 and 99-100 % by sleeping, with a third to a tenth of the
CPU time. So it sleeps for as long as there is time, and waits busily only where the timers of a host are always late.
"""

from harvok.clock import SYSTEM

CATCH_UP = 1 - 1 / 16
"""After a lapse the gap between two sendings shrinks to this until the schedule is met again: never a burst, and no
lasting shortfall."""
_SLEEP_ABOVE_NS, _WAKE_BEFORE_NS = 200_000, 100_000
_ALWAYS_LATE = 16
"""So many more sleeps that ended late than in time: not chance or a neighbour, but how the timers of this host are."""
_NEVER_NS = 1 << 62


class Waiter:
    """Sleeps while a moment is far, and waits busily for the rest."""

    def __init__(self) -> None:
        self._now_ns = SYSTEM.now_ns
        self._sleep_above_ns = _SLEEP_ABOVE_NS
        self._late = 0

    def until(self, due_ns: int, now_ns: int) -> int:
        """Returns at `due_ns` or as soon after it as this host can, with the time that it is then; `now_ns` is the time
        as last looked at."""
        read_ns = self._now_ns
        if due_ns - now_ns > self._sleep_above_ns:
            SYSTEM.sleep((due_ns - now_ns - _WAKE_BEFORE_NS) / 1e9)
            self._late = self._late + 1 if read_ns() >= due_ns else max(self._late - 1, 0)
            if self._late >= _ALWAYS_LATE:
                self._sleep_above_ns = _NEVER_NS
        while (now := read_ns()) < due_ns:
            pass
        return now
