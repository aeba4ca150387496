"""What worker processes do of themselves before they begin."""

import ctypes
import os
import signal
import sys
from collections.abc import Sequence

_PR_SET_PDEATHSIG, _PR_SET_TIMERSLACK = 1, 29  # uapi linux/prctl.h
_TIMER_SLACK_NS = 1000


def enter(namespaces: Sequence[str]) -> None:
    """Joins namespaces, named by paths below /proc, in the order given."""
    libc = ctypes.CDLL(None, use_errno=True)
    for path in namespaces:
        fd = os.open(path, os.O_RDONLY)
        if libc.setns(fd, 0):
            code = ctypes.get_errno()
            raise OSError(code, os.strerror(code), path)
        os.close(fd)


def end_with_parent() -> None:
    """Has the kernel end this process with the one that started it, however that one ends: a worker that waits to be
    told to stop would wait for ever."""
    if sys.platform == "linux":
        ctypes.CDLL(None).prctl(_PR_SET_PDEATHSIG, signal.SIGKILL)


def wake_precisely() -> None:
    """Lets this process sleep to the microsecond, where the system can."""
    if sys.platform == "linux":
        ctypes.CDLL(None).prctl(_PR_SET_TIMERSLACK, _TIMER_SLACK_NS)
