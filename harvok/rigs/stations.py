"""A pair of stations: this host as the near end, and a station somewhere as the far end."""

import contextlib
import socket
import threading
from collections.abc import Callable, Iterator, Sequence
from contextlib import AbstractContextManager
from dataclasses import dataclass, field, replace
from typing import Any, TypeVar

from harvok.clock import SYSTEM, Clock
from harvok.core.conditions import HostConditions, InterfaceCounters
from harvok.core.ends import SEND, TWO_WAY
from harvok.core.ethernet import IpVersion, ip_version_of
from harvok.core.link import Link, port_speed
from harvok.core.measures.clocks import offset_of
from harvok.core.observer import Observer, started
from harvok.core.samples import Sample
from harvok.core.tcp.foreign import Counted, with_foreign_share
from harvok.core.time_axis import ClockOffset, TimeAxis, by_near_clock, closer
from harvok.core.trials.app import AppInterval, AppStreamResult, AppSummary, AppTrial, AppTrialResult
from harvok.core.trials.delay import DelayTrial, DelayTrialResult, Echo
from harvok.core.trials.policy import CheckResult, PolicyCheck, PolicySummary
from harvok.core.trials.tcp import DirectionResult, TcpInterval, TcpSummary, TcpTrial, TcpTrialResult
from harvok.core.trials.udp import UdpDirectionResult, UdpSummary, UdpTrial, UdpTrialResult
from harvok.core.wire.stamp import AUTHENTICATED_BYTES
from harvok.errors import FarEndError, FlowBrokenError, HarvokError, StationLostError
from harvok.host.cpu import Meter
from harvok.host.facts import host_conditions, interface_counters
from harvok.rigs.probing import Probing
from harvok.signals import uninterrupted
from harvok.station.address import StationAddress, resolve
from harvok.station.client import StationClient, error_of
from harvok.station.contact import Access
from harvok.traffic.delay import DelaySession, StampProber
from harvok.traffic.sockets import Source, check_source
from harvok.traffic.table import AnyInterval, AnySummary, FlowTrial, open_near_end
from harvok.traffic.tcp import DataTarget
from harvok.traffic.trial_end import TrialEnd

_DRAIN_S = 10.0  # how much longer than asked the two halves may take before something is wrong
_DRAIN_AMOUNT_S = 3600.0  # an amount ends with its last byte, however slow the path is
_TELL_WHY_S = 2.0
_OPEN_S = 5.0
_CLOCK_PROBE = DelayTrial(packets=20, gap_s=0.005, wait_s=0.7)

SummaryT = TypeVar("SummaryT", TcpSummary, UdpSummary, AppSummary, PolicySummary)


@dataclass(frozen=True, slots=True)
class CommonStart:
    """That near ends of one `group` share the far end and begin together: their first trial at `at_ns` by this host's
    wall clock, each further one `every_s` later."""

    group: str
    at_ns: int
    every_s: float


@dataclass(frozen=True, slots=True)
class StationsSettings:
    """How to reach the far end, and as whom. `near_name` None takes this host's name."""

    station: str
    access: Access
    source: Source = field(default_factory=Source)
    ip_version: IpVersion | None = None
    near_name: str | None = None
    rated_bps: float | None = None
    stamp_key: bytes | None = None
    start: CommonStart | None = None


def _nothing() -> None:
    """For trials with nothing beside them."""


