"""The side that starts workers, hears them, and makes sure that none is left behind."""

import contextlib
import json
import os
import select
import signal
import subprocess
import sys
from collections.abc import Iterator, Mapping, Sequence
from typing import Any

from harvok.errors import NearEndError, WorkerLostError

READY_S = 20.0
"""How long a worker may take to be ready: a loaded host takes seconds to start an interpreter, never this long."""
_END_S = 2.0
"""How long a worker whose input was closed may take to end before it is killed."""
_FAULT = b'{"fault"'


def module_command(module: str, *arguments: str) -> list[str]:
    """The command that runs a module of Harvok; -P, so that nothing is imported from the current folder."""
    return [sys.executable, "-P", "-m", module, *arguments]


class Worker:
    """One worker process. `fds` are file descriptors that its orders name."""

    def __init__(
        self, module: str, orders: str, fds: Sequence[int] = (), environment: Mapping[str, str] | None = None
    ) -> None:
        self._process = subprocess.Popen(
            module_command(module, orders),
            pass_fds=fds,
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            bufsize=0,
            start_new_session=True,  # a Ctrl-C at the terminal is for the parent, which then ends its workers
            env=os.environ | (environment or {}),
        )
        assert self._process.stdin and self._process.stdout
        self._stdin, self._stdout = self._process.stdin, self._process.stdout
        self._heard = b""

    @property
    def pid(self) -> int:
        return self._process.pid

    @property
    def runs(self) -> bool:
        return self._process.poll() is None

    @property
    def exit_code(self) -> int | None:
        """How it ended, as Popen tells it; None while it runs."""
        return self._process.poll()

    def fileno(self) -> int:
        """Readable when the worker said something, or ended; so that several can be waited for at once."""
        return self._stdout.fileno()

    def wait_ready(self, timeout_s: float = READY_S) -> Any:
        """Waits until the worker can begin at once, and returns what it said of itself. Raises NearEndError for what
        it could not do, and when it died or stays silent."""
        return self.hear(timeout_s)["ready"]

    def begin(self) -> None:
        """The word for which a ready worker waits."""
        self.tell(b"go\n")

    def tell(self, line: bytes) -> None:
        """Writes a line to the worker. Raises NearEndError when it died."""
        try:
            self._stdin.write(line)
        except BrokenPipeError as error:
            raise self._died() from error

    def hear(self, timeout_s: float) -> dict[str, Any]:
        """The next line. Raises NearEndError for what the worker could not do, and when it died or stays silent."""
        line: dict[str, Any] = json.loads(self.hear_line(timeout_s))
        return line

    def hear_line(self, timeout_s: float) -> bytes:
        """The same, as it was written."""
        line = self._next_line(timeout_s)
        if line is None:
            raise self._died()
        return line

    def lines(self) -> Iterator[dict[str, Any]]:
        """Every line that is still to come, until the worker ends or is ended; for a thread of its own. Raises
        NearEndError for what the worker could not do."""
        for line in self.raw_lines():
            yield json.loads(line)

    def raw_lines(self) -> Iterator[bytes]:
        """The same, as they were written."""
        with contextlib.suppress(OSError, ValueError):  # closed while it was ended
            while (line := self._next_line(None)) is not None:
                yield line

    def _next_line(self, timeout_s: float | None) -> bytes | None:
        """The next whole line; None when the worker has ended. Raises NearEndError for a fault, and for silence."""
        while b"\n" not in self._heard:
            if not select.select([self], [], [], timeout_s)[0]:
                raise NearEndError("a worker process says nothing", "This host may be overloaded; try again.")
            piece = os.read(self.fileno(), 1 << 16)
            if not piece:
                return None
            self._heard += piece
        line, _, self._heard = self._heard.partition(b"\n")
        if line.startswith(_FAULT):
            raise NearEndError(*json.loads(line)["fault"])
        return line

    def wait_code(self) -> int | None:
        """How a worker that closed its output ended; None when it has not within a moment."""
        with contextlib.suppress(subprocess.TimeoutExpired):
            return self._process.wait(_END_S)
        return None

    def close_input(self) -> None:
        """Asks the worker to end, without waiting for it; may be called again."""
        self._stdin.close()

    def end(self, timeout_s: float = _END_S) -> None:
        """Asks the worker to end, waits, and kills it when it does not; may be called again."""
        self.close_input()
        try:
            self._process.wait(timeout=timeout_s)
        except subprocess.TimeoutExpired:
            self._process.kill()
            self._process.wait()
        self._stdout.close()

    def kill(self) -> None:
        """Ends the worker at once."""
        self._process.kill()
        self.end()

    def _died(self) -> WorkerLostError:
        return died("a worker process", self.wait_code())


def died(which: str, code: int | None) -> WorkerLostError:
    """The error for a process that ended though nobody asked it to; `code` as Popen tells it, None where unknown."""
    how = "ended by itself" if code is None or code >= 0 else f"was killed ({signal.Signals(-code).name})"
    return WorkerLostError(
        f"{which} of the tester {how} in mid-test: this says nothing about the equipment",
        "See whether memory ran out (the kernel's log) or somebody ended it; then measure again.",
    )
