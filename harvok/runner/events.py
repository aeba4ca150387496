"""Does what was planned in mid-test, at its time, and says what it cost: a rig around the rig."""

import threading
from collections.abc import Callable, Iterator, Sequence
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass, replace

from harvok.clock import Clock
from harvok.core.device.trial import DeviceTrial
from harvok.core.drive import AnyRig
from harvok.core.events import EVENT, EVENT_ENDS, INTENDED, TOOK, PlannedEvent
from harvok.core.figures import Figure, FigureKey
from harvok.core.observer import ORIGIN, START, Observer
from harvok.core.outage import EventEvidence, cost_figures
from harvok.core.procedure import Findings
from harvok.core.samples import Event, Sample
from harvok.core.trials.any import Trial, TrialResult
from harvok.core.trials.counts import StreamCounts, stream_counts, traffic_ends_s
from harvok.core.trials.frames import FrameTrialResult
from harvok.core.units import format_duration
from harvok.errors import HarvokError
from harvok.rigs.device_files import DeviceSettings
from harvok.runner.doers import Do, Doers

_SPIN_NS = 2_000_000
"""A host that idles wakes a millisecond or two late: the last of a wait is spent awake."""


@dataclass(frozen=True, slots=True)
class _Due:
    """Something to do at a moment after the trial's origin; of two that belong to one event the second ends it."""

    at_s: float
    event: PlannedEvent
    do: Do
    ends: bool = False


class _Marks(Observer):
    """Passes everything on, one call at a time; keeps what came over time; and has the trial's beginning start the
    clock of its events."""

    def __init__(self, observer: Observer, begin: Callable[[int], None]) -> None:
        self._observer, self._begin = observer, begin
        self._lock = threading.RLock()
        self.seen = EventEvidence()

    def samples(self, samples: Sequence[Sample]) -> None:
        with self._lock:
            self.seen.add(samples)
            self._observer.samples(samples)

    def happened(self, events: Sequence[Event]) -> None:
        with self._lock:
            self._observer.happened(events)
        for event in events:
            if event.name == START:
                self._begin(int(event.values[ORIGIN] * 1e9))

    def device_told(self, told: DeviceTrial) -> None:
        with self._lock:
            self._observer.device_told(told)

    def notice(self, text: str) -> None:
        with self._lock:
            self._observer.notice(text)


class EventfulRig:
    """A rig on whose trials something is done on purpose. `figures` is what that cost; of a trial that was taken again
    the last counts."""

    def __init__(
        self,
        rig: AnyRig,
        plan: Sequence[_Due],
        events: Sequence[PlannedEvent],
        over: threading.Event,
        clock: Clock,
    ) -> None:
        self._rig, self._plan, self._events, self._clock = rig, plan, events, clock
        self._thread: threading.Thread | None = None
        self._over = over
        self._marks: _Marks | None = None
        self.figures: dict[FigureKey, Figure] = {}

    def run(self, trial: Trial, observer: Observer) -> TrialResult:
        """Runs a trial, with everything that was planned for it."""
        self._over.clear()
        self._thread = None
        self._marks = _Marks(observer, self._begin)
        try:
            result: TrialResult = self._rig.run(trial, self._marks)
        finally:
            self._over.set()
            if self._thread:
                self._thread.join()
        for figure in self._cost(stream_counts(trial, result), self._marks.seen, traffic_ends_s(trial)):
            self.figures[figure.key] = figure
        return _as_planned(result) if any(event.action == "link" for event in self._events) else result

    def add_to(self, findings: Findings) -> None:
        """What the events add to what a run has found."""
        findings.figures.extend(self.figures.values())

    def _begin(self, origin_wall_ns: int) -> None:
        """The trial's first traffic flows: events are counted from here."""
        if self._thread is None:
            origin_ns = self._clock.now_ns() - (self._clock.wall_ns() - origin_wall_ns)
            self._thread = threading.Thread(target=self._follow, args=(origin_ns,), name="events", daemon=True)
            self._thread.start()

    def _follow(self, origin_ns: int) -> None:
        """Does what is due, until all is done or the trial is over."""
        assert self._marks
        for due in self._plan:
            due_ns = origin_ns + int(due.at_s * 1e9)
            while (left_ns := due_ns - self._clock.now_ns()) > _SPIN_NS:
                if self._over.wait((left_ns - _SPIN_NS) / 1e9):
                    self._marks.notice(f"{due.event.title} was not done: the trial was over before")
                    return
            while self._clock.now_ns() < due_ns:
                pass
            self._do(due, origin_ns)

    def _do(self, due: _Due, origin_ns: int) -> None:
        assert self._marks
        began_ns, fault = self._clock.now_ns(), ""
        try:
            due.do()
        except HarvokError as error:
            fault = error.message
        ended_ns = self._clock.now_ns()
        # what a person does happens when the person says so
        at_s = ((ended_ns if due.event.action == "await" else began_ns) - origin_ns) / 1e9
        took_s = (ended_ns - began_ns) / 1e9
        labels = {"what": due.event.title} | ({"fault": fault} if fault else {})
        name = EVENT_ENDS if due.ends else EVENT
        self._marks.happened(
            [Event(round(at_s, 6), name, "near", labels, {INTENDED: due.at_s, TOOK: round(took_s, 6)})]
        )
        if fault:
            self._marks.notice(f"{due.event.title} at {format_duration(at_s)} failed: {fault}")

    def _cost(self, counts: Sequence[StreamCounts], seen: EventEvidence, traffic_ends: float) -> Iterator[Figure]:
        """What each event cost each direction; loss is the event's own where there is only one."""
        losses = {one.stream.name: (one.lost, one.offered_per_s) for one in counts}
        ends = [event.at_s for event in self._events[1:]] + [traffic_ends]
        for event, until_s in zip(self._events, ends, strict=True):
            for direction in dict.fromkeys([*losses, *seen.directions]):
                lost, offered = losses.get(direction, (None, 0.0))
                yield from cost_figures(
                    event, direction, seen, until_s, lost if len(self._events) == 1 else None, offered
                )


def _as_planned(result: TrialResult) -> TrialResult:
    """A result in which a link that was taken down on purpose spoils nothing."""
    if not isinstance(result, FrameTrialResult):
        return result
    return replace(result, ports=[replace(port, link_losses=0) for port in result.ports])


def _due(event: PlannedEvent, doers: Doers) -> Iterator[_Due]:
    """What an event comes to: what is taken down for a time is brought up again."""
    yield _Due(event.at_s, event, doers.of(event.action, event.words))
    if event.for_s is not None:
        yield _Due(event.ends_s, event, doers.undo(event), ends=True)


@contextmanager
def eventful(
    rig: AnyRig,
    inner: object,
    events: Sequence[PlannedEvent],
    device: DeviceSettings | None,
    notice: Callable[[str], None],
    clock: Clock,
) -> Iterator[EventfulRig]:
    """A rig whose trials have these events; whatever they need is opened beforehand, and links are brought up again at
    the end. `inner` is the rig itself, whose device's ports may be taken down. Raises UsageError for what cannot be
    done there."""
    with ExitStack() as stack:
        over = threading.Event()
        doers = Doers(stack, inner, device, notice, over)
        plan = [due for event in events for due in _due(event, doers)]
        yield EventfulRig(rig, sorted(plan, key=lambda due: due.at_s), events, over, clock)