class StationsRig:
    """Runs trials between this host and a station that it holds for as long as the rig is open."""

    def __init__(self, settings: StationsSettings, clock: Clock = SYSTEM) -> None:
        self._settings = settings
        self._clock = clock
        self.address: StationAddress = resolve(settings.station, settings.ip_version)
        check_source(settings.source, self.address.host)
        self._client = StationClient(self.address, settings.access, settings.source, clock)
        self._delay_port: int | None = None
        self._trials_begun = 0
        self.near: HostConditions | None = None
        self.far: HostConditions | None = None

    def __enter__(self) -> "StationsRig":
        self._client.__enter__()
        return self

    def __exit__(self, *error: object) -> None:
        self._client.__exit__(*error)

    @property
    def ip_version(self) -> IpVersion:
        return ip_version_of(self.address.host)

    @property
    def client(self) -> StationClient:
        """What talks to the station."""
        return self._client

    def claim(self, planned_s: float, wait_s: float, notice: Callable[[str], None]) -> None:
        """Takes the station for this host, waiting up to `wait_s` for its turn."""
        start = self._settings.start
        name = self._settings.near_name or socket.gethostname()
        self._client.claim(name, planned_s, wait_s, notice, start.group if start else None)

    def read_conditions(self) -> tuple[HostConditions, HostConditions]:
        """The conditions of near and far end as they are now."""
        source = self._settings.source
        self.near = host_conditions(
            self.address.host,
            name=self._settings.near_name,
            source=source.address,
            interface=source.interface,
        )
        self.far = self._client.conditions()
        return self.near, self.far

    def counters(self) -> tuple[InterfaceCounters | None, InterfaceCounters | None]:
        """What the interfaces of near and far end have counted so far."""
        port = self.near.interface if self.near else None
        return interface_counters(port.name) if port else None, self._client.counters()

    def _counters_by_end(self) -> dict[str, InterfaceCounters]:
        """The counters of those ends whose interface is known and leads anywhere: loopback counts everything of this
        host, both ways at once."""
        if self.near and self.near.interface and self.near.interface.kind == "loopback":
            return {}
        return {end: counters for end, counters in zip(("near", "far"), self.counters(), strict=True) if counters}

    def try_data(self, trial: FlowTrial) -> None:
        """Opens the data connections of a trial and lets them go. Raises DataBlockedError when one does not open."""
        with self._near_end(trial):
            pass

    def probe(self, trial: DelayTrial) -> DelayTrialResult | None:
        """Asks the far end's reflector; None when it has none."""
        prober = self._prober(trial)
        if prober is None:
            return None
        with contextlib.closing(prober.sock):
            return DelaySession(prober, self._clock).run(trial)

    def _prober(self, trial: DelayTrial) -> StampProber | None:
        port = self.delay_port()
        if not port:
            return None
        settings = self._settings
        key_bytes = trial.payload_bytes if settings.stamp_key is None else max(trial.payload_bytes, AUTHENTICATED_BYTES)
        return StampProber((self.address.host, port), settings.source, settings.stamp_key, key_bytes)

    def link(self) -> Link:
        """What is known of the link: rated speed, and both ends' ports."""
        return Link(self._settings.rated_bps, port_speed(self.near), port_speed(self.far))

    def run(self, trial: FlowTrial, observer: Observer, origin_ns: int | None = None) -> Any:
        """Runs one trial, and answers with the result of its kind. Raises StationLostError, DataBlockedError,
        FlowBrokenError and their like.

        `origin_ns` is the origin of the time axis where this trial is part of another; None begins an axis of its own.
        """
        offset = self.clock_offset()
        axis = TimeAxis(origin_ns, offset) if origin_ns else None
        collected = _Collector(trial, observer, offset, axis)
        counted_before = self._counters_by_end() if trial.kind == "tcp" else {}
        if trial.kind == "app":
            return self._run_app(trial, collected, offset)
        summaries = self._flow(trial, collected)
        clock = closer(offset, self.clock_offset() if offset else None)
        if trial.kind == "tcp":
            after = self._counters_by_end()
            counted = {end: (before, after[end]) for end, before in counted_before.items() if end in after}
            return tcp_result(trial, collected.intervals, summaries, clock, counted)
        return udp_result(trial, summaries, clock)

    def _run_app(self, trial: AppTrial, collected: "_Collector", offset: ClockOffset | None) -> AppTrialResult:
        """Users, and what goes on beside them: services are part of the trial at both ends, probes this end's own."""
        with self._probing(trial.probes, collected) as probing:
            on_begin = probing.begin if probing else _nothing
            summaries = self._flow(replace(trial, probes=None), collected, on_begin)
            probes = probing.finish() if probing else None
        clock = closer(offset, self.clock_offset() if offset else None)
        services = udp_result(trial.services, summaries, clock) if trial.services else None
        policy = policy_result(trial.policy, summaries)
        return replace(app_result(trial, summaries), services=services, probes=probes, policy=policy)

    def _probing(self, trial: DelayTrial | None, collected: "_Collector") -> AbstractContextManager[Probing | None]:
        if trial is None:
            return contextlib.nullcontext()
        prober = self._prober(trial)
        if prober is None:
            raise FarEndError("the station has no reflector", "Start it without --delay-port 0, or leave delay out.")
        return Probing(prober, DelaySession(prober, self._clock), trial, collected.add_probe)

    def clock_offset(self) -> ClockOffset | None:
        """How far the far end's clock is ahead, by its reflector; exactly nothing where both ends are one machine."""
        if self.near and self.far and self.near.boot and self.near.boot == self.far.boot:
            return ClockOffset(0.0, 0.0)
        result = self.probe(_CLOCK_PROBE)
        return offset_of(result) if result else None

    def delay_port(self) -> int:
        """The UDP port of the far end's STAMP reflector; 0 when it has none."""
        if self._delay_port is None:
            self._delay_port = self._client.facts().delay_port or 0
        return self._delay_port

    def _flow(
        self, trial: FlowTrial, collected: "_Collector", on_begin: Callable[[], None] = _nothing
    ) -> list[AnySummary]:
        """Runs both halves of a trial; returns what each says of each direction. Calls `on_begin` as it begins."""
        with self._near_end(trial) as near:
            return self._run_ends(trial, near, collected, on_begin)

    @contextlib.contextmanager
    def _near_end(self, trial: FlowTrial) -> Iterator[TrialEnd]:
        """The near half of a trial that the far end has prepared, with every data connection open, for as long as it
        lasts."""
        prepared = self._client.prepare(trial)
        target = DataTarget(
            (self.address.host, prepared.data_port), bytes.fromhex(prepared.trial_id), bytes.fromhex(prepared.key)
        )
        try:
            near = open_near_end(trial, target, self._settings.source, self._clock)
            try:
                yield near
            finally:
                near.close()
        finally:
            self._release()

    def _run_ends(
        self, trial: FlowTrial, near: TrialEnd, collected: "_Collector", on_begin: Callable[[], None]
    ) -> list[AnySummary]:
        """Starts the halves so that nobody sends before the other end reads, and waits for both to be over."""
        self._await_start()
        near.begin("receiver", Meter, collected.add)
        self._client.start()
        far = _FarProgress(self._client, collected, near)
        if trial.kind == "app":  # what is tested may soon refuse new connections, those of control too
            far.wait_open(_OPEN_S)
            self._client.renew()
        near.begin("sender", Meter, collected.add)
        on_begin()
        try:
            near_over = near.wait(self._patience_s(trial))
        except FlowBrokenError:
            far.join(_TELL_WHY_S)  # a station that went away broke the flow, and is the better answer
            raise
        far.join(_DRAIN_S + trial.interval_s if trial.duration_s else _DRAIN_AMOUNT_S)
        if not near_over or far.goes_on:
            raise StationLostError("the test did not end in time", "See whether the path is up, and measure again.")
        return [*near.summaries(), *self._client.result().summaries]

    def _await_start(self) -> None:
        """Waits for the moment at which near ends begin together; one that is late begins at once."""
        start = self._settings.start
        if start:
            at_ns = start.at_ns + round(self._trials_begun * start.every_s * 1e9)
            self._trials_begun += 1
            self._clock.sleep(max((at_ns - self._clock.wall_ns()) / 1e9, 0.0))

    def _patience_s(self, trial: FlowTrial) -> float | None:
        return trial.duration_s + _DRAIN_S + trial.interval_s if trial.duration_s else None

    def _release(self) -> None:
        """Ends the far half; a station that is gone has nothing left to end."""
        try:
            self._client.release()
        except HarvokError:
            return


