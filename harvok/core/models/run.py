"""The record of a run: an open JSON document. docs/record-format.md describes it, docs/schema holds its JSON Schema."""

import json
from collections.abc import Iterator
from datetime import datetime
from typing import TYPE_CHECKING, Annotated, Any, Final, Literal, TypeVar, Union

from pydantic import Field, ValidationError

from harvok.core.conditions import HostConditions, InterfaceFacts
from harvok.core.device.trial import DeviceTrial
from harvok.core.ethernet import IpVersion, ip_version_of
from harvok.core.fields import Model
from harvok.core.figures import Figure
from harvok.core.judgement.finding import Finding
from harvok.core.kinds.table import KINDS
from harvok.core.link import Link
from harvok.core.models.control import Fault
from harvok.core.models.device import DeviceRecord
from harvok.core.models.impairment import ImpairmentRecord
from harvok.core.models.preflight import Check
from harvok.core.models.rig import PortsRig, SimulatedRig, VirtualRig
from harvok.core.models.version1 import upgraded_record
from harvok.core.samples import Event, SampleColumns
from harvok.core.tcp.reading import Reading
from harvok.core.trials.any import Trial, TrialOutcome

RECORD_FORMAT: Final = "harvok-run"
RECORD_VERSION: Final = 2


def _tests() -> Any:
    """All kinds of test there are when this file is loaded, told apart by their `kind`."""
    return Annotated[Union[tuple(kind.test for kind in KINDS.values())], Field(discriminator="kind")]  # noqa: UP007


if TYPE_CHECKING:
    AnyTest = Any
else:
    AnyTest = _tests()

TrialT = TypeVar("TrialT")
ResultT = TypeVar("ResultT")

RunState = Literal["running", "complete", "broken", "invalid"]


class RigRecord(Model):
    """A pair of stations: where the far end was. `port` is that of control, or of the reflector; 0 for ICMP echo."""

    kind: Literal["stations"] = "stations"
    station: str
    address: str
    port: int
    control: Literal["TLS 1.3", "plain"] | None = None
    """How the ends talked to each other; None for a reflector alone, and for runs of before encryption."""
    device: Annotated[VirtualRig | PortsRig, Field(discriminator="kind")] | None = None
    """What is between the ends, where Harvok made hosts of this one for it."""
    asked_by: str | None = None
    """The host that asked for the test, where that was not the near end."""

    @property
    def name(self) -> str:
        return self.station


class PortRecord(Model):
    """One port of the near end, watched: what it is."""

    kind: Literal["port"] = "port"
    port: InterfaceFacts

    @property
    def name(self) -> str:
        return self.port.name


class SimulatedRigRecord(Model):
    """A simulated rig: the whole model, so that the run can be taken again."""

    kind: Literal["simulated"] = "simulated"
    file: SimulatedRig

    @property
    def name(self) -> str:
        return f"{self.file.name} (simulated)"


class PortsRigRecord(Model):
    """Two interfaces of this host: the rig file, and what the interfaces were like."""

    kind: Literal["ports"] = "ports"
    file: PortsRig
    ports: list[InterfaceFacts] = []

    @property
    def name(self) -> str:
        return self.file.name


class VirtualRigRecord(Model):
    """A device made of this host's kernel."""

    kind: Literal["virtual"] = "virtual"
    file: VirtualRig

    @property
    def name(self) -> str:
        return f"{self.file.name} (virtual)"


FrameRigRecord = SimulatedRigRecord | PortsRigRecord | VirtualRigRecord
AnyRigRecord = RigRecord | PortRecord | FrameRigRecord


class TrialRecord(Model):
    """One trial, and everything that was seen while it ran, on its time axis; `result` is None when it broke off.

    `origin` is when the axis begins, by the near end's clock.
    """

    trial: Annotated[Trial, Field(discriminator="kind")]
    origin: datetime | None = None
    result: Annotated[TrialOutcome, Field(discriminator="kind")] | None = None
    samples: list[SampleColumns] = []
    events: list[Event] = []
    device: DeviceTrial | None = Field(default=None, description="what the device under test counted meanwhile")


class RunRecord(Model):
    """One measured test and its whole record.

    `state` is `complete`, `broken` (it broke off; `fault` says why), `invalid` (the tester fell short) or `running`.
    Times are UTC. `command` is what was typed, without the token.
    """

    format: Literal["harvok-run"] = RECORD_FORMAT
    version: Literal[2] = RECORD_VERSION
    id: str
    state: RunState
    started: datetime
    ended: datetime | None = None
    harvok: str
    command: list[str]
    test: AnyTest
    rig: Annotated[AnyRigRecord, Field(discriminator="kind")]
    link: Link
    series: str | None = None
    attributes: dict[str, str] = {}
    note: str = ""
    calibration: str | None = Field(default=None, description="the run that says what the tester itself can do")
    impairment: ImpairmentRecord | None = Field(default=None, description="what was put on the path on purpose")
    near: HostConditions
    far: HostConditions | None = None
    device: DeviceRecord | None = Field(default=None, description="the device under test, where it was asked")
    trials: list[TrialRecord] = []
    readings: list[Reading] = []
    figures: list[Figure] = []
    findings: list[Finding] = Field(default=[], description="what became of the limits that the test itself set")
    preflight: list[Check] = Field(default=[], description="what was looked at just before the run")
    notices: list[str] = []
    fault: Fault | None = Field(default=None, description="why the run broke off")

    def trials_of(self, trial: type[TrialT], result: type[ResultT]) -> Iterator[tuple[TrialT, ResultT]]:
        """Every complete trial of a kind, with its result."""
        for one in self.trials:
            if isinstance(one.trial, trial) and isinstance(one.result, result):
                yield one.trial, one.result

    @property
    def ip_version(self) -> IpVersion:
        """What the traffic of stations went over; 4 on every other rig, whose tests say it themselves."""
        return ip_version_of(self.rig.address) if isinstance(self.rig, RigRecord) else 4

    @property
    def between(self) -> str:
        """What the run was taken between, as a list shows it."""
        return f"{self.near.name} – {self.far.name}" if self.far else self.rig.name

    @property
    def limiters(self) -> dict[str, str]:
        """The kind of limiter by direction."""
        return {reading.direction: reading.limiter.kind for reading in self.readings}


def parse_record(text: str) -> RunRecord:
    """A record from its JSON, of this version or of version 1. Raises ValidationError."""
    try:
        return RunRecord.model_validate_json(text)
    except ValidationError as error:
        if all(one["loc"] != ("version",) for one in error.errors(include_url=False, include_context=False)):
            raise
    return RunRecord.model_validate_json(json.dumps(upgraded_record(json.loads(text))))
