"""Keeps the signals that end the program away from moments that must not be cut in two, and from being lost."""

import contextlib
import signal
import sys
from collections.abc import Callable, Iterator
from types import FrameType

ENDING = tuple(getattr(signal, name) for name in ("SIGINT", "SIGTERM", "SIGHUP") if hasattr(signal, name))
"""What ends the program in good order: the keyboard, a supervisor, a terminal that closes."""

_HANG_UP, _ONCE_MORE = getattr(signal, "SIGHUP", None), getattr(signal, "SIGALRM", None)
_ONCE_MORE_S = 0.01
_ALL = tuple(filter(None, (*ENDING, _ONCE_MORE)))


def heeded() -> list[signal.Signals]:
    """Those that this process heeds: one that was started to outlive its terminal (nohup) goes on when that closes."""
    return [number for number in ENDING if number != _HANG_UP or signal.getsignal(number) is not signal.SIG_IGN]


def heed_no_more() -> None:
    """The work is done, and no signal is a reason to break anything off."""
    for number in _ALL:
        signal.signal(number, signal.SIG_IGN)


@contextlib.contextmanager
def uninterrupted() -> Iterator[None]:
    """A signal that comes meanwhile takes effect at the end.

    For starting a thread that somebody will join: one whose start was interrupted runs, and cannot be joined.
    """
    if not hasattr(signal, "pthread_sigmask"):
        yield
        return
    before = signal.pthread_sigmask(signal.SIG_BLOCK, _ALL)
    try:
        yield
    finally:
        signal.pthread_sigmask(signal.SIG_SETMASK, before)


def once_more_where_lost(
    handler: Callable[[int, FrameType | None], None], lost: Callable[[], None] = lambda: None
) -> None:
    """Calls a handler of signals again, a moment later, where the KeyboardInterrupt that it raised went nowhere, of
    which `lost` is told first.

    A signal may come while a finalizer runs, or while a C extension asks Python something (whether an object is of a
    class): these take no exceptions, and Python would print it and go on. For the main thread.
    """
    if not _ONCE_MORE:
        return
    others = sys.unraisablehook

    def hook(unraisable: "sys.UnraisableHookArgs") -> None:
        if not issubclass(unraisable.exc_type, KeyboardInterrupt):
            others(unraisable)
            return
        lost()
        signal.setitimer(signal.ITIMER_REAL, _ONCE_MORE_S)

    signal.signal(_ONCE_MORE, handler)
    sys.unraisablehook = hook
