"""What a run tells while it goes on. Live view, plain lines, and the logbook's journal are observers of one driver."""

from collections.abc import Sequence
from dataclasses import dataclass

from harvok.core.ethernet import IpVersion
from harvok.core.link import Link
from harvok.core.trials.any import Trial, TrialResult
from harvok.core.trials.delay import Echo
from harvok.core.trials.frames import FrameProgress
from harvok.core.trials.link import LinkEvent
from harvok.core.trials.tcp import TcpInterval
from harvok.core.trials.udp import UdpInterval


@dataclass(frozen=True, slots=True)
class RunOutline:
    """What is known when a run begins: which of how many repeats, between whom, over what link."""

    run: str
    number: int
    of: int
    near: str
    far: str
    link: Link
    ip_version: IpVersion


class Observer:
    """Hears everything; every method does nothing by default, so that an observer says only what it cares for."""

    def run_started(self, outline: RunOutline) -> None:
        """A run begins: one of the repeats that were asked for."""

    def trial_started(self, number: int, trial: Trial) -> None:
        """A trial begins; `number` counts from 1 within the run."""

    def interval(self, half: TcpInterval) -> None:
        """One half of one direction finished an interval. May come from another thread, one call at a time."""

    def datagrams(self, interval: UdpInterval) -> None:
        """One service at one half of one direction finished an interval. From another thread, one call at a time."""

    def echo(self, echo: Echo) -> None:
        """A packet of a delay measurement was answered, or is given up."""

    def link_event(self, event: LinkEvent) -> None:
        """A port that is watched changed its state."""

    def progress(self, progress: FrameProgress) -> None:
        """Frames of one direction have come so far; a few times a second."""

    def trial_finished(self, number: int, result: TrialResult) -> None:
        """A trial ended and its result is whole."""

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

    def interval(self, half: TcpInterval) -> None:
        for observer in self._observers:
            observer.interval(half)

    def datagrams(self, interval: UdpInterval) -> None:
        for observer in self._observers:
            observer.datagrams(interval)

    def echo(self, echo: Echo) -> None:
        for observer in self._observers:
            observer.echo(echo)

    def link_event(self, event: LinkEvent) -> None:
        for observer in self._observers:
            observer.link_event(event)

    def progress(self, progress: FrameProgress) -> None:
        for observer in self._observers:
            observer.progress(progress)

    def trial_finished(self, number: int, result: TrialResult) -> None:
        for observer in self._observers:
            observer.trial_finished(number, result)

    def notice(self, text: str) -> None:
        for observer in self._observers:
            observer.notice(text)
