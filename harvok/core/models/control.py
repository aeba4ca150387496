"""The bodies of the control protocol between near end and station. docs/control-protocol.md describes their use.

What both ends can do is agreed on when a session begins (station.capabilities).
"""

from typing import Annotated

from pydantic import ConfigDict, Field

from harvok.core.bounds import Flows, Line, Name, Port, Seconds
from harvok.core.fields import Model
from harvok.core.trials.app import AppInterval, AppSummary, AppTrial
from harvok.core.trials.policy import PolicySummary
from harvok.core.trials.tcp import TcpInterval, TcpSummary, TcpTrial
from harvok.core.trials.udp import UdpInterval, UdpSummary, UdpTrial

DEFAULT_CONTROL_PORT = 26470
_BODY = ConfigDict(defer_build=False)
"""Of what a request carries: FastAPI takes such a model apart when the station starts, which must be built by then."""


_Capabilities = Annotated[list[Annotated[str, Field(max_length=40)]], Field(max_length=200)]


_SessionId = Annotated[str, Field(pattern=r"^[0-9a-f]{8,64}$")]
Certificate = Annotated[str, Field(max_length=8000)]
"""In PEM."""


class StationFacts(Model):
    """Who answers: asked before anything else. `free_in_s` is None when the station is free, `delay_port` where it has
    no STAMP reflector."""

    name: Name
    harvok: Name
    capabilities: _Capabilities = []
    data_port: Port
    delay_port: Port | None = None
    max_test_s: Seconds
    max_flows: Flows
    frame_ports: Annotated[list[Name], Field(max_length=64)] = []
    free_in_s: Seconds | None = None


class SessionRequest(Model):
    """A near end asks to have the station to itself, for `planned_s` seconds as far as it can tell. It may choose the
    random name of the session, so that it can give back one whose answer it never heard. Near ends that say one `group`
    share the station. A newer one may say more than this version knows."""

    model_config = _BODY | ConfigDict(extra="ignore")

    near: str = Field(max_length=100)
    planned_s: float = Field(ge=0, le=1e6)
    capabilities: _Capabilities = []
    session: _SessionId | None = None
    group: _SessionId | None = None


class WallClock(Model):
    """The station's wall clock, in nanoseconds since 1970, for a start in common."""

    wall_ns: Annotated[int, Field(ge=0, le=2**63 - 1)]


class NearEnd(Model):
    """A near end hands in its certificate (PEM), so that the station knows it from now on."""

    model_config = _BODY

    name: Name
    certificate: Certificate


class Session(Model):
    """The station is the near end's. It must be renewed within every `lease_s` seconds, or it is free again.
    `capabilities` are what both ends can do."""

    session: _SessionId
    lease_s: Annotated[float, Field(ge=0.5, le=3600)]
    harvok: Name = ""
    capabilities: _Capabilities = []


class PassRequest(Model):
    """Asks for a token of its own for a near end that is not to know the station's."""

    model_config = _BODY

    for_s: Annotated[float, Field(ge=1, le=1e6)]


class Pass(Model):
    """A token that opens the station for tests, and for nothing else, until it is out of date."""

    token: Name


class ErrandRequest(Model):
    """Asks the station for a test: an `errand` (JSON, core.models.errand), signed (hexadecimal) by the paired near end
    that has this pairing code."""

    model_config = _BODY

    errand: Annotated[str, Field(max_length=400_000)]
    code: Name
    signature: Annotated[str, Field(pattern=r"^[0-9a-f]{16,400}$")]


class FrameOrder(Model):
    """An order for the worker of a lent port that counts into `row`: a line of core.wire.frame_orders."""

    model_config = _BODY

    row: Annotated[int, Field(ge=0, lt=2**16)]
    order: Annotated[str, Field(max_length=500_000)]


class FrameNews(Model):
    """What the worker of a row said, or why it is no more; and how far it is: frames, and their delay just now."""

    row: Annotated[int, Field(ge=0, lt=2**16)]
    line: Annotated[str, Field(max_length=1_000_000)] | None = None
    fault: "Fault | None" = None
    frames: Annotated[int, Field(ge=0, le=2**63 - 1)] = 0
    delay_ns: Annotated[int, Field(ge=-(2**63), le=2**63 - 1)] = 0


class FrameAnswer(Model):
    """What a worker beside the others answered to an order."""

    line: Annotated[str, Field(max_length=1_000_000)]


class LentPortCounts(Model):
    """What a lent port has counted since it was made, and its speed as its driver tells it."""

    link_losses: Annotated[int, Field(ge=0, le=2**63 - 1)]
    speed: Name
    counts: Annotated[dict[Name, Annotated[int, Field(ge=0, le=2**64)]], Field(max_length=50)]


class KernelDrops(Model):
    """Frames that the station's kernel dropped before any ring since it started."""

    frames: Annotated[int, Field(ge=0, le=2**64)]


class PreparedTrial(Model):
    """The far half of a trial waits at `data_port` for connections that prove `key` (hexadecimal)."""

    trial_id: Annotated[str, Field(pattern=r"^[0-9a-f]{32}$")]
    key: Annotated[str, Field(pattern=r"^[0-9a-f]{64}$")]
    data_port: Port


class FarEndResult(Model):
    """What the far half of a trial saw, for each direction in the order of the trial."""

    summaries: Annotated[list[TcpSummary | UdpSummary | AppSummary | PolicySummary], Field(max_length=64)]


class Progress(Model):
    """One line of the progress stream: an interval, a fault that ended the half, or the end of it."""

    interval: TcpInterval | UdpInterval | AppInterval | None = None
    fault: "Fault | None" = None
    over: bool = False


class Fault(Model):
    """An error on its way to the other end; `free_in_s` only for a busy station."""

    reference: Name
    message: Line
    hint: Line
    free_in_s: Seconds | None = None


class TrialRequest(Model):
    """Asks the station to prepare its half of a trial."""

    model_config = _BODY

    trial: Annotated[TcpTrial | UdpTrial | AppTrial, Field(discriminator="kind")]
