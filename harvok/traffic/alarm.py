"""A timer that an epoll loop can wait for: epoll's own timeout is in whole milliseconds (timerfd_create(2))."""

import ctypes
import os
import struct

_CLOCK_MONOTONIC, _NONBLOCK, _CLOEXEC, _ABSOLUTE = 1, 0o4000, 0o2000000, 1  # uapi linux/timerfd.h
_SPEC = struct.Struct("=qqqq")


class Alarm:
    """One moment of the monotonic clock. Raises OSError where the kernel has no such timers."""

    def __init__(self) -> None:
        libc = ctypes.CDLL(None, use_errno=True)
        self._fd: int = libc.timerfd_create(_CLOCK_MONOTONIC, _NONBLOCK | _CLOEXEC)
        if self._fd < 0:
            code = ctypes.get_errno()
            raise OSError(code, os.strerror(code))
        self._set_time = libc.timerfd_settime
        self._spec = ctypes.create_string_buffer(_SPEC.size)
        self._due_ns = 0

    def fileno(self) -> int:
        """Readable once the moment has come, until the next one is set."""
        return self._fd

    def set(self, due_ns: int) -> None:
        """The next moment; one that has passed comes at once."""
        if due_ns == self._due_ns:
            return
        self._due_ns = due_ns
        seconds, rest = divmod(max(due_ns, 1), 1_000_000_000)
        _SPEC.pack_into(self._spec, 0, 0, 0, seconds, rest)
        self._set_time(self._fd, _ABSOLUTE, self._spec, None)

    def close(self) -> None:
        os.close(self._fd)
