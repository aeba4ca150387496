"""Which process measures a run, so that a run whose process died can be told from one that is under way."""

import os
import socket

import psutil


def this_process() -> str:
    """Host, process id and its start time: an id alone may have been given to another process since."""
    return f"{socket.gethostname()} {os.getpid()} {psutil.Process().create_time():.1f}"


def is_alive(owner: str) -> bool:
    """Whether the owner still runs. One on another host may, for all that can be seen from here."""
    host, _, rest = owner.partition(" ")
    if host != socket.gethostname():
        return True
    pid, _, started = rest.partition(" ")
    try:
        return f"{psutil.Process(int(pid)).create_time():.1f}" == started
    except (psutil.Error, ValueError):
        return False
