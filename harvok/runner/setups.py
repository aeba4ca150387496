"""Sets the device up before a step of a plan, sees that it took, and puts it back: before the next step, and at the end
of the plan, however that comes."""

import threading
from collections.abc import Callable, Sequence
from contextlib import ExitStack
from types import TracebackType

from harvok.core.events import PlannedEvent, parse_event
from harvok.core.kinds.step import Step
from harvok.errors import PlanError
from harvok.rigs.device_files import DeviceSettings
from harvok.runner.doers import Doers


class Setups:
    """A context manager. `prepare` is called before each step."""

    def __init__(self, device: DeviceSettings | None, notice: Callable[[str], None]) -> None:
        self._device, self._notice = device, notice
        self._step: Step | None = None

    def __enter__(self) -> "Setups":
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._put_back()

    def prepare(self, step: Step) -> None:
        """Puts the device back from the step before, and sets it up for this one. Raises what fails, and PlanError
        where it did not take."""
        self._put_back()
        if not step.setup:
            return
        self._step = step  # from here on it may have been changed
        output = self._do(step.setup)
        if step.check:
            output = self._do([step.check])
        if step.expect and step.expect not in output:
            asked = step.check or step.setup[-1]
            raise PlanError(
                f"the device is not set up for step '{step.name}': '{asked}' does not show '{step.expect}'",
                "See by hand what it shows; the device was put back.",
            )

    def _put_back(self) -> None:
        step, self._step = self._step, None
        if step and step.undo:
            self._do(step.undo)

    def _do(self, texts: Sequence[str]) -> str:
        """Does all of it, one after the other; returns what the last printed."""
        output = ""
        with ExitStack() as stack:
            doers = Doers(stack, None, self._device, self._notice, threading.Event())
            for text in texts:
                action = setup_action(text)
                output = doers.of(action.action, action.words)()
        return output


def setup_action(text: str) -> PlannedEvent:
    """What a line of a setup does: an event without its time. Raises UsageError."""
    return parse_event(f"0s: {text}")
