"""UDP: one load, loads in steps, a search for the highest without loss, and services after ITU-T Y.1564."""

from collections.abc import Iterator, Sequence
from dataclasses import replace
from typing import Annotated, ClassVar, Literal

from pydantic import Field

from harvok.core.conditions import HostConditions
from harvok.core.ends import DirectionChoice, directions_of
from harvok.core.ethernet import frame_bytes_of, ip_version_of
from harvok.core.fields import Duration, Rate, Share
from harvok.core.judgement.finding import Finding
from harvok.core.judgement.services import judge_services
from harvok.core.kinds.hosts import buffer_notices, check_frame_fits
from harvok.core.kinds.kind import Conditions, Kind, Sweeping
from harvok.core.kinds.step import Step
from harvok.core.procedure import Findings
from harvok.core.procedures.udp import (
    AnyUdpTest,
    UdpLoadTest,
    UdpSearchTest,
    UdpServicesTest,
    UdpStepsTest,
    udp_load,
    udp_search,
    udp_services,
    udp_steps,
)
from harvok.core.samples import Event
from harvok.core.sweeps.axes import UDP_AXES, AxisSet, Setting
from harvok.core.sweeps.reading import SweptFigures
from harvok.core.trials.udp import UdpTrial
from harvok.core.udp.services import ServiceSpec
from harvok.core.units import format_rate, format_share, format_size, format_span


class UdpStep(Step):
    """UDP towards the plan's station: at a rate, or searching the highest up to it."""

    axis_set: ClassVar[AxisSet] = UDP_AXES

    test: Literal["udp"]
    rate: Rate
    search: bool = False
    direction: DirectionChoice = "each"
    flows: Annotated[int, Field(ge=1, le=64)] = 1
    frame_size: Annotated[int, Field(ge=64, le=65_535)] = 1518
    duration: Annotated[Duration, Field(ge=0.5)] = 10.0
    dscp: Annotated[int, Field(ge=0, le=63)] | None = None
    resolution: Annotated[Share, Field(gt=0, le=0.1)] = 0.01

    @property
    def labels(self) -> dict[str, list[str]]:
        return {"direction": directions_of(self.direction)}

    def build(self, line_bps: float = 0.0) -> AnyUdpTest:
        """The test to run."""
        trial = UdpTrial((), (), self.duration, min(1.0, self.duration))
        services = (ServiceSpec(self.rate, self.frame_size, flows=self.flows, dscp=self.dscp),)
        if self.search:
            return UdpSearchTest(self.direction, trial, services, resolution=self.resolution)
        return UdpLoadTest(self.direction, trial, services)

    @property
    def words(self) -> str:
        flows = f", {self.flows} flows" if self.flows > 1 else ""
        rate = format_rate(self.rate)
        what = f"highest UDP rate up to {rate}" if self.search else f"UDP at {rate}"
        return f"{what}, {self.frame_size} B, {self.direction}{flows}, {format_span(self.duration)}"


def _conditions(test: AnyUdpTest) -> Conditions:
    trial = test.trial
    yield "test.kind", test.kind
    yield "test.direction", test.direction
    yield "test.duration", f"{trial.duration_s:g} s"
    for spec in test.services:
        prefix = f"test.{spec.name}." if spec.name else "test."
        size = f"{spec.payload_bytes} B payload" if spec.payload_bytes else f"{spec.frame_bytes} B frames"
        yield f"{prefix}rate", format_rate(spec.rate_bps)
        yield f"{prefix}size", size
        yield f"{prefix}flows", str(spec.flows)
        yield f"{prefix}dscp", str(spec.dscp or 0)
    yield "test.method", trial.method
    yield "test.group", trial.group or "none"
    buffer = trial.socket_buffer_bytes
    yield "test.socket-buffer", "as large as allowed" if buffer is None else format_size(buffer)


def _step_conditions(test: UdpStepsTest) -> Conditions:
    yield from _conditions(test)
    yield "test.shares", ", ".join(format_share(share) for share in test.shares)
    yield "test.continuous", "yes" if test.continuous else "no"


def _search_conditions(test: UdpSearchTest) -> Conditions:
    yield from _conditions(test)
    yield "test.loss-tolerance", format_share(test.loss_tolerance)
    yield "test.resolution", format_share(test.resolution)


def _judge_services(test: UdpServicesTest, findings: Findings, events: Sequence[Event]) -> list[Finding]:
    return judge_services(test.services, findings.figures)


def _with_setting(test: AnyUdpTest, setting: Setting) -> AnyUdpTest:
    (spec,), number = test.services, setting.number or 0.0
    if setting.name == "socket-buffer":
        return replace(test, trial=replace(test.trial, socket_buffer_bytes=int(number)))
    changes = {
        "load": {"rate_bps": number},
        "frame-size": {"frame_bytes": int(number)},
        "flows": {"flows": int(number)},
        "dscp": {"dscp": int(number)},
    }[setting.name]
    return replace(test, services=(replace(spec, **changes),))  # type: ignore[arg-type]


def _host_notices(test: AnyUdpTest, near: HostConditions, far: HostConditions | None) -> Iterator[str]:
    """Raises UsageError for datagrams that cannot leave."""
    version = ip_version_of(near.local_address or "")
    for spec in test.services:
        check_frame_fits(frame_bytes_of(spec.at(1.0, version).payload_bytes, version), near)
    yield from buffer_notices(test.trial.socket_buffer_bytes, near, far)


_OF_A_LOAD = (
    "udp-received", "udp-offered", "udp-goodput", "datagram-loss", "loss-run-longest", "socket-drops",
    "datagram-duplicates", "datagram-reordered", "jitter", "delay-variation-median", "delay-variation-p99",
    "delay-variation-p999", "one-way-delay-min", "one-way-delay-mean", "clock-error",
)  # fmt: skip
_SWEEPING = Sweeping(
    UDP_AXES,
    _with_setting,
    SweptFigures("udp-received", ("datagram-loss", "one-way-delay-mean", "delay-variation-p99")),
)

UDP_LOAD = Kind(
    UdpLoadTest,
    udp_load,
    "stations",
    _OF_A_LOAD,
    _conditions,
    step=UdpStep,
    sweeping=_SWEEPING,
    host_notices=_host_notices,
    takes_events=True,
)
UDP_STEPS = Kind(
    UdpStepsTest, udp_steps, "stations", _OF_A_LOAD, _step_conditions, over_load=True, host_notices=_host_notices
)
UDP_SEARCH = Kind(
    UdpSearchTest,
    udp_search,
    "stations",
    ("udp-throughput", "udp-throughput-goodput", *_OF_A_LOAD),
    _search_conditions,
    sweeping=_SWEEPING,
    host_notices=_host_notices,
)
UDP_SERVICES = Kind(
    UdpServicesTest,
    udp_services,
    "stations",
    _OF_A_LOAD,
    _conditions,
    _judge_services,
    host_notices=_host_notices,
    takes_events=True,
)
