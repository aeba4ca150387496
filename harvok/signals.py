"""Keeps the signals that end the program away from moments that must not be cut in two."""

import contextlib
import signal
from collections.abc import Iterator

ENDING = tuple(getattr(signal, name) for name in ("SIGINT", "SIGTERM", "SIGHUP") if hasattr(signal, name))
"""What ends the program in good order: the keyboard, a supervisor, a terminal that closes."""

_HANG_UP = getattr(signal, "SIGHUP", None)


def heeded() -> list[signal.Signals]:
    """Those that this process heeds: one that was started to outlive its terminal (nohup) goes on when that closes."""
    return [number for number in ENDING if number != _HANG_UP or signal.getsignal(number) is not signal.SIG_IGN]


@contextlib.contextmanager
def uninterrupted() -> Iterator[None]:
    """A signal that comes meanwhile takes effect at the end.

    For starting a thread that somebody will join: one whose start was interrupted runs, and cannot be joined.
    """
    if not hasattr(signal, "pthread_sigmask"):
        yield
        return
    before = signal.pthread_sigmask(signal.SIG_BLOCK, ENDING)
    try:
        yield
    finally:
        signal.pthread_sigmask(signal.SIG_SETMASK, before)