class _FarProgress:
    """Reads the station's progress in the background; a fault over there interrupts the near half."""

    def __init__(self, client: StationClient, collected: "_Collector", near: TrialEnd) -> None:
        self._client = client
        self._collected = collected
        self._near = near
        self._fault: HarvokError | None = None
        self._opened = threading.Event()
        self._thread = threading.Thread(target=self._read, daemon=True)
        with uninterrupted():
            self._thread.start()

    def wait_open(self, timeout_s: float) -> None:
        """Waits until the station has begun to tell, or has failed."""
        self._opened.wait(timeout_s)

    def join(self, timeout_s: float | None = None) -> None:
        """Waits for the end of the stream. Raises whatever ended it before its time."""
        self._thread.join(timeout_s)
        if self._fault:
            raise self._fault

    @property
    def goes_on(self) -> bool:
        """Whether the station still tells."""
        return self._thread.is_alive()

    def _read(self) -> None:
        over = False
        try:
            for message in self._client.progress(self._opened.set):
                if message.interval:
                    self._collected.add(message.interval)
                if message.fault:
                    self._fault = error_of(message.fault)
                over = message.over
            if not over:
                self._fault = self._fault or StationLostError(
                    "the station stopped telling how it goes", "See whether it still runs, and measure again."
                )
        except HarvokError as fault:
            self._fault = fault
        self._opened.set()
        if self._fault:
            self._near.interrupt()


