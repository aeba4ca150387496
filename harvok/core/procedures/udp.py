"""UDP tests: a load, a load in steps, the highest that arrives whole, or services in the manner of ITU-T Y.1564."""

from collections.abc import Generator, Iterator, Sequence
from dataclasses import dataclass, replace
from typing import ClassVar, Literal

from harvok.core.ends import AT_A_TIME, DirectionChoice, Stream
from harvok.core.ethernet import IpVersion, frame_bytes_of, max_frame_rate_fps
from harvok.core.figures import Figure, Mark, numbered
from harvok.core.procedure import Context, Findings, Procedure
from harvok.core.procedures.search import MAX_RETREATS, Attempt, Outcome, Range, guided, retreat
from harvok.core.trials.udp import UdpService, UdpTrial, UdpTrialResult
from harvok.core.udp.reading import HELD, UdpReading, figures_of, read_trial
from harvok.core.udp.services import ServiceSpec
from harvok.core.units import format_rate, format_share
from harvok.errors import TesterLimitError

STEP_SHARES = (0.25, 0.5, 0.75, 1.0)
"""Of the committed rate: the configuration test of ITU-T Y.1564 §8.1."""
ALL_TOGETHER = "all services"
_MIN_STEP_BACK = 0.1
"""A host that is short by little now may be short by more in a moment, and eight steps must reach well below."""
_NEAR = 0.95
"""Of what the tester could be made to hold: above, a result is the tester's as much as the path's, as with frames."""
_TRIES = 3
"""One spoiled trial is chance and two may be; a third says that the host does not hold this load now."""
_HELD_WITH_A_STALL = 0.8
"""A host that managed at least this share of a load had a stall, and may hold it next time; one that managed less twice
is too slow for it, and trying again would only take time."""


@dataclass(frozen=True, slots=True)
class _UdpTest:
    """What all UDP tests have: `trial` is the pattern whose services and streams are filled in."""

    direction: DirectionChoice
    trial: UdpTrial
    services: tuple[ServiceSpec, ...]
    _what: ClassVar[str] = "udp"

    @property
    def title(self) -> str:
        """What a list of runs shows."""
        return f"{self._what} {self.direction}"

    @property
    def ways(self) -> tuple[tuple[Stream, ...], ...]:
        """The streams of each pass."""
        return AT_A_TIME[self.direction]

    @property
    def expected_s(self) -> float:
        """How long the traffic will flow, in seconds."""
        return self._once_s * len(self.ways)

    @property
    def _once_s(self) -> float:
        return self.trial.duration_s


@dataclass(frozen=True, slots=True)
class UdpLoadTest(_UdpTest):
    """One trial at the rates of `services`."""

    kind: Literal["udp-load"] = "udp-load"


@dataclass(frozen=True, slots=True)
class UdpStepsTest(_UdpTest):
    """One trial at each of `shares` of the rates, or, when `continuous`, one trial in which they follow upon each other
    without a pause."""

    shares: tuple[float, ...] = (1.0,)
    continuous: bool = False
    kind: Literal["udp-steps"] = "udp-steps"
    _what: ClassVar[str] = "udp steps"

    @property
    def _once_s(self) -> float:
        return self.trial.duration_s * len(self.shares)


@dataclass(frozen=True, slots=True)
class UdpSearchTest(_UdpTest):
    """Looks for the highest rate up to that of the one service which loses no more than `loss_tolerance`, to within
    `resolution` of it."""

    resolution: float = 0.01
    loss_tolerance: float = 0.0
    kind: Literal["udp-search"] = "udp-search"
    _what: ClassVar[str] = "udp search"

    @property
    def _once_s(self) -> float:
        """About: a search takes four full trials and a few seconds of short ones."""
        return self.trial.duration_s * 4 + 6


@dataclass(frozen=True, slots=True)
class UdpServicesTest(_UdpTest):
    """Steps each service up alone, and then runs all together for `together_s` (ITU-T Y.1564 §8)."""

    together_s: float = 0.0
    kind: Literal["udp-services"] = "udp-services"
    _what: ClassVar[str] = "udp services"

    @property
    def _once_s(self) -> float:
        return self.trial.duration_s * len(STEP_SHARES) * len(self.services) + self.together_s


AnyUdpTest = UdpLoadTest | UdpStepsTest | UdpSearchTest | UdpServicesTest
UdpProcedure = Procedure[UdpTrial, UdpTrialResult]


def udp_load(test: UdpLoadTest, context: Context, findings: Findings) -> UdpProcedure:
    """One load in each direction."""
    (load,) = _loads(test, (1.0,))
    for pattern in _patterns(test):
        trial = replace(pattern, services=_at(test, 1.0, context), about=f"load {load}")
        _take(findings, read_trial(trial, (yield trial), context.ip_version), "")


