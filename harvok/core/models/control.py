"""The bodies of the control protocol between near end and station. docs/control-protocol.md describes their use.

What both ends can do is agreed on when a session begins (station.capabilities).
"""

from typing import Annotated

from pydantic import ConfigDict, Field

from harvok.core.fields import Model
from harvok.core.trials.tcp import TcpInterval, TcpSummary, TcpTrial
from harvok.core.trials.udp import UdpInterval, UdpSummary, UdpTrial

DEFAULT_CONTROL_PORT = 26470
_BODY = ConfigDict(defer_build=False)
"""Of what a request carries: FastAPI takes such a model apart when the station starts, which must be built by then."""


_Capabilities = Annotated[list[Annotated[str, Field(max_length=40)]], Field(max_length=200)]


class StationFacts(Model):
    """Who answers: asked before anything else. `free_in_s` is None when the station is free, `delay_port` where it has
    no STAMP reflector."""

    name: str
    harvok: str
    capabilities: _Capabilities = []
    data_port: int
    delay_port: int | None = None
    max_test_s: float
    max_flows: int
    free_in_s: float | None = None


class SessionRequest(Model):
    """A near end asks to have the station to itself, for `planned_s` seconds as far as it can tell. A newer one may say
    more than this version knows."""

    model_config = _BODY | ConfigDict(extra="ignore")

    near: str = Field(max_length=100)
    planned_s: float = Field(ge=0, le=1e6)
    capabilities: _Capabilities = []


class Session(Model):
    """The station is the near end's. It must be renewed within every `lease_s` seconds, or it is free again.
    `capabilities` are what both ends can do."""

    session: str
    lease_s: float
    harvok: str = ""
    capabilities: _Capabilities = []


class PreparedTrial(Model):
    """The far half of a trial waits at `data_port` for connections that prove `key` (hexadecimal)."""

    trial_id: str
    key: str
    data_port: int


class FarEndResult(Model):
    """What the far half of a trial saw, for each direction in the order of the trial."""

    summaries: list[TcpSummary | UdpSummary]


class Progress(Model):
    """One line of the progress stream: an interval, a fault that ended the half, or the end of it."""

    interval: TcpInterval | UdpInterval | None = None
    fault: "Fault | None" = None
    over: bool = False


class Fault(Model):
    """An error on its way to the other end; `free_in_s` only for a busy station."""

    reference: str
    message: str
    hint: str
    free_in_s: float | None = None


class TrialRequest(Model):
    """Asks the station to prepare its half of a trial."""

    model_config = _BODY

    trial: Annotated[TcpTrial | UdpTrial, Field(discriminator="kind")]
