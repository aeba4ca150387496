"""Users at one end and a service at the other: two stations, or a model of what is between them."""

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass

from harvok.clock import Clock
from harvok.core.link import Link
from harvok.core.models.rig import SimulatedRig
from harvok.core.models.run import SimulatedRigRecord
from harvok.core.procedure import Context, Test
from harvok.errors import UsageError
from harvok.logbook.store import Logbook
from harvok.rigs.simulated_gateway import GatewayModel, SimulatedGateway
from harvok.rigs.stations import StationsSettings
from harvok.runner.benches.bench import Bench, Situation, this_host
from harvok.runner.benches.stations import open_stations
from harvok.runner.request import RigPlace, TestRequest


@dataclass(frozen=True, slots=True)
class ModelBench:
    """A modelled gateway: nothing is sent."""

    test: Test
    file: SimulatedRig

    @contextmanager
    def situation(self, number: int, logbook: Logbook) -> Iterator[Situation]:
        yield Situation(
            rig=SimulatedGateway(model_of(self.file)),
            kept_as=SimulatedRigRecord(file=self.file),
            test=self.test,
            context=Context(Link(rated_bps=self.file.rated)),
            near=this_host(),
            notices=["nothing was sent: this gateway is a model"],
        )


def model_of(file: SimulatedRig) -> GatewayModel:
    """The gateway that a rig file models. Raises UsageError where it models none."""
    if file.gateway is None:
        raise UsageError(
            f"{file.name} models no gateway", "Add [gateway] to the rig file; docs/rig-files.md has its keys."
        )
    keys = file.gateway
    return GatewayModel(keys.table, keys.connections_per_s, keys.throughput, keys.delay)


@contextmanager
def open_users_bench(request: TestRequest, notice: Callable[[str], None], clock: Clock) -> Iterator[Bench]:
    """Stations, or a model. Raises UsageError for a rig that models no gateway."""
    place = request.place
    if isinstance(place, StationsSettings):
        with open_stations(request, notice, clock) as stations:
            yield stations
        return
    assert isinstance(place, RigPlace)
    if not isinstance(place.rig, SimulatedRig):
        raise UsageError(f"{place.rig.name} has no users", "Name a station, a simulated rig, or a virtual gateway.")
    model_of(place.rig)
    yield ModelBench(request.test, place.rig)
