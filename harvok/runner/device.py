"""Watches the device under test while trials run: a rig around the rig.

Before a trial and after it the counters of the device and of the tester's own ports are read, so that what was lost can
be located; in between they become samples on the trial's time axis.
"""

import threading
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from types import MappingProxyType
from typing import Any, Protocol, cast, runtime_checkable

from harvok.clock import Clock
from harvok.core.device.counters import PortRates, changes_between, has_moved
from harvok.core.device.location import Crossing, Loss, locate
from harvok.core.device.reading import DeviceReading, PortCounts
from harvok.core.device.trial import DeviceTrial, figures_of
from harvok.core.device.wiring import by_lldp, by_traffic
from harvok.core.drive import AnyRig
from harvok.core.ends import Stream
from harvok.core.models.device import DeviceRecord
from harvok.core.observer import ORIGIN, START, Observer
from harvok.core.procedure import Findings
from harvok.core.samples import Event, Sample
from harvok.core.trials.any import Trial, TrialResult
from harvok.core.trials.counts import stream_counts
from harvok.device.watch import DeviceWatch, Following
from harvok.host.port_counters import FramesCounted
from harvok.rigs.device_files import DeviceSettings

_AT_REST_S, _MAX_REST_S = 0.05, 12.0
"""Counters that are about the same twice, so long after one another, are at rest: the questions themselves may be among
what the device forwards. An agent that refreshes every ten seconds is waited for once."""
_LOOKS_OF_OTHERS = 20
"""Counters that move from each look to the next for a second count what others send: that does not end."""
_REFRESH_AND_MORE = 1.2
_UNSEEN_REFRESH_S = 6.0
"""How long is waited for the first change of counters that did not move while traffic flowed: agents that are known to
be slow refresh every one to five seconds."""


@runtime_checkable
class CountingRig(Protocol):
    """A rig that knows what its own ports counted, and between which two ports a stream goes."""

    def tester_counts(self) -> Mapping[str, FramesCounted]: ...

    def ports_of(self, stream: Stream) -> tuple[str, str]: ...


class Ticking(Protocol):
    """The part of a clock that is needed here; a modelled device has a clock of its own."""

    def now_ns(self) -> int: ...

    def wall_ns(self) -> int: ...

    def sleep(self, duration_s: float) -> None: ...


class _Axis(Observer):
    """Passes everything on, one call at a time, and adds the device's samples once the trial's axis has its origin."""

    def __init__(self, observer: Observer, watch: Following, clock: Ticking) -> None:
        self._observer, self._watch, self._clock = observer, watch, clock
        self._lock = threading.RLock()
        self._rates: PortRates | None = None
        self._last: DeviceReading | None = None
        self.readings: list[DeviceReading] = []
        self.at_start: Callable[[], None] | None = None

    def samples(self, samples: Sequence[Sample]) -> None:
        with self._lock:
            self._observer.samples(samples)

    def happened(self, events: Sequence[Event]) -> None:
        origin = next((event.values[ORIGIN] for event in events if event.name == START), None)
        if origin is not None and self.at_start:
            self.at_start()
        with self._lock:
            self._observer.happened(events)
            if origin is not None and self._rates is None:
                self._begin(self._clock.now_ns() - (self._clock.wall_ns() - int(origin * 1e9)))

    def notice(self, text: str) -> None:
        with self._lock:
            self._observer.notice(text)

    def reading(self, reading: DeviceReading) -> None:
        """The device has answered."""
        with self._lock:
            self._last = reading
            if self._rates is not None:
                self.readings.append(reading)
                self._observer.samples(self._rates.add(reading))

    def begins_now(self) -> None:
        """In virtual time a trial begins where it is asked for."""
        self._begin(self._clock.now_ns())

    def _begin(self, origin_ns: int) -> None:
        """The trial's first traffic flows."""
        self._watch.refresh.flows()
        self._rates = PortRates(origin_ns, self._watch.refresh)
        if self._last:
            self._rates.add(self._last)


