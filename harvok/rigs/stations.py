"""A pair of stations: this host as the near end, and a station somewhere as the far end."""

import socket
import threading
from collections.abc import Callable
from dataclasses import dataclass, field

from harvok.clock import SYSTEM, Clock
from harvok.core.ethernet import IpVersion
from harvok.core.link import Link, PortSpeed
from harvok.core.models.conditions import HostConditions
from harvok.core.observer import Observer
from harvok.core.trial import DirectionResult, HalfInterval, HalfSummary, TcpTrial, TcpTrialResult
from harvok.errors import FlowBrokenError, HarvokError, StationLostError
from harvok.host.cpu import Meter
from harvok.host.facts import host_conditions
from harvok.station.client import StationAddress, StationClient, error_of, resolve
from harvok.traffic.sockets import Source, check_source
from harvok.traffic.tcp import Door, TcpHalf, connect_flows

_DRAIN_S = 10.0  # how much longer than asked the two halves may take before something is wrong
_TELL_WHY_S = 2.0


@dataclass(frozen=True, slots=True)
class StationsSettings:
    """How to reach the far end, and as whom. `near_name` None takes this host's name."""

    station: str
    token: str
    source: Source = field(default_factory=Source)
    ip_version: IpVersion | None = None
    near_name: str | None = None
    rated_bps: float | None = None


class StationsRig:
    """Runs TCP trials between this host and a station that it holds for as long as the rig is open."""

    def __init__(self, settings: StationsSettings, clock: Clock = SYSTEM) -> None:
        self._settings = settings
        self._clock = clock
        self.address: StationAddress = resolve(settings.station, settings.ip_version)
        check_source(settings.source, self.address.host)
        self._client = StationClient(self.address, settings.token, settings.source, clock)
        self.near: HostConditions | None = None
        self.far: HostConditions | None = None

    def __enter__(self) -> "StationsRig":
        self._client.__enter__()
        return self

    def __exit__(self, *error: object) -> None:
        self._client.__exit__(*error)

    @property
    def ip_version(self) -> IpVersion:
        return 6 if ":" in self.address.host else 4

    def claim(self, planned_s: float, wait_s: float, notice: Callable[[str], None]) -> None:
        """Takes the station for this host, waiting up to `wait_s` for its turn."""
        self._client.claim(self._settings.near_name or socket.gethostname(), planned_s, wait_s, notice)

    def look(self) -> tuple[HostConditions, HostConditions]:
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

    def link(self) -> Link:
        """What is known of the link: rated speed, and both ends' ports."""
        return Link(self._settings.rated_bps, _port(self.near), _port(self.far))

    def run(self, trial: TcpTrial, observer: Observer) -> TcpTrialResult:
        """Runs one trial. Raises StationLostError, DataBlockedError, FlowBrokenError and their like."""
        collected = _Collector(observer.interval)
        prepared = self._client.prepare(trial)
        door = Door(
            (self.address.host, prepared.data_port), bytes.fromhex(prepared.trial_id), bytes.fromhex(prepared.key)
        )
        try:
            near = TcpHalf("near", trial, connect_flows(trial, door, self._settings.source), self._clock)
            try:
                summaries = self._run_halves(trial, near, collected)
            finally:
                near.close()
        finally:
            self._release()
        return collected.result(trial, summaries)

    def _run_halves(self, trial: TcpTrial, near: TcpHalf, collected: "_Collector") -> list[HalfSummary]:
        """Starts the halves so that nobody sends before the other end reads, and waits for both to be over."""
        near.begin("receiver", Meter, collected.add)
        self._client.start()
        near.begin("sender", Meter, collected.add)
        far = _FarProgress(self._client, collected, near)
        try:
            near_over = near.wait(self._patience_s(trial))
        except FlowBrokenError:
            far.join(_TELL_WHY_S)  # a station that went away broke the flow, and is the better answer
            raise
        far.join()
        if not near_over:
            raise StationLostError("the test did not end in time", "See whether the path is up, and measure again.")
        return [*near.summaries(), *self._client.result().summaries]

    def _patience_s(self, trial: TcpTrial) -> float | None:
        return trial.duration_s + _DRAIN_S + trial.interval_s if trial.duration_s else None

    def _release(self) -> None:
        """Ends the far half; a station that is gone has nothing left to end."""
        try:
            self._client.release()
        except HarvokError:
            return


class _FarProgress:
    """Reads the station's progress in the background; a fault over there interrupts the near half."""

    def __init__(self, client: StationClient, collected: "_Collector", near: TcpHalf) -> None:
        self._client = client
        self._collected = collected
        self._near = near
        self._fault: HarvokError | None = None
        self._thread = threading.Thread(target=self._read, daemon=True)
        self._thread.start()

    def join(self, timeout_s: float | None = None) -> None:
        """Waits for the end of the stream. Raises whatever ended it before its time."""
        self._thread.join(timeout_s)
        if self._fault:
            raise self._fault

    def _read(self) -> None:
        over = False
        try:
            for message in self._client.progress():
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
        if self._fault:
            self._near.interrupt()


class _Collector:
    """Gathers the intervals of both ends, and passes each on at once."""

    def __init__(self, observe: Callable[[HalfInterval], None]) -> None:
        self._observe = observe
        self._lock = threading.Lock()
        self._intervals: list[HalfInterval] = []

    def add(self, interval: HalfInterval) -> None:
        with self._lock:
            self._intervals.append(interval)
            self._observe(interval)

    def result(self, trial: TcpTrial, summaries: list[HalfSummary]) -> TcpTrialResult:
        return TcpTrialResult(
            directions=[
                DirectionResult(
                    direction=direction,
                    sender_intervals=[i for i in self._intervals if (i.direction, i.role) == (direction, "sender")],
                    receiver_intervals=[i for i in self._intervals if (i.direction, i.role) == (direction, "receiver")],
                    sender=_one(summaries, direction, "sender"),
                    receiver=_one(summaries, direction, "receiver"),
                )
                for direction in trial.directions
            ]
        )


def _one(summaries: list[HalfSummary], direction: str, role: str) -> HalfSummary | None:
    return next((s for s in summaries if (s.direction, s.role) == (direction, role)), None)


def _port(conditions: HostConditions | None) -> PortSpeed | None:
    if not conditions or not conditions.interface:
        return None
    port = conditions.interface
    return PortSpeed(port.name, port.negotiated_bps, loopback=port.kind == "loopback")
