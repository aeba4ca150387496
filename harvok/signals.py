"""Keeps the signals that end the program away from moments that must not be cut in two."""

import contextlib
import signal
from collections.abc import Iterator

ENDING = (signal.SIGINT, signal.SIGTERM)


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
