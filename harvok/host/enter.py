"""Starts a program in a network namespace: `python -m harvok.host.enter NAMESPACE[:NAMESPACE…] PROGRAM …`.

Several are entered in order, such as a user namespace and then a network that belongs to it. Also gives the program a
view of /sys that shows the interfaces of that network, where this user may do so, and ends it with the process that
started it.
"""

import ctypes
import os
import signal
import sys

from harvok.worker.child import end_with_parent, enter_namespaces

_NEW_MOUNTS = 0x0002_0000
_PRIVATE, _RECURSIVE, _DETACH = 1 << 18, 1 << 14, 2


def enter(namespaces: list[str]) -> None:
    """Joins namespaces, named by paths below /proc."""
    end_with_parent(signal.SIGTERM)
    enter_namespaces(namespaces)
    libc = ctypes.CDLL(None, use_errno=True)
    if libc.unshare(_NEW_MOUNTS) == 0:
        libc.mount(b"none", b"/", None, _PRIVATE | _RECURSIVE, None)
        if libc.umount2(b"/sys", _DETACH) == 0:
            libc.mount(b"sysfs", b"/sys", b"sysfs", 0, None)


if __name__ == "__main__":
    enter(sys.argv[1].split(":"))
    os.execvp(sys.argv[2], sys.argv[2:])
