"""The side of the worker. Workers start often and are to be ready soon, so nothing heavy is imported here."""

import contextlib
import ctypes
import json
import os
import signal
import sys
import threading
from collections.abc import Callable, Iterator, Sequence
from typing import Any

from harvok.errors import HarvokError
from harvok.signals import once_more_where_lost

_PR_SET_PDEATHSIG, _PR_SET_TIMERSLACK = 1, 29  # uapi linux/prctl.h
_TIMER_SLACK_NS = 1000
PRIORITY = -10
"""The nice value of a worker that must be on time, where the system grants it."""


def say(line: dict[str, Any]) -> None:
    """Writes a line to the parent, whole and at once. Ends this process, in order, where nobody is there any more to
    read it: what it has lent or changed is put back on the way out."""
    try:
        os.write(1, json.dumps(line).encode() + b"\n")
    except BrokenPipeError:
        raise SystemExit(0) from None


def say_ready(what: Any = True) -> None:
    """The worker can begin; `what` is all that the parent needs to know of it."""
    say({"ready": what})


def say_fault(message: str, hint: str) -> None:
    """The worker could not do what it was ordered."""
    say({"fault": [message, hint]})


def wait_begin() -> None:
    """Waits for the word to begin; ends this process when the parent ends it instead, or is gone."""
    if sys.stdin.buffer.readline() != b"go\n":
        os._exit(0)


def run(work: Callable[[str], None], hint: str = "") -> None:
    """Runs a worker on its orders. What stops it is said to the parent in one line; `hint` says what to do where the
    kernel refused."""
    try:
        work(sys.argv[1])
    except HarvokError as error:
        say_fault(error.message, error.hint)
    except OSError as error:
        say_fault(f"the kernel refused: {error.strerror or error}", hint)
    except Exception as error:  # whatever it is, the parent shows one sentence and no traceback
        say_fault(f"{type(error).__name__}: {error}", hint)


def break_off_at_end_of_input() -> None:
    """From now on, when who ordered this is gone or has had enough, the main thread gets a KeyboardInterrupt, as from a
    keyboard, and may end in good order."""
    main = threading.main_thread().ident  # which may be waiting for the kernel, and must be the one to be woken
    assert main

    def watch() -> None:
        while os.read(0, 4096):  # not by the buffer, which nothing else could be done with at the end of the process
            pass
        signal.pthread_kill(main, signal.SIGINT)

    once_more_where_lost(signal.default_int_handler)
    threading.Thread(target=watch, daemon=True).start()


def end_with_parent(how: signal.Signals = signal.SIGKILL) -> None:
    """Has the kernel end this process with the thread that started it, however that one ends. Not for a worker that a
    thread of a pool starts: it would be killed when the pool shrinks."""
    if sys.platform == "linux":
        ctypes.CDLL(None).prctl(_PR_SET_PDEATHSIG, how)


def enter_namespaces(paths: Sequence[str]) -> None:
    """Joins namespaces, named by paths below /proc, in the order given."""
    for path in paths:
        fd = os.open(path, os.O_RDONLY)
        enter_namespace(fd)
        os.close(fd)


@contextlib.contextmanager
def inside(paths: Sequence[str]) -> Iterator[None]:
    """Has this thread open its sockets in other namespaces; one without paths stays where it is."""
    if not paths:
        yield
        return
    before = os.open("/proc/thread-self/ns/net", os.O_RDONLY)
    try:
        enter_namespaces(paths)
        try:
            yield
        finally:
            enter_namespace(before)
    finally:
        os.close(before)


def enter_namespace(fd: int) -> None:
    """Joins the namespace of a descriptor."""
    libc = ctypes.CDLL(None, use_errno=True)
    if libc.setns(fd, 0):
        code = ctypes.get_errno()
        raise OSError(code, os.strerror(code))


def wake_precisely() -> None:
    """Lets this process sleep to the microsecond, where the system can."""
    if sys.platform == "linux":
        ctypes.CDLL(None).prctl(_PR_SET_TIMERSLACK, _TIMER_SLACK_NS)


def raise_priority() -> None:
    """Has the scheduler prefer this process to others, where it may (host.cpu.may_raise_priority). Not as a real-time
    process, which shuts out the rest of the kernel's work on a core, the network's with it."""
    with contextlib.suppress(OSError, AttributeError):
        os.setpriority(os.PRIO_PROCESS, 0, PRIORITY)
