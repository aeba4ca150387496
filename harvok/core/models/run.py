"""The record of a run: an open JSON document. docs/record-format.md describes it, docs/schema holds its JSON Schema."""

from datetime import datetime
from typing import Annotated, Final, Literal

from pydantic import Field

from harvok.core.figures import Figure
from harvok.core.judgement.compare import Finding
from harvok.core.link import Link
from harvok.core.models.conditions import HostConditions, InterfaceFacts, Model
from harvok.core.models.control import Fault
from harvok.core.models.impairment import ImpairmentRecord
from harvok.core.models.preflight import Check
from harvok.core.models.rig import PortsRig, SimulatedRig, VirtualRig
from harvok.core.procedures.calibrate import CalibrationTest
from harvok.core.procedures.delay import DelayTest
from harvok.core.procedures.emulator import EmulatorTest
from harvok.core.procedures.link import LinkTest
from harvok.core.procedures.load import LoadTest
from harvok.core.procedures.rfc2544 import FrameTest
from harvok.core.procedures.tcp import TcpTest
from harvok.core.procedures.udp import UdpTest
from harvok.core.tcp.reading import Reading
from harvok.core.trials.any import Trial, TrialResult
from harvok.core.trials.tcp import TcpInterval
from harvok.core.trials.udp import UdpInterval

RECORD_FORMAT: Final = "harvok-run"
RECORD_VERSION: Final = 1

AnyTest = TcpTest | UdpTest | DelayTest | LinkTest | FrameTest | LoadTest | EmulatorTest | CalibrationTest
RunState = Literal["running", "complete", "broken", "invalid"]


class RigRecord(Model):
    """A pair of stations: where the far end was. `port` is that of control, or of the reflector; 0 for ICMP echo."""

    kind: Literal["stations"] = "stations"
    station: str
    address: str
    port: int

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


class TrialRecord(Model):
    """One trial. `result` is None when it broke off; then `intervals` are what either end had told until then."""

    trial: Annotated[Trial, Field(discriminator="kind")]
    result: Annotated[TrialResult, Field(discriminator="kind")] | None = None
    intervals: list[TcpInterval | UdpInterval] = []


class RunRecord(Model):
    """One measured test and its whole record.

    `state` is `complete`, `broken` (it broke off; `fault` says why), `invalid` (the tester fell short) or `running`.
    Times are UTC. `command` is what was typed, without the token.
    """

    format: Literal["harvok-run"] = RECORD_FORMAT
    version: Literal[1] = RECORD_VERSION
    id: str
    state: RunState
    started: datetime
    ended: datetime | None = None
    harvok: str
    command: list[str]
    test: Annotated[AnyTest, Field(discriminator="kind")]
    rig: Annotated[RigRecord | PortRecord | FrameRigRecord, Field(discriminator="kind")]
    link: Link
    series: str | None = None
    attributes: dict[str, str] = {}
    note: str = ""
    calibration: str | None = Field(default=None, description="the run that says what the tester itself can do")
    impairment: ImpairmentRecord | None = Field(default=None, description="what was put on the path on purpose")
    near: HostConditions
    far: HostConditions | None = None
    trials: list[TrialRecord] = []
    readings: list[Reading] = []
    figures: list[Figure] = []
    findings: list[Finding] = Field(default=[], description="what became of the limits that the test itself set")
    preflight: list[Check] = Field(default=[], description="what was looked at just before the run")
    notices: list[str] = []
    fault: Fault | None = Field(default=None, description="why the run broke off")

    @property
    def between(self) -> str:
        """What the run was taken between, as a list shows it."""
        return f"{self.near.name} – {self.far.name}" if self.far else self.rig.name

    @property
    def limiters(self) -> dict[str, str]:
        """The kind of limiter by direction."""
        return {reading.direction: reading.limiter.kind for reading in self.readings}
