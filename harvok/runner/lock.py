"""One test at a time on a host: two at once would share CPU and link, and spoil each other's result."""

import contextlib
import os
from collections.abc import Callable, Iterator

from harvok.clock import Clock
from harvok.core.units import format_span
from harvok.errors import TestRunningError
from harvok.host.state import TEST_LOCK, open_state, take_lock

_ASK_AGAIN_S = 0.5


@contextlib.contextmanager
def one_test_at_a_time(what: str, wait_s: float, clock: Clock, notice: Callable[[str], None]) -> Iterator[None]:
    """Holds this host for a test named `what`, waiting up to `wait_s` for its turn. Raises TestRunningError.

    It holds off tests of this user: no user can keep others from testing.
    """
    fd = open_state(TEST_LOCK, os.O_RDWR | os.O_CREAT)
    try:
        deadline_ns, announced = clock.now_ns() + int(wait_s * 1e9), False
        while not take_lock(fd):
            holder = os.pread(fd, 200, 0).decode(errors="replace").strip() or "another test"
            if clock.now_ns() >= deadline_ns:
                raise TestRunningError(
                    f"this host is busy with {holder}; two tests at once would spoil each other",
                    "Wait your turn with --wait 5min, or try again when it is done.",
                )
            if not announced:
                notice(f"this host is busy with {holder}; waiting up to {format_span(wait_s)}")
                announced = True
            clock.sleep(_ASK_AGAIN_S)
        _sign(fd, f"{what} (process {os.getpid()})")
        yield
    finally:
        os.close(fd)


def _sign(fd: int, text: str) -> None:
    with contextlib.suppress(OSError):  # the name of the holder is a courtesy; the lock itself is what counts
        os.ftruncate(fd, 0)
        os.pwrite(fd, text.encode(), 0)
