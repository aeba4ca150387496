"""One browser's run: the rig on which its trials run. Orders go to the page as it asks for them, and what it saw comes
back; the transfers themselves come in on connections of their own."""

import secrets
import threading
from collections.abc import Callable
from dataclasses import asdict, dataclass, field
from typing import Any

from pydantic import Field

from harvok.clock import Clock
from harvok.core.bounds import Name
from harvok.core.ends import RECEIVE, SEND
from harvok.core.fields import Model
from harvok.core.observer import Observer, started
from harvok.core.samples import Sample
from harvok.core.trials.browser import BrowserTrial, BrowserTrialResult, PageReport
from harvok.core.trials.tcp import TcpInterval
from harvok.errors import BrowserLostError
from harvok.station.browser.flows import STATION_END, Flows

_SILENT_S = 10.0
"""A page asks something every tenth of a second, or waits for an answer that comes within a few."""
_FIRST_BYTE_S = 10.0
_LONGEST_POLL_S = 5.0
_POLL_S = 0.02


class VisitRequest(Model):
    """What a page says of itself: the place or device as its person calls it, and what the browser tells."""

    place: str = Field(min_length=1, max_length=60)
    browser: Name = ""
    system: Name = ""
    cores: int = Field(default=1, ge=1, le=4096)


@dataclass(slots=True)
class Ending:
    """How a visit ended, for its page: what was measured, or why not."""

    run: str = ""
    error: str = ""
    lines: list[dict[str, str]] = field(default_factory=list)
    responses: list[dict[str, str]] = field(default_factory=list)
    places: list[dict[str, str]] = field(default_factory=list)


class _Underway:
    """A trial that the page works on."""

    def __init__(self, number: int, trial: BrowserTrial, clock: Clock) -> None:
        self.number, self.trial = number, trial
        self.flows = {stream.name: Flows(stream, clock) for stream in trial.streams}
        self.over = False
        self.rates_bps: dict[str, float] = {}
        self.report: PageReport | None = None


class Visit:
    """A browser that measures. It is known by a random name; `keep` holds the station for it."""

    def __init__(self, asked: VisitRequest, address: str, local: str, keep: Callable[[], object], clock: Clock) -> None:
        self.asked, self.address, self.local_address = asked, address, local
        self.name = secrets.token_hex(16)
        self._keep, self._clock = keep, clock
        self._changed = threading.Condition()
        self._underway: _Underway | None = None
        self._count = 0
        self._heard_ns = clock.now_ns()
        self._ending: Ending | None = None

    # --- for the rig's driver ---

    def run(self, trial: BrowserTrial, observer: Observer) -> BrowserTrialResult:
        """Has the page work on one trial. Raises BrowserLostError when it falls silent."""
        self._count += 1
        now = _Underway(self._count, trial, self._clock)
        with self._changed:
            self._underway = now
            self._changed.notify_all()
        try:
            self._watch(now, observer)
            gaps = now.flows[SEND.name].gaps if SEND.name in now.flows else 0.0
        finally:
            now.over = True
            for flows in now.flows.values():
                flows.cut()
        self._wait(lambda: now.report is not None, _SILENT_S, "its page did not tell what it saw")
        results = [flows.result() for flows in now.flows.values()]
        return BrowserTrialResult(results, now.report or PageReport(), min(gaps, 1.0))

    def end(self, ending: Ending) -> None:
        """Says to the page how it ended."""
        with self._changed:
            self._ending, self._underway = ending, None
            self._changed.notify_all()

    # --- for the page ---

    def heard(self) -> None:
        """The page asked for something."""
        self._heard_ns = self._clock.now_ns()

    def next_order(self, after: int) -> dict[str, Any]:
        """What the page is to do after the trial of this number; empty where nothing is known yet."""
        with self._changed:
            self._changed.wait_for(lambda: self._order(after) is not None, _LONGEST_POLL_S)
            return self._order(after) or {}

    def live(self, number: int) -> dict[str, Any]:
        """How a trial goes: goodput by direction in b/s, and whether it is over."""
        now = self._underway
        if now is None or now.number != number:
            return {"over": True}
        return {"over": now.over, "rates": now.rates_bps}

    def flows_of(self, number: int, direction: str) -> Flows | None:
        """Where a transfer of a trial counts; None where that trial is not under way, or has no such direction."""
        now = self._underway
        return now.flows.get(direction) if now and now.number == number and not now.over else None

    def take_report(self, number: int, report: PageReport) -> bool:
        """What the page saw of a trial; False where it is of none that is under way."""
        with self._changed:
            now = self._underway
            if now is None or now.number != number or now.report is not None:
                return False
            now.report = report
            return True

    def _order(self, after: int) -> dict[str, Any] | None:
        now = self._underway
        if self._ending:
            return {"ended": asdict(self._ending)}
        if now is None or now.number <= after:
            return None
        trial = now.trial
        return {
            "number": now.number,
            "load": trial.load,
            "receive": RECEIVE in trial.streams,
            "send": SEND in trial.streams,
            "connections": trial.connections,
            "duration_s": trial.duration_s,
        }

    def _watch(self, now: _Underway, observer: Observer) -> None:
        """Samples until the trial's time is over."""
        every = list(now.flows.values())
        waiting = "no data flowed: its page could not open its connections"
        if every:
            self._wait(lambda: all(flows.began_ns for flows in every), _FIRST_BYTE_S, waiting)
        origin_ns = min((flows.began_ns for flows in every), default=self._clock.now_ns())
        observer.happened([started(self._clock.wall_ns() - (self._clock.now_ns() - origin_ns))])
        trial, number = now.trial, 0
        per_interval = max(round(trial.interval_s / trial.tick_s), 1)
        last = max(round(trial.duration_s / trial.tick_s), 1)
        while number < last:
            number += 1
            due_ns = origin_ns + int(number * trial.tick_s * 1e9)
            self._clock.sleep(max(due_ns - self._clock.now_ns(), 0) / 1e9)
            self._check()
            now.rates_bps = {flows.stream.name: flows.tick() for flows in every}
            if number % per_interval == 0 or number == last:
                for flows in every:
                    began_s = (flows.began_ns - origin_ns) / 1e9
                    for half in flows.close_interval():
                        observer.samples(_samples(half, began_s))

    def _wait(self, what: Callable[[], bool], seconds: float, otherwise: str) -> None:
        deadline_ns = self._clock.now_ns() + int(seconds * 1e9)
        while not what():
            self._check()
            if self._clock.now_ns() > deadline_ns:
                raise BrowserLostError(f"the browser did not go on: {otherwise}", _AGAIN)
            self._clock.sleep(_POLL_S)

    def _check(self) -> None:
        """Holds the station. Raises BrowserLostError for a page that fell silent."""
        self._keep()
        if self._clock.now_ns() - self._heard_ns > _SILENT_S * 1e9:
            raise BrowserLostError(f"the browser fell silent for {_SILENT_S:.0f} s", _AGAIN)


_AGAIN = "Keep the page open and in front while it measures, and look whether the device lost its network."


def _samples(half: TcpInterval, began_s: float) -> list[Sample]:
    source = STATION_END if half.role == "sender" or half.direction == SEND.name else "near"
    return list(half.samples(source, began_s))
