"""Waits for the moment at which something is due to be sent."""

from harvok.clock import SYSTEM

_SLEEP_ABOVE_NS, _WAKE_BEFORE_NS = 200_000, 100_000
_NEVER_NS = 1 << 62


class Waiter:
    """Sleeps while a moment is far, and waits busily for the rest. A host that woke it too late once is not slept on
    again: it waits busily from there on."""

    def __init__(self) -> None:
        self._now_ns = SYSTEM.now_ns
        self._sleep_above_ns = _SLEEP_ABOVE_NS

    def until(self, due_ns: int, now_ns: int) -> int:
        """Returns at `due_ns` or as soon after it as this host can, with the time that it is then; `now_ns` is the time
        as last looked at."""
        read_ns = self._now_ns
        if due_ns - now_ns > self._sleep_above_ns:
            SYSTEM.sleep((due_ns - now_ns - _WAKE_BEFORE_NS) / 1e9)
            if read_ns() - due_ns >= _WAKE_BEFORE_NS:
                self._sleep_above_ns = _NEVER_NS
        while (now := read_ns()) < due_ns:
            pass
        return now
