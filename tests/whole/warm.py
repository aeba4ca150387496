"""Starts of the program that do not load it again: three quarters of what a short command costs are imports.

A process that has the program loaded waits for orders, forks, and the child is the program: it has the arguments, the
environment, the folder and the pipes that were asked for, and goes in by the same entry. It becomes a child of the
process of the test, as if that had started it, since that is where the kernel sends orphans for a moment
(PR_SET_CHILD_SUBREAPER, prctl(2)); so it is waited for, signalled and accounted as any other.
"""

import atexit
import contextlib
import ctypes
import functools
import importlib
import json
import os
import pkgutil
import signal
import socket
import subprocess
import sys
import threading
from collections.abc import Iterator, Mapping, Sequence
from typing import Any

from harvok.signals import ENDING
from harvok.worker.child import enter_namespaces

_ORDER_BYTES = 1 << 18
_PR_SET_CHILD_SUBREAPER = 36
_LIBC = ctypes.CDLL(None, use_errno=True)
_LOADS = ("harvok.cli.", "harvok.host.", "harvok.runner.", "harvok.station.", "harvok.traffic.", "harvok.rigs.")
"""What the commands that measure load. Reports, plots and databases are left to the few that want them."""


class _Server:
    """The process that forks. One for each process of tests."""

    def __init__(self) -> None:
        ours, theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        self._orders, self._one_at_a_time = ours, threading.Lock()
        command = [sys.executable, "-P", __file__, str(theirs.fileno())]
        quiet = {"stdin": subprocess.DEVNULL, "stdout": subprocess.DEVNULL}
        self._process = subprocess.Popen(command, pass_fds=[theirs.fileno()], **quiet)  # type: ignore[call-overload]
        theirs.close()
        atexit.register(self._end)

    def start(
        self, words: Sequence[str], environment: Mapping[str, str], folder: str, room: str, pipes: Sequence[int]
    ) -> int:
        """Starts the program with pipes as its standard input, output and error; its process id."""
        order = json.dumps([list(words), dict(environment), folder, room]).encode()
        with self._one_at_a_time, _adopting():
            socket.send_fds(self._orders, [order], list(pipes))
            return int(self._orders.recv(64))

    def _end(self) -> None:
        self._orders.close()
        self._process.wait()


@functools.cache
def _server() -> _Server:
    return _Server()


@contextlib.contextmanager
def _adopting() -> Iterator[None]:
    """Orphans among this process's descendants become its children."""
    _LIBC.prctl(_PR_SET_CHILD_SUBREAPER, 1, 0, 0, 0)
    try:
        yield
    finally:
        _LIBC.prctl(_PR_SET_CHILD_SUBREAPER, 0, 0, 0, 0)


class WarmProcess(subprocess.Popen[str]):
    """The program, started so. Its arguments are those of a `subprocess.Popen` that asks for all three pipes. `room` is
    the network namespace that it runs in."""

    def __init__(self, words: Sequence[str], room: str = "", **options: Any) -> None:
        self._room = room
        super().__init__(words, **options)

    def _execute_child(self, *given: Any) -> None:
        """The order of what is given is that of subprocess.Popen, in every Python that Harvok runs on."""
        words, folder, environment, pipes = given[0], given[5], given[6], given[10:16]
        self.pid = _server().start(words, environment, str(folder or ""), self._room, (pipes[0], pipes[3], pipes[5]))
        self._child_created = True
        self._close_pipe_fds(*pipes)  # type: ignore[attr-defined]


def _serve(orders: socket.socket) -> list[str] | None:
    """Forks as it is asked to. Returns the arguments in a child that is to be the program, and None at the end."""
    while True:
        order, pipes, _, _ = socket.recv_fds(orders, _ORDER_BYTES, 3)
        if not order:
            return None
        reads, writes = os.pipe()
        between = os.fork()
        if not between:
            child = os.fork()
            if child:
                os.write(writes, str(child).encode())
                os._exit(0)
            os.close(reads)
            os.close(writes)
            orders.close()
            return _become(order, pipes)
        os.close(writes)
        os.waitpid(between, 0)
        orders.send(os.read(reads, 64))
        for used in (reads, *pipes):
            os.close(used)


def _become(order: bytes, pipes: Sequence[int]) -> list[str]:
    words, environment, folder, room = json.loads(order)
    for number, pipe in enumerate(pipes):
        os.dup2(pipe, number)
        os.close(pipe)
    os.environ.clear()
    os.environ.update(environment)
    if folder:
        os.chdir(folder)
    if room:
        enter_namespaces([f"/run/netns/{room}"])
    return [str(word) for word in words]


def _load() -> None:
    import harvok

    for module in pkgutil.walk_packages(harvok.__path__, "harvok."):
        if module.name.startswith(_LOADS) and not module.name.endswith("__main__"):
            importlib.import_module(module.name)


if __name__ == "__main__":
    for number in ENDING:  # the test that happened to be the first may ignore one of them, which children inherit
        signal.signal(number, signal.SIG_DFL)
    _load()
    if (found := _serve(socket.socket(fileno=int(sys.argv[1])))) is not None:
        from harvok.cli.entry import main

        signal.signal(signal.SIGINT, signal.default_int_handler)
        sys.argv = found
        main()