@dataclass(frozen=True, slots=True)
class _Snapshot:
    """All counters at one time: of the tester's own ports, and of the device; None where it did not answer."""

    ours: Mapping[str, FramesCounted]
    device: DeviceReading | None


class WatchedDevice:
    """A rig whose device is watched. `trials` is what the device counted over each so far. `hardware_addresses` are
    those of the ends, by which LLDP knows them, where nobody has said which ports they are wired to."""

    def __init__(
        self,
        rig: AnyRig,
        watch: Following,
        settings: DeviceSettings,
        clock: Clock,
        hardware_addresses: Mapping[str, str] = MappingProxyType({}),
    ) -> None:
        self._rig, self._watch, self._settings = rig, watch, settings
        self._clock: Ticking = settings.model or clock
        self._before = _Snapshot({}, None)
        self._ports = dict(settings.ports) or by_lldp(watch.facts, hardware_addresses)
        self._guess = dict[str, str]()
        self.trials: list[DeviceTrial] = []

    def run(self, trial: Trial, observer: Observer) -> TrialResult:
        """Runs a trial, and tells what the device counted meanwhile; not of one that the next has to follow at once,
        since counters take their time."""
        if trial.kind == "frames" and trial.hurried:
            return cast(TrialResult, self._rig.run(trial, observer))
        axis = _Axis(observer, self._watch, self._clock)
        restarts, unanswered = self._watch.restarts, self._watch.unanswered
        self._before = self._snapshot()
        if self._before.device:
            axis.reading(self._before.device)
        axis.at_start = self._look_again
        self._watch.on_reading = axis.reading
        if self._settings.model:
            axis.begins_now()
        try:
            result: TrialResult = self._rig.run(trial, axis)
            self._watch.refresh.quiet()
            before = self._before.device
            after = self._at_rest(before) if before else None
        finally:
            self._watch.on_reading = None
        changes = changes_between(before, after) if before and after else {}
        remarks = list(self._find_ports(trial, result, changes))
        told = DeviceTrial(
            ports=changes,
            **_state(axis.readings),
            refresh_s=self._watch.refresh.period_s if self._watch.refresh.is_late else None,
            restarts=self._watch.restarts - restarts,
            unanswered=self._watch.unanswered - unanswered,
            losses=list(self._losses(trial, result, changes)),
            remarks=remarks,
        )
        self.trials.append(told)
        observer.device_told(told)
        return result

    def _snapshot(self) -> _Snapshot:
        ours = self._rig.tester_counts() if isinstance(self._rig, CountingRig) else {}
        return _Snapshot(ours, self._watch.read_now())

    def _look_again(self) -> None:
        """Just before the trial's own traffic flows, so that what the rig sent to be learnt is not among it. Not where
        the device has not counted that yet, since it tells its counters late."""
        before, refresh = self._before.device, self._watch.refresh
        if refresh.is_late:
            return
        now = self._snapshot()
        moved = before and now.device and now.device.ports != before.ports
        if now.device and (moved or refresh.is_fresh):
            self._before = now

    def add_to(self, findings: Findings) -> None:
        """What the device adds to what a run has found."""
        findings.figures.extend(figures_of(self.trials))

    def _at_rest(self, before: DeviceReading) -> DeviceReading | None:
        """A reading in which all that was sent is counted: after a refresh, of counters that no longer move."""
        refresh, waited_s = self._watch.refresh, 0.0
        if refresh.is_late:
            waited_s = _REFRESH_AND_MORE * (refresh.period_s or 0.0)
            self._clock.sleep(waited_s)
        last = self._watch.read_now()
        moves_s = _UNSEEN_REFRESH_S if refresh.period_s is None else _AT_REST_S
        since = last if refresh.may_be_late and last else before
        moving = 0
        while last and waited_s < _MAX_REST_S and moving < _LOOKS_OF_OTHERS:
            self._clock.sleep(_AT_REST_S)
            waited_s += _AT_REST_S
            now = self._watch.read_now()
            moved = now is None or has_moved(last, now)
            moving = moving + 1 if moved else 0
            unmoved = now is not None and not has_moved(since, now) and waited_s < moves_s
            last = now
            if not moved and not unmoved:
                break
        return last

    def _find_ports(self, trial: Trial, result: TrialResult, changes: Mapping[str, PortCounts]) -> Iterator[str]:
        """Finds which of the device's ports the ends are wired to, where nobody has said, by a trial in one direction;
        the next one confirms it."""
        counts = stream_counts(trial, result)
        if self._ports or len(counts) != 1:
            return
        (one,) = counts
        found = by_traffic(changes, *self._ends_of(one.stream), one.sent, one.received)
        if found and found == self._guess:
            self._ports = found
            ends = ", ".join(f'{end} = "{port}"' for end, port in found.items())
            yield f"by the frames that its ports counted in two trials {self._settings.name} is wired so: {ends}"
        self._guess = found

    def _ends_of(self, stream: Stream) -> tuple[str, str]:
        """The names of the ends that a stream joins, as the device's ports are wired to them."""
        return self._rig.ports_of(stream) if isinstance(self._rig, CountingRig) else (stream.source, stream.destination)

    def _losses(self, trial: Trial, result: TrialResult, changes: Mapping[str, PortCounts]) -> Iterator[Loss]:
        """Of frames, in each direction whose two ports carry no other."""
        rig, counts = self._rig, stream_counts(trial, result)
        if not isinstance(rig, CountingRig):
            return
        before, after = self._before.ours, rig.tester_counts()
        ends = [self._ends_of(one.stream) for one in counts]
        sources, destinations = [source for source, _ in ends], [destination for _, destination in ends]
        for (source, destination), one in zip(ends, counts, strict=True):
            entry, exit_ = self._ports.get(source, ""), self._ports.get(destination, "")
            alone = sources.count(source) == 1 and destinations.count(destination) == 1
            if not alone or entry not in changes or exit_ not in changes:
                continue
            out, back = _difference(before[source], after[source]), _difference(before[destination], after[destination])
            yield locate(
                Crossing(
                    direction=one.stream.name,
                    sent=one.sent,
                    received=one.received,
                    left=out.sent_frames,
                    arrived=back.received_frames,
                    arrived_bad=back.receive_errors,
                    dropped_here=out.send_drops,
                    entry_name=entry,
                    entry=changes[entry],
                    exit_name=exit_,
                    exit=changes[exit_],
                )
            )


