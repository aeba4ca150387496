"""One test at a time on a host: two at once would share CPU and link, and spoil each other's result."""

import contextlib
import os
from collections.abc import Callable, Iterator

from harvok.clock import Clock
from harvok.core.units import format_span
from harvok.errors import TestRunningError
from harvok.host.state import TEST_LOCK, open_state

_ASK_AGAIN_S = 0.5


@contextlib.contextmanager
def one_test_at_a_time(what: str, wait_s: float, clock: Clock, notice: Callable[[str], None]) -> Iterator[None]:
    """Holds this host for a test named `what`, waiting up to `wait_s` for its turn. Raises TestRunningError.

    The lock is the kernel's and goes with the process, however that ends. It holds off tests of this user: no user can
    keep others from testing. Where the system has no such locks, nothing is held.
    """
    try:
        import fcntl
    except ImportError:
        yield
        return
    fd = open_state(TEST_LOCK, os.O_RDWR | os.O_CREAT)
    try:
        deadline_ns, announced = clock.now_ns() + int(wait_s * 1e9), False
        while True:
            try:
                fcntl.flock(fd, fcntl.LOCK_EX | fcntl.LOCK_NB)
                break
            except OSError as error:
                holder = os.pread(fd, 200, 0).decode(errors="replace").strip() or "another test"
                if clock.now_ns() >= deadline_ns:
                    raise TestRunningError(
                        f"this host is busy with {holder}; two tests at once would spoil each other",
                        "Wait your turn with --wait 5min, or try again when it is done.",
                    ) from error
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
