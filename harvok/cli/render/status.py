"""One line that says what goes on."""

from rich.console import Console
from rich.status import Status


class StatusLine:
    """Moves on a terminal, and is nothing elsewhere. To be closed at the end."""

    def __init__(self, console: Console) -> None:
        self._console = console
        self._status: Status | None = None

    def show(self, words: str) -> None:
        """What goes on now, in place of what did before."""
        self.close()
        if self._console.is_terminal:
            self._status = self._console.status(words)
            self._status.start()

    def close(self) -> None:
        if self._status:
            self._status.stop()
            self._status = None
