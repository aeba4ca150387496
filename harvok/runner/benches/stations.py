"""A pair of stations: this host and one that it holds meanwhile."""

import os
from collections.abc import Callable, Iterator
from contextlib import ExitStack, contextmanager
from dataclasses import replace

from harvok.clock import Clock
from harvok.core.ethernet import ip_version_of
from harvok.core.gateway import client_addresses
from harvok.core.kinds.table import kind_of
from harvok.core.models.impairment import ImpairmentRecord
from harvok.core.models.preflight import quick_checks
from harvok.core.models.rig import RIG_FILE, PortsRig, SimulatedRig, VirtualRig
from harvok.core.models.run import RigRecord
from harvok.core.procedure import Context
from harvok.core.tcp.notices import link_notices
from harvok.logbook.store import Logbook
from harvok.rigs.device_files import DeviceSettings
from harvok.rigs.device_files import settings_of as watched_settings
from harvok.rigs.stations import StationsRig, StationsSettings
from harvok.rigs.virtual import settings_of
from harvok.runner.benches.bench import Situation
from harvok.runner.calibration import with_app_calibration
from harvok.runner.impair import at_work
from harvok.runner.lock import one_test_at_a_time
from harvok.runner.namespaced import BUILT_AGENT, BUILT_RIG
from harvok.runner.request import TestRequest
from harvok.station.address import resolve

_AROUND_A_RUN_S = 2.0  # connecting, starting workers, letting go: only to tell others when the station is free
_NO_DURATION_GUESS_S = 60.0


def planned_s(request: TestRequest) -> float:
    """How long all repeats should take, in seconds."""
    once_s = (request.test.expected_s or _NO_DURATION_GUESS_S) + _AROUND_A_RUN_S
    return request.repeat * once_s + (request.repeat - 1) * request.pause_s


class StationsBench:
    """The rig of two stations, claimed for this host."""

    def __init__(self, request: TestRequest, settings: StationsSettings, rig: StationsRig) -> None:
        self._request, self._settings, self._rig = request, settings, rig

    @contextmanager
    def situation(self, number: int, logbook: Logbook) -> Iterator[Situation]:
        rig, test = self._rig, self._request.test
        near, far = rig.read_conditions()
        link, impairment = rig.link(), at_work()
        calibrated = with_app_calibration(test, near, far, logbook)
        yield Situation(
            rig=rig,
            kept_as=RigRecord(
                station=self._settings.station,
                address=rig.address.host,
                port=rig.address.port,
                control="plain" if self._settings.access.plain else "TLS 1.3",
                device=_built_rig(),
            ),
            test=calibrated.test,
            context=Context(link, rig.ip_version),
            near=near,
            far=far,
            notices=[
                *link_notices(link),
                *_impairment_notices(impairment),
                *kind_of(test).host_notices(test, near, far),
            ],
            preflight=quick_checks(near, far, link),
            impairment=impairment,
            calibration=calibrated.run,
            device=_built_device(),
        )


@contextmanager
def open_stations(request: TestRequest, notice: Callable[[str], None], clock: Clock) -> Iterator[StationsBench]:
    """Takes this host and the station for a request, waiting for its turn. Raises TestRunningError, BusyError."""
    settings = request.place
    assert isinstance(settings, StationsSettings)
    settings = _with_clients(settings)
    with ExitStack() as stack:
        what = f"a test towards {settings.station}"
        stack.enter_context(one_test_at_a_time(what, request.wait_s, clock, notice))
        rig = stack.enter_context(StationsRig(settings, clock))
        rig.claim(planned_s(request), request.wait_s, notice)
        yield StationsBench(request, settings, rig)


def _with_clients(settings: StationsSettings) -> StationsSettings:
    """The same, with the addresses of clients that a rig has which was built for this test."""
    rig = _built_rig()
    if not isinstance(rig, VirtualRig) or rig.clients == 1:
        return settings
    version = ip_version_of(resolve(settings.station, settings.ip_version).host)
    return replace(settings, source=replace(settings.source, clients=client_addresses(rig.clients, version)))


def _built_rig() -> VirtualRig | PortsRig | None:
    """What is between the ends, where they were made for this very test."""
    built = os.environ.get(BUILT_RIG)
    rig = RIG_FILE.validate_json(built) if built else None
    return None if isinstance(rig, SimulatedRig) else rig


def _built_device() -> DeviceSettings | None:
    """How the device is asked between the ends, where those were made for this test."""
    rig, port = _built_rig(), int(os.environ.get(BUILT_AGENT, "0"))
    settings: DeviceSettings | None
    if isinstance(rig, PortsRig) and rig.watched:
        settings = watched_settings(rig.watched)
    elif isinstance(rig, VirtualRig) and port:
        settings = settings_of(port, rig)
    else:
        return None
    names = dict(zip(rig.port_names, ("near", "far"), strict=False))
    ends = {names.get(end, end): port_name for end, port_name in settings.ports.items()} if settings else {}
    return replace(settings, ports=ends) if settings else None


def _impairment_notices(impairment: ImpairmentRecord | None) -> list[str]:
    """Says when a path may be impaired on purpose: whoever reads the run next year must know."""
    if impairment is None:
        return []
    between = " and ".join(impairment.ports)
    return [f"the impairment '{impairment.impairment.name}' is active on this host, at {between}"]
