"""What a run tells while it goes on. Live view, plain lines, and the logbook's journal are observers of one driver."""

from collections.abc import Sequence
from dataclasses import dataclass

from harvok.core.device.trial import DeviceTrial
from harvok.core.ethernet import IpVersion
from harvok.core.figures import Figure
from harvok.core.link import Link
from harvok.core.samples import Event, Sample
from harvok.core.trials.any import Trial, TrialOutcome, TrialResult

START, ORIGIN = "start", "utc-s"
"""The event at the origin of a trial's time axis, when its first traffic flows; it carries the origin as seconds since
1970, by the near end's clock."""


def started(origin_ns: int) -> Event:
    """The event that begins a time axis, whose origin is by the near end's wall clock."""
    return Event(0.0, START, values={ORIGIN: origin_ns / 1e9})


@dataclass(frozen=True, slots=True)
class RunOutline:
    """What is known when a run begins: which of how many repeats, between whom, over what link, for about how long."""

    run: str
    number: int
    of: int
    near: str
    far: str
    link: Link
    ip_version: IpVersion
    expected_s: float | None = None


class Observer:
    """Hears everything; every method does nothing by default, so that an observer says only what it cares for."""

    def run_started(self, outline: RunOutline) -> None:
        """A run begins: one of the repeats that were asked for."""

    def trial_started(self, number: int, trial: Trial) -> None:
        """A trial begins; `number` counts from 1 within the run."""

    def samples(self, samples: Sequence[Sample]) -> None:
        """What one source saw, on the trial's time axis. May come from another thread, one call at a time."""

    def happened(self, events: Sequence[Event]) -> None:
        """What happened, on the trial's time axis; `START` is its origin. From any thread, one call at a time."""

    def device_told(self, told: DeviceTrial) -> None:
        """What the device under test counted over the trial that has just ended."""

    def trial_finished(self, number: int, result: TrialResult | TrialOutcome) -> None:
        """A trial ended and its result is whole; of a trial that another host ran, what a record keeps of it."""

    def found(self, figures: Sequence[Figure]) -> None:
        """Figures that are final while the run goes on: of a frame size that is done, say."""

    def notice(self, text: str) -> None:
        """Something that a person at the bench should know now."""


class Observers(Observer):
    """Passes everything on to several observers, in order."""

    def __init__(self, observers: Sequence[Observer]) -> None:
        self._observers = observers

    def run_started(self, outline: RunOutline) -> None:
        for observer in self._observers:
            observer.run_started(outline)

    def trial_started(self, number: int, trial: Trial) -> None:
        for observer in self._observers:
            observer.trial_started(number, trial)

    def samples(self, samples: Sequence[Sample]) -> None:
        for observer in self._observers:
            observer.samples(samples)

    def happened(self, events: Sequence[Event]) -> None:
        for observer in self._observers:
            observer.happened(events)

    def device_told(self, told: DeviceTrial) -> None:
        for observer in self._observers:
            observer.device_told(told)

    def trial_finished(self, number: int, result: TrialResult | TrialOutcome) -> None:
        for observer in self._observers:
            observer.trial_finished(number, result)

    def found(self, figures: Sequence[Figure]) -> None:
        for observer in self._observers:
            observer.found(figures)

    def notice(self, text: str) -> None:
        for observer in self._observers:
            observer.notice(text)
