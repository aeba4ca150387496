"""A path to a reflector, which answers what it is sent; beside it, where wanted, a pair of stations that fill it."""

import threading
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from types import TracebackType

from harvok.clock import SYSTEM, Clock
from harvok.core.ends import TWO_WAY
from harvok.core.observer import Observer, started
from harvok.core.samples import INTERVAL_INDEX, Sample
from harvok.core.time_axis import TimeAxis
from harvok.core.trials.delay import DelayTrial, DelayTrialResult, Echo
from harvok.core.trials.tcp import TcpTrial, TcpTrialResult
from harvok.core.trials.udp import UdpTrial, UdpTrialResult
from harvok.core.udp.reading import read_trial
from harvok.core.udp.services import ServiceSpec
from harvok.errors import HarvokError, StationLostError, UsageError
from harvok.rigs.stations import StationsRig
from harvok.signals import uninterrupted
from harvok.traffic.delay import DelaySession, Prober
from harvok.traffic.table import FlowTrial

_LEAD_S = 2.0
"""How long the load runs before delay is measured: a start-up phase is not what users of the link feel."""
_TAIL_S = 0.5
_LOAD_FLOWS = 4
_LOAD_COMES_S = 30.0
_INTERVAL_S = 0.5


@dataclass(frozen=True, slots=True)
class LoadSettings:
    """How UDP fills the path: a rate of Ethernet frames, and their size."""

    load_bps: float | None = None
    frame_bytes: int = 1518


class ReflectedRig:
    """Runs delay trials. `prober` makes a fresh one for each; `stations` is None where no load can be made."""

    def __init__(
        self,
        prober: Callable[[], Prober],
        stations: StationsRig | None = None,
        load: LoadSettings = LoadSettings(),
        clock: Clock = SYSTEM,
    ) -> None:
        self._prober, self._stations, self._load, self._clock = prober, stations, load, clock

    def run(self, trial: DelayTrial, observer: Observer) -> DelayTrialResult:
        """Runs one trial, under its load if it names one. Raises whatever keeps the load from flowing."""
        axis = TimeAxis(self._clock.wall_ns())
        observer.happened([started(axis.origin_ns)])
        if not trial.load:
            return self._measure(trial, observer, axis)
        if self._stations is None:
            raise UsageError("a load needs a station at the far end", "Give the station's address and token.")
        one_at_a_time = _Serial(observer)
        with _Load(self._stations, self._load_trial(trial), axis, one_at_a_time) as load:
            load.wait_flowing()
            result = self._measure(trial, one_at_a_time, axis)
            return replace(result, load_bps=load.finish())

    def _measure(self, trial: DelayTrial, observer: Observer, axis: TimeAxis) -> DelayTrialResult:
        prober = self._prober()
        session = DelaySession(prober, self._clock)

        def pass_on(echo: Echo) -> None:
            observer.samples(list(echo.samples(axis.at_s("near", session.began_ns))))

        try:
            return session.run(trial, pass_on)
        finally:
            prober.sock.close()

    def _load_trial(self, trial: DelayTrial) -> FlowTrial:
        kind, _, way = trial.load.partition("-")
        stream = TWO_WAY[way]
        duration_s = _LEAD_S + trial.duration_s + _TAIL_S
        if kind == "tcp":
            return TcpTrial((stream,), _LOAD_FLOWS, duration_s, interval_s=_INTERVAL_S, tick_s=_INTERVAL_S / 5)
        assert self._stations
        if self._load.load_bps is None:
            raise UsageError("a UDP load needs its rate", "Give --load-rate, such as 900M.")
        service = ServiceSpec(self._load.load_bps, self._load.frame_bytes).at(1.0, self._stations.ip_version)
        return UdpTrial((service,), (stream,), duration_s, interval_s=_INTERVAL_S)


class _Serial(Observer):
    """Lets the load and the probe tell one observer, one call at a time."""

    def __init__(self, observer: Observer) -> None:
        self._observer, self._lock = observer, threading.Lock()

    def samples(self, samples: Sequence[Sample]) -> None:
        with self._lock:
            self._observer.samples(samples)


class _Load(Observer):
    """A trial between the stations that runs in the background, on the time axis of the trial that it loads."""

    def __init__(self, stations: StationsRig, trial: FlowTrial, axis: TimeAxis, observer: Observer) -> None:
        self._stations, self._trial, self._axis, self._observer = stations, trial, axis, observer
        self._intervals = 0
        self._flowing = threading.Event()
        self._fault: BaseException | None = None
        self._result: TcpTrialResult | UdpTrialResult | None = None
        self._thread = threading.Thread(target=self._run, daemon=True)

    def __enter__(self) -> "_Load":
        with uninterrupted():
            self._thread.start()
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._thread.join(0 if kind else None)

    def wait_flowing(self) -> None:
        """Waits until the load has flowed for a while. Raises what kept it from doing so."""
        if not self._flowing.wait(_LOAD_COMES_S) or self._fault:
            raise self._fault or StationLostError("the load never began to flow", "Measure the load alone first.")

    def finish(self) -> float:
        """Waits for the load's end; returns what it carried, in b/s of payload. Raises what broke it off."""
        self._thread.join()
        if self._fault:
            raise self._fault
        if self._trial.kind == "udp":
            assert isinstance(self._result, UdpTrialResult)
            readings = read_trial(self._trial, self._result, self._stations.ip_version)
            return sum(reading.goodput_bps for reading in readings)
        assert isinstance(self._result, TcpTrialResult)
        heard = self._result.directions[0].receiver
        return sum(heard.flow_bytes) * 8 / heard.elapsed_s if heard and heard.elapsed_s else 0.0

    def samples(self, samples: Sequence[Sample]) -> None:
        """Passes them on; the load flows when its receiver has told of intervals for long enough."""
        self._observer.samples(samples)
        last = samples[-1]
        if last.quantity == INTERVAL_INDEX and last.labels["role"] == "receiver":
            self._intervals += 1
            if self._intervals * _INTERVAL_S >= _LEAD_S:
                self._flowing.set()

    def _run(self) -> None:
        try:
            self._result = self._stations.run(self._trial, self, self._axis.origin_ns)
        except HarvokError as fault:
            self._fault = fault
        self._flowing.set()
