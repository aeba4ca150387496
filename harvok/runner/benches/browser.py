"""A browser that this host's station serves: the browser is the near end, this host the far one."""

from collections.abc import Callable, Iterator
from contextlib import contextmanager

from harvok.clock import Clock
from harvok.core.conditions import HostConditions
from harvok.core.ethernet import ip_version_of
from harvok.core.link import Link, port_speed
from harvok.core.models.run import RigRecord
from harvok.core.procedure import Context
from harvok.host.facts import host_conditions
from harvok.logbook.store import Logbook
from harvok.runner.benches.bench import Situation
from harvok.runner.request import BrowserPlace, TestRequest

UNTOLD = "kernel, CPU, network interface, negotiated speed, MTU, socket buffers: no browser tells"


class BrowserBench:
    """One visit, which runs once."""

    def __init__(self, request: TestRequest, place: BrowserPlace) -> None:
        self._request, self._place = request, place

    @contextmanager
    def situation(self, number: int, logbook: Logbook) -> Iterator[Situation]:
        visit, place = self._place.visit, self._place
        far = host_conditions(visit.address, name=place.station)
        asked = visit.asked
        near = HostConditions(
            name=f"{asked.browser or 'a browser'} on {asked.system or 'an unknown system'}",
            system=asked.system,
            kernel="",
            machine="",
            python="",
            harvok="",
            cores=asked.cores,
            local_address=visit.address,
            missing=[UNTOLD],
        )
        link = Link(place.rated_bps, None, port_speed(far))
        yield Situation(
            rig=visit,
            kept_as=RigRecord(station=place.station, address=visit.local_address, port=place.port, control="plain"),
            test=self._request.test,
            context=Context(link, ip_version_of(visit.address)),
            near=near,
            far=far,
            notices=[f"not told by a browser: {UNTOLD.partition(':')[0]}"],
        )


@contextmanager
def open_browser(request: TestRequest, notice: Callable[[str], None], clock: Clock) -> Iterator[BrowserBench]:
    """The bench of a visit that is there already."""
    place = request.place
    assert isinstance(place, BrowserPlace)
    yield BrowserBench(request, place)