def udp_steps(test: UdpStepsTest, context: Context, findings: Findings) -> UdpProcedure:
    """Each load in turn, in each direction."""
    for pattern in _patterns(test):
        if test.continuous:
            yield from _continuously(test, pattern, context, findings)
            continue
        for share, load in zip(test.shares, _loads(test, test.shares), strict=True):
            trial = replace(pattern, services=_at(test, share, context), about=f"load {load}")
            _take(findings, (yield from _measured(trial, context.ip_version)), load)


def udp_search(test: UdpSearchTest, context: Context, findings: Findings) -> UdpProcedure:
    """The highest rate without loss in each direction. Raises TesterLimitError when the tester holds no load."""
    for pattern in _patterns(test):
        yield from _search(test, pattern, context, findings)


def udp_services(test: UdpServicesTest, context: Context, findings: Findings) -> UdpProcedure:
    """Each service alone in steps up to its committed rate, then all at once (ITU-T Y.1564 §8.1, §8.2)."""
    for pattern in _patterns(test):
        for spec in test.services:
            for share in STEP_SHARES:
                about = f"{spec.name} at {format_share(share)}"
                trial = replace(pattern, services=(spec.at(share, context.ip_version),), about=about)
                _take(findings, (yield from _measured(trial, context.ip_version)), format_share(share))
        services = _at(test, 1.0, context)
        trial = replace(pattern, services=services, duration_s=test.together_s, about=ALL_TOGETHER)
        _take(findings, (yield from _measured(trial, context.ip_version)), ALL_TOGETHER)


def _patterns(test: AnyUdpTest) -> Iterator[UdpTrial]:
    """The trial of each pass, its streams filled in."""
    return (replace(test.trial, streams=streams) for streams in test.ways)


def _at(test: AnyUdpTest, share: float, context: Context) -> tuple[UdpService, ...]:
    """All services of a test at a share of their rates."""
    return tuple(spec.at(share, context.ip_version) for spec in test.services)


def _loads(test: AnyUdpTest, shares: Sequence[float]) -> list[str]:
    """Each load as figures are labelled."""
    return numbered(format_rate(share * sum(spec.rate_bps for spec in test.services)) for share in shares)


def _continuously(test: UdpStepsTest, pattern: UdpTrial, context: Context, findings: Findings) -> UdpProcedure:
    """All loads in one trial, each as a service with flows of its own that begins where the one before it ends."""
    loads, each_s = _loads(test, test.shares), pattern.duration_s
    services = tuple(
        replace(service, name=load, begins_s=number * each_s, lasts_s=each_s)
        for number, (share, load) in enumerate(zip(test.shares, loads, strict=True))
        for service in _at(test, share, context)
    )
    about = f"loads {loads[0]} to {loads[-1]} without a pause"
    trial = replace(pattern, services=services, duration_s=each_s * len(loads), about=about)
    for reading in (yield from _measured(trial, context.ip_version)):
        labels = {"direction": reading.direction, "load": reading.service.name}
        findings.figures.extend(figures_of(reading, labels))


def _measured(trial: UdpTrial, ip_version: IpVersion) -> Generator[UdpTrial, UdpTrialResult, list[UdpReading]]:
    """One of several trials, again after a stall of a host: that says nothing of the path, and should not cost the
    whole test. Of three tries with stalls the one with the fewest counts; what they touched is the tester's."""
    tries: list[tuple[int, list[UdpReading]]] = []
    for _ in range(_TRIES):
        readings = read_trial(trial, (yield trial), ip_version)
        managed = [_managed(reading) for reading in readings if reading.limiter.kind in _STALLS]
        tries.append((len(managed), readings))
        if not managed or min(managed) < _HELD_WITH_A_STALL:
            break
    return min(tries, key=lambda one: one[0])[1]


_STALLS = ("sending-host", "receiving-host")
"""What limits a trial where one of the hosts had no time for it just then."""


def _managed(reading: UdpReading) -> float:
    """The share of a load that the hosts at both ends managed: sent, and not dropped by the receiving socket."""
    return reading.offered_fps / reading.service.load_fps * (1 - reading.socket_drops / max(reading.sent, 1))


def _take(findings: Findings, readings: list[UdpReading], load: str) -> None:
    """Adds the figures of readings, and says where the tester fell short."""
    for reading in readings:
        labels: dict[str, str] = {"direction": reading.direction}
        labels |= {"service": reading.service.name} if reading.service.name else {}
        labels |= {"load": load} if load else {}
        findings.figures.extend(figures_of(reading, labels))
        if reading.foreign:
            findings.notices.append(f"{reading.foreign} datagrams ({reading.direction}) were not of this test")


