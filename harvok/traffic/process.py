"""What worker processes do of themselves before they begin."""

import ctypes
import os
import sys
from collections.abc import Sequence

_PR_SET_TIMERSLACK, _TIMER_SLACK_NS = 29, 1000  # uapi linux/prctl.h


def enter(namespaces: Sequence[str]) -> None:
    """Joins namespaces, named by paths below /proc, in the order given."""
    libc = ctypes.CDLL(None, use_errno=True)
    for path in namespaces:
        fd = os.open(path, os.O_RDONLY)
        if libc.setns(fd, 0):
            code = ctypes.get_errno()
            raise OSError(code, os.strerror(code), path)
        os.close(fd)


def wake_precisely() -> None:
    """Lets this process sleep to the microsecond, where the system can."""
    if sys.platform == "linux":
        ctypes.CDLL(None).prctl(_PR_SET_TIMERSLACK, _TIMER_SLACK_NS)
