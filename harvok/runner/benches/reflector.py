"""A path to a reflector, and beside it, where a load is to fill the path, a pair of stations."""

from collections.abc import Callable, Iterator
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass

from harvok.clock import Clock
from harvok.core.ethernet import ip_version_of
from harvok.core.link import Link
from harvok.core.models.control import DEFAULT_CONTROL_PORT
from harvok.core.models.run import RigRecord
from harvok.core.procedure import Context
from harvok.core.procedures.delay import DelayTest
from harvok.core.wire.stamp import STAMP_PORT
from harvok.errors import FarEndError, UsageError
from harvok.host.facts import host_conditions
from harvok.logbook.store import Logbook
from harvok.rigs.reflected import ReflectedRig
from harvok.rigs.stations import StationsRig
from harvok.runner.benches.bench import Situation
from harvok.runner.benches.stations import planned_s
from harvok.runner.lock import one_test_at_a_time
from harvok.runner.request import ReflectorPlace, TestRequest
from harvok.station.address import parse_station, resolve
from harvok.traffic.delay import ProbeRoute, find_probe_route

_REFLECTOR_ABOVE = 2
_STATION_REFLECTOR_PORT = DEFAULT_CONTROL_PORT + _REFLECTOR_ABOVE


@dataclass(frozen=True, slots=True)
class ReflectorBench:
    """The reflector that answers, at `host`, by `route`; `stations` is None where no load is asked for."""

    test: DelayTest
    place: ReflectorPlace
    host: str
    route: ProbeRoute
    rig: ReflectedRig
    stations: StationsRig | None

    @contextmanager
    def situation(self, number: int, logbook: Logbook) -> Iterator[Situation]:
        settings, version = self.place.stations, ip_version_of(self.host)
        if self.stations:
            near, far = self.stations.read_conditions()
            link = self.stations.link()
        else:
            name, source = settings.near_name, settings.source
            near = host_conditions(self.host, name=name, source=source.address, interface=source.interface)
            far, link = None, Link(settings.rated_bps)
        kept_as = RigRecord(station=settings.station, address=self.host, port=self.route.port)
        notices = list(_silence_notices(self.route))
        yield Situation(self.rig, kept_as, self.test, Context(link, version), near, far, notices=notices)


@contextmanager
def open_reflector(request: TestRequest, notice: Callable[[str], None], clock: Clock) -> Iterator[ReflectorBench]:
    """Finds what answers. Raises SilentError when nothing does, and what keeps a load from being made."""
    place, test = request.place, request.test
    assert isinstance(place, ReflectorPlace) and isinstance(test, DelayTest)
    with ExitStack() as stack:
        what = f"a delay measurement towards {place.stations.station}"
        stack.enter_context(one_test_at_a_time(what, request.wait_s, clock, notice))
        stations = None
        if test.loads:
            stations = stack.enter_context(StationsRig(place.stations, clock))
            stations.claim(planned_s(request), request.wait_s, notice)
        address = stations.address if stations else resolve(place.stations.station, place.stations.ip_version)
        route = _route(place, test, address.host, stations, clock)
        rig = ReflectedRig(route.make, stations, place.load, clock)
        yield ReflectorBench(test, place, address.host, route, rig, stations)


def _silence_notices(route: ProbeRoute) -> Iterator[str]:
    """Echo takes over without being asked, and means something else."""
    if route.silent and not route.port:
        ports = " and ".join(map(str, route.silent))
        yield (
            f"no STAMP reflector answered on UDP port {ports}, so ICMP echo is measured instead: it tells no one-way "
            "figures, and routers answer it when they have nothing else to do; start `harvok station` there, or let "
            "these ports through"
        )


def reflector_port(place: ReflectorPlace, test: DelayTest) -> int | None:
    """The reflector's port where one was named: with its option or, unless a load needs the station's own, behind the
    target's name. Raises UsageError when both are given and differ."""
    target = place.stations.station
    if test.loads or not ("]:" in target or target.count(":") == 1):
        return place.port
    _, port = parse_station(target)
    if place.port not in (None, port):
        raise UsageError(f"{target} and --port {place.port} name different ports", "Give one of them.")
    return port


def reflector_of(station: str) -> int | None:
    """The reflector's port of a station that is named with its control port, two above it; None without one, when the
    usual ones are tried."""
    _, port = parse_station(station)
    return None if port == DEFAULT_CONTROL_PORT else port + _REFLECTOR_ABOVE


def _route(place: ReflectorPlace, test: DelayTest, host: str, stations: StationsRig | None, clock: Clock) -> ProbeRoute:
    settings, asked = place.stations, reflector_port(place, test)
    if place.by == "echo":
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
    only_stamp = asked is not None or settings.stamp_key is not None or place.by == "stamp"
    echo = place.by == "echo" or not only_stamp
    return find_probe_route(host, ports, settings.source, settings.stamp_key, test.trial, clock, echo)