def max_rate_bps(spec: ServiceSpec, line_rate_bps: float | None, ip_version: IpVersion) -> float:
    """The rate of a service, or what the line carries of its frames where that is less: preamble and gap take a part of
    the line rate. On layer 2."""
    if line_rate_bps is None:
        return spec.rate_bps
    frame_bytes = frame_bytes_of(spec.at(1.0, ip_version).payload_bytes, ip_version)
    return min(spec.rate_bps, max_frame_rate_fps(line_rate_bps, frame_bytes) * frame_bytes * 8)


def _search(test: UdpSearchTest, pattern: UdpTrial, context: Context, findings: Findings) -> UdpProcedure:
    """The highest rate that arrives whole, of what the line carries. Where the tester cannot hold a load, it searches
    below what it held."""
    spec, ip_version = test.services[0], context.ip_version
    highest_bps = max_rate_bps(spec, context.link.line_rate_bps, ip_version)
    max_bps, retreats = highest_bps, 0
    while True:
        attempts = _Attempts(test, pattern, spec, ip_version)
        try:
            found_bps = yield from attempts.search(max_bps)
            break
        except TesterLimitError as limit:
            if retreats == MAX_RETREATS:
                raise
            retreats, max_bps = retreats + 1, retreat(max_bps, limit.held_share, _MIN_STEP_BACK)
    by_tester = (retreats and found_bps > _NEAR * max_bps) or attempts.failed_by_tester
    mark: Mark = "tester-limit" if by_tester else ""
    payload = spec.at(1.0, ip_version).payload_bytes
    payload_share = payload / frame_bytes_of(payload, ip_version)
    open_bps = min(test.resolution * highest_bps, highest_bps - found_bps)
    for stream in pattern.streams:
        for quantity, scale in (("udp-throughput", 1.0), ("udp-throughput-goodput", payload_share)):
            figure = Figure(quantity, found_bps * scale, {"direction": stream.name}, mark, open_bps * scale)
            findings.figures.append(figure)
    if attempts.best:
        _take(findings, attempts.best, "highest without loss")


class _Attempts:
    """The trials of one search."""

    def __init__(self, test: UdpSearchTest, pattern: UdpTrial, spec: ServiceSpec, ip_version: IpVersion) -> None:
        self._test, self._pattern, self._spec, self._ip_version = test, pattern, spec, ip_version
        self.best: list[UdpReading] = []
        self.failed_by_tester = False

    def search(self, max_bps: float) -> Generator[UdpTrial, UdpTrialResult, float]:
        full_s = self._test.trial.duration_s
        search = guided(Range(max_bps, self._test.resolution * max_bps, full_s, min(1.0, full_s)))
        lowest_failed = float("inf")
        attempt = next(search)
        while True:
            readings = yield from self._try(attempt)
            loss = max(reading.loss for reading in readings)
            passed = loss <= self._test.loss_tolerance
            if passed and attempt.duration_s >= full_s:
                self.best = readings
            elif not passed and attempt.load < lowest_failed:
                lowest_failed = attempt.load
                self.failed_by_tester = any(reading.limiter.kind == "receiving-host" for reading in readings)
            try:
                attempt = search.send(Outcome(passed, attempt.load * (1 - loss)))
            except StopIteration as end:
                found: float = end.value
                return found

    def _try(self, attempt: Attempt) -> Generator[UdpTrial, UdpTrialResult, list[UdpReading]]:
        """One trial, again where the tester nearly held its load: where the sender stalled, or the receiver, whose
        socket then dropped what the path had carried. Raises TesterLimitError when the sender did not hold it; what the
        receiver dropped in each of three tries is the result of the one with the fewest."""
        share = attempt.load / self._spec.rate_bps
        trial = replace(
            self._pattern,
            services=(self._spec.at(share, self._ip_version),),
            duration_s=attempt.duration_s,
            interval_s=min(self._pattern.interval_s, attempt.duration_s),
            about=f"search at {format_rate(attempt.load)}",
        )
        best, short, dropped = 0.0, 0, list[list[UdpReading]]()
        for _ in range(_TRIES):
            readings = read_trial(trial, (yield trial), self._ip_version)
            held = min(reading.offered_fps / reading.service.load_fps for reading in readings)
            if held >= 1 - max(HELD, self._test.resolution / 2):
                if not self._only_dropped(readings):
                    return readings
                dropped.append(readings)
            best = max(best, held)
            short += min(map(_managed, readings)) < _HELD_WITH_A_STALL
            if short > 1:
                break
        if dropped:
            return min(dropped, key=lambda one: sum(reading.socket_drops for reading in one))
        limiter = next((one.limiter for one in readings if one.limiter.blame == "tester"), readings[0].limiter)
        raise TesterLimitError(limiter.evidence, limiter.advice, best)

    def _only_dropped(self, readings: list[UdpReading]) -> bool:
        """Whether the path carried everything, and the receiver's socket had no room for some of it."""
        failed = [reading for reading in readings if reading.loss > self._test.loss_tolerance]
        return bool(failed) and all(reading.limiter.kind == "receiving-host" for reading in failed)