class _Collector:
    """Puts what both ends tell on the trial's time axis, and passes it on at once.

    An axis of its own begins where the first half that tells something began.
    """

    def __init__(
        self, trial: FlowTrial, observer: Observer, clock: ClockOffset | None, axis: TimeAxis | None = None
    ) -> None:
        self._observer, self._clock = observer, clock
        self._services = trial if trial.kind == "udp" else trial.services if trial.kind == "app" else None
        self._axis = axis
        self._lock = threading.Lock()
        self.intervals: list[TcpInterval] = []
        """Those of TCP, whose analysis needs them whole."""

    def add(self, interval: AnyInterval) -> None:
        with self._lock:
            source = TWO_WAY[interval.direction].end_of(interval.role)
            began_s = self._axis_for(source, interval.began_ns).at_s(source, interval.began_ns)
            if isinstance(interval, (TcpInterval, AppInterval)):
                if isinstance(interval, TcpInterval):
                    self.intervals.append(interval)
                self._observer.samples(list(interval.samples(source, began_s)))
            else:
                assert self._services
                service = self._services.services[interval.service].name
                self._observer.samples(list(interval.samples(source, began_s, service)))

    def add_probe(self, began_ns: int, echo: Echo) -> None:
        """A delay probe of this end, whose first was sent at `began_ns`."""
        with self._lock:
            self._observer.samples(list(echo.samples(self._axis_for("near", began_ns).at_s("near", began_ns))))

    def _axis_for(self, source: str, began_ns: int) -> TimeAxis:
        if self._axis is None:
            origin_ns = by_near_clock(source, began_ns, self._clock) or SYSTEM.wall_ns()
            self._axis = TimeAxis(origin_ns, self._clock)
            self._observer.happened([started(origin_ns)])
            if self._clock:
                values = {"clock-ahead-s": self._clock.offset_s, "clock-error-s": self._clock.error_s}
                self._observer.samples([Sample(0.0, "far", quantity, value) for quantity, value in values.items()])
        return self._axis


def tcp_result(
    trial: TcpTrial,
    intervals: Sequence[TcpInterval],
    summaries: Sequence[AnySummary],
    clock: ClockOffset | None,
    counted: Counted,
) -> TcpTrialResult:
    """The halves of a TCP trial put together."""

    def of(direction: str, role: str) -> list[TcpInterval]:
        return [interval for interval in intervals if (interval.direction, interval.role) == (direction, role)]

    directions = [
        DirectionResult(
            direction=direction,
            sender_intervals=of(direction, "sender"),
            receiver_intervals=of(direction, "receiver"),
            sender=_one(TcpSummary, summaries, direction, "sender"),
            receiver=_one(TcpSummary, summaries, direction, "receiver"),
        )
        for direction in (stream.name for stream in trial.streams)
    ]
    return TcpTrialResult(with_foreign_share(directions, counted), clock)


def udp_result(trial: UdpTrial, summaries: Sequence[AnySummary], clock: ClockOffset | None) -> UdpTrialResult:
    """The halves of a UDP trial put together."""
    return UdpTrialResult(
        directions=[
            UdpDirectionResult(
                direction=direction,
                sender=_one(UdpSummary, summaries, direction, "sender") or UdpSummary(direction, "sender"),
                receiver=_one(UdpSummary, summaries, direction, "receiver") or UdpSummary(direction, "receiver"),
            )
            for direction in (stream.name for stream in trial.streams)
        ],
        clock=clock,
    )


def app_result(trial: AppTrial, summaries: Sequence[AnySummary]) -> AppTrialResult:
    """The ends of a trial of application traffic put together."""
    return AppTrialResult(
        [
            AppStreamResult(
                direction,
                _one(AppSummary, summaries, direction, "sender") or AppSummary(direction, "sender"),
                _one(AppSummary, summaries, direction, "receiver") or AppSummary(direction, "receiver"),
            )
            for direction in (stream.name for stream in trial.streams)
        ]
    )


def policy_result(checks: Sequence[PolicyCheck], summaries: Sequence[AnySummary]) -> list[CheckResult]:
    """The ends of policy checks put together. Of segments with odd flags the far end alone knows which passed."""
    near, far = (_one(PolicySummary, summaries, SEND.name, role) for role in ("sender", "receiver"))
    if near is None or far is None:
        return []
    results = []
    for check, here, there in zip(checks, near.checks, far.checks, strict=True):
        passed, blocked = here.passed, here.blocked
        if check.by == "flags":
            passed = min(there.arrived, here.tried)
            blocked = {"not-seen": here.tried - passed} if passed < here.tried else {}
        results.append(CheckResult(check, here.tried, passed, there.arrived, blocked))
    return results


def _one(kind: type[SummaryT], summaries: Sequence[AnySummary], direction: str, role: str) -> SummaryT | None:
    return next((s for s in summaries if isinstance(s, kind) and (s.direction, s.role) == (direction, role)), None)
