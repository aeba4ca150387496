"""Measures two-way delay to a reflector, idle and under load, and keeps every run in the logbook."""

from contextlib import ExitStack
from dataclasses import dataclass, field
from typing import Literal

from harvok.clock import SYSTEM, Clock
from harvok.core.drive import drive
from harvok.core.ethernet import IpVersion
from harvok.core.link import Link
from harvok.core.models.control import DEFAULT_CONTROL_PORT
from harvok.core.models.run import RigRecord
from harvok.core.observer import Observer, RunOutline
from harvok.core.procedures.delay import DelayFindings, DelayTest, delay_test
from harvok.core.wire.stamp import STAMP_PORT
from harvok.errors import FarEndError, UsageError
from harvok.host.facts import host_conditions
from harvok.logbook.store import Logbook
from harvok.rigs.reflected import LoadSettings, ReflectedRig
from harvok.rigs.stations import StationsRig, StationsSettings
from harvok.runner.journal import Journal
from harvok.runner.keeping import Found, Keeper, Label, OnRecord, new_record
from harvok.runner.lock import one_test_at_a_time
from harvok.station.client import parse_station, resolve
from harvok.traffic.delay import ProbeRoute, find_probe_route

_REFLECTOR_ABOVE = 2
_STATION_REFLECTOR_PORT = DEFAULT_CONTROL_PORT + _REFLECTOR_ABOVE
_AROUND_S = 5.0


@dataclass(frozen=True, slots=True)
class DelayRequest:
    """Everything that `harvok delay` was asked for. `port` None tries a station's reflector and the standard port;
    `by` None takes what answers. `stations.token` matters only under load."""

    stations: StationsSettings
    test: DelayTest
    logbook: str
    command: list[str]
    port: int | None = None
    by: Literal["stamp", "echo"] | None = None
    load: LoadSettings = field(default_factory=LoadSettings)
    label: Label = field(default_factory=Label)
    repeat: int = 1
    wait_s: float = 0.0


def run_delay(request: DelayRequest, observer: Observer, on_record: OnRecord, clock: Clock = SYSTEM) -> None:
    """Runs every repeat. Raises whatever broke it off, after its record was kept; SilentError when nothing answers."""
    with ExitStack() as stack:
        what = f"a delay measurement towards {request.stations.station}"
        stack.enter_context(one_test_at_a_time(what, request.wait_s, clock, observer.notice))
        logbook = Logbook(request.logbook)
        stack.callback(logbook.close)
        stations = _stations(request, stack, observer, clock) if request.test.loads else None
        host = (stations.address if stations else resolve(request.stations.station, request.stations.ip_version)).host
        way = _way(request, host, stations, clock)
        rig = ReflectedRig(way.make, stations, request.load, clock)
        keeper = Keeper(logbook, observer, on_record, clock)
        for number in range(request.repeat):
            _run_once(request, rig, keeper, number, host, way, stations)


def _stations(request: DelayRequest, stack: ExitStack, observer: Observer, clock: Clock) -> StationsRig:
    rig = stack.enter_context(StationsRig(request.stations, clock))
    planned_s = request.repeat * (request.test.expected_s + _AROUND_S)
    rig.claim(planned_s, request.wait_s, observer.notice)
    return rig


def reflector_port(request: DelayRequest) -> int | None:
    """The reflector's port where one was named: with its option or, unless a load needs the station's own, behind the
    target's name. Raises UsageError when both are given and differ."""
    target = request.stations.station
    if request.test.loads or not ("]:" in target or target.count(":") == 1):
        return request.port
    _, port = parse_station(target)
    if request.port not in (None, port):
        raise UsageError(f"{target} and --port {request.port} name different ports", "Give one of them.")
    return port


def reflector_of(station: str) -> int | None:
    """The reflector's port of a station that is named with its control port, two above it; None without one, when the
    usual ones are tried."""
    _, port = parse_station(station)
    return None if port == DEFAULT_CONTROL_PORT else port + _REFLECTOR_ABOVE


def _way(request: DelayRequest, host: str, stations: StationsRig | None, clock: Clock) -> ProbeRoute:
    settings, asked = request.stations, reflector_port(request)
    if request.by == "echo":
        ports: tuple[int, ...] = ()
    elif asked is not None:
        ports = (asked,)
    elif stations:
        port = stations.delay_port()
        if not port:
            raise FarEndError("the station has no reflector", "Start it without --delay-port 0, or give --by echo.")
        ports = (port,)
    else:
        ports = (_STATION_REFLECTOR_PORT, STAMP_PORT)
    told = asked is not None or settings.stamp_key is not None or request.by == "stamp"
    echo = request.by == "echo" or not told
    return find_probe_route(host, ports, settings.source, settings.stamp_key, request.test.trial, clock, echo)


def _run_once(
    request: DelayRequest,
    rig: ReflectedRig,
    keeper: Keeper,
    number: int,
    host: str,
    way: ProbeRoute,
    stations: StationsRig | None,
) -> None:
    source = request.stations.source
    if stations:
        near, far = stations.read_conditions()
        link = stations.link()
    else:
        name, local, interface = request.stations.near_name, source.address, source.interface
        near, far = host_conditions(host, name=name, source=local, interface=interface), None
        link = Link(request.stations.rated_bps)
    record = new_record(
        command=request.command,
        test=request.test,
        rig=RigRecord(station=request.stations.station, address=host, port=way.port),
        link=link,
        label=request.label,
        near=near,
        far=far,
        clock=keeper.clock,
    )
    version: IpVersion = 6 if ":" in host else 4
    far_name = far.name if far else request.stations.station
    outline = RunOutline(record.id, number + 1, request.repeat, near.name, far_name, record.link, version)
    keeper.observer.run_started(outline)

    def measure(everyone: Observer, _: Journal, found: Found) -> None:
        findings = DelayFindings()
        found["figures"] = findings.figures
        drive(delay_test(request.test, findings), rig, everyone)

    keeper.measure(record, measure)
