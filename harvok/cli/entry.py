"""Where the program starts: what Ctrl-C and SIGTERM do is settled before anything else is loaded.

While modules load there is nothing to keep, and the program leaves at once. While a command runs, the first signal is a
KeyboardInterrupt, which keeps what was measured and cleans up; whatever comes meanwhile is not heard, until somebody
insists. Every way out has the exit code of a test that was broken off.
"""

import gc
import os
import signal
from types import FrameType
from typing import Literal

from harvok.signals import heed_no_more, heeded, once_more_where_lost

_EXIT_CODE = 4
_INSISTS = 3
_NOTHING = b"error broken off at the keyboard\n  try Nothing was changed.\n"

_state: Literal["loading", "running", "ending"] = "loading"
_heard = 0


def _interrupt(number: int, frame: FrameType | None) -> None:  # noqa: ARG001
    global _state, _heard
    _heard += 1
    if _state == "running":
        _state = "ending"
        raise KeyboardInterrupt
    if _state == "loading":
        os.write(2, _NOTHING)
        os._exit(_EXIT_CODE)
    if _heard >= _INSISTS:
        os._exit(_EXIT_CODE)


def _was_lost() -> None:
    """The interrupt went nowhere: as if it had not come, until it comes once more."""
    global _state, _heard
    _state = "running"
    _heard -= 1


def command_begins() -> None:
    """From here on there is something to keep."""
    global _state
    gc.freeze()
    gc.enable()
    _state = "running"


def command_ended() -> None:
    """From here on there is only the rest to be said."""
    global _state
    _state = "ending"


def was_interrupted() -> bool:
    """Whether a signal came that ends the program."""
    return _heard > 0


def main() -> None:
    """Runs the program. Nothing that loads becomes garbage, so that looking for it is a twentieth of the start."""
    gc.disable()
    for number in heeded():
        signal.signal(number, _interrupt)
    once_more_where_lost(_interrupt, _was_lost)
    from harvok.cli.main import main as run

    try:
        run()
    finally:  # the interpreter takes its handlers down while it ends, and what it ignores it goes on ignoring
        heed_no_more()