def _difference(before: FramesCounted, after: FramesCounted) -> FramesCounted:
    return FramesCounted(*(getattr(after, name) - getattr(before, name) for name in FramesCounted.__slots__))


def _state(readings: Sequence[DeviceReading]) -> dict[str, Any]:
    """How the device was while a trial ran."""
    cpu = [share for reading in readings for share in reading.cpu]
    memory = [reading.memory for reading in readings if reading.memory is not None]
    celsius = [value for reading in readings for value in reading.temperatures_c]
    return {
        "cpu_max": max(cpu, default=None),
        "cpu_mean": sum(cpu) / len(cpu) if cpu else None,
        "memory_max": max(memory, default=None),
        "temperature_max_c": max(celsius, default=None),
    }


@contextmanager
def followed(settings: DeviceSettings | None) -> Iterator[Following | None]:
    """The device of some settings, followed; None where there is none. Raises DeviceSilentError, DeviceFileError."""
    if settings is None or settings.model:
        yield settings.model if settings else None
        return
    with DeviceWatch(settings.orders) as watch:
        yield watch


def record_of(watch: Following, settings: DeviceSettings) -> DeviceRecord:
    """The device as a record keeps it."""
    facts = watch.facts
    watched = [port for port in facts.ports if port.name in watch.watched]
    return DeviceRecord(
        name=settings.name,
        asked_by="model" if settings.model else settings.orders.access.version,
        every_s=watch.every_s,
        ports=settings.ports,
        facts=type(facts)(
            facts.description, facts.name, facts.object_id, facts.uptime_s, facts.firmware, watched, facts.wide
        ),
    )
