"""The consoles. Rich respects NO_COLOR and leaves control characters away where there is no terminal."""

from rich.console import Console

_PLAIN_WIDTH = 110  # where there is no terminal to ask, wide enough for every table of ours


def stdout() -> Console:
    """Standard output: results."""
    return _console(stderr=False)


def stderr() -> Console:
    """Standard error: errors, notices, and progress when standard output carries JSON."""
    return _console(stderr=True)


def _console(stderr: bool) -> Console:
    console = Console(stderr=stderr, highlight=False)
    if not console.is_terminal:
        console.width = max(console.width, _PLAIN_WIDTH)
    return console
