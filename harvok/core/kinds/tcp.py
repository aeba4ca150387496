"""TCP: goodput between two stations, and what limited it."""

from collections.abc import Iterator, Sequence
from dataclasses import replace
from typing import Annotated, ClassVar, Literal

from pydantic import Field

from harvok.core.conditions import HostConditions
from harvok.core.ends import DirectionChoice, directions_of
from harvok.core.fields import Duration, Rate, Size
from harvok.core.kinds.hosts import buffer_notices
from harvok.core.kinds.kind import Conditions, Kind, Sweeping
from harvok.core.kinds.step import Step
from harvok.core.procedures.tcp import TcpTest, tcp_test
from harvok.core.sweeps.axes import TCP_AXES, AxisSet, Setting
from harvok.core.sweeps.reading import SweptFigures
from harvok.core.trials.tcp import Method, SocketOptions, tcp_trial
from harvok.core.units import format_rate, format_size, format_span


class TcpStep(Step):
    """TCP towards the plan's station."""

    axis_set: ClassVar[AxisSet] = TCP_AXES

    test: Literal["tcp"]
    direction: DirectionChoice = "each"
    flows: Annotated[int, Field(ge=1, le=64)] = 1
    duration: Annotated[Duration, Field(ge=0.5)] = 10.0
    settling: Duration | None = None
    socket_buffer: Size | None = None
    congestion_control: str | None = None
    dscp: Annotated[int, Field(ge=0, le=63)] | None = None
    pacing: Annotated[Rate, Field(ge=1e3)] | None = None
    method: Method = "auto"

    @property
    def labels(self) -> dict[str, list[str]]:
        return {"direction": directions_of(self.direction)}

    def build(self, line_bps: float = 0.0) -> TcpTest:
        """The test to run."""
        buffer = None if self.socket_buffer is None else int(self.socket_buffer)
        options = SocketOptions(buffer, None, self.congestion_control, self.dscp, self.pacing)
        return TcpTest(
            self.direction, tcp_trial(self.flows, self.duration, options=options, method=self.method), self.settling
        )

    @property
    def words(self) -> str:
        flows = f", {self.flows} flows" if self.flows > 1 else ""
        return f"TCP, {self.direction}{flows}, {format_span(self.duration)}"


def _conditions(test: TcpTest) -> Conditions:
    trial, options = test.trial, test.trial.options
    yield "test.kind", test.kind
    yield "test.direction", test.direction
    yield "test.flows", str(trial.flows)
    if trial.duration_s:
        yield "test.duration", f"{trial.duration_s:g} s"
    if trial.amount_bytes:
        yield "test.amount", format_size(trial.amount_bytes)
    yield "test.settling", "automatic" if test.settling_s is None else f"{test.settling_s:g} s"
    buffer, mss = options.socket_buffer_bytes, options.mss_bytes
    yield "test.socket-buffer", "the system's" if buffer is None else format_size(buffer)
    yield "test.mss", "the system's" if mss is None else f"{mss} B"
    yield "test.congestion-control", options.congestion_control or "the system's"
    yield "test.dscp", str(options.dscp or 0)
    yield "test.pacing", format_rate(options.pacing_bps) if options.pacing_bps else "none"


def _with_setting(test: TcpTest, setting: Setting) -> TcpTest:
    trial, number = test.trial, setting.number
    if setting.name == "flows":
        return replace(test, trial=replace(trial, flows=int(number or 1)))
    options = {
        "socket-buffer": {"socket_buffer_bytes": int(number or 0)},
        "mss": {"mss_bytes": int(number or 0)},
        "dscp": {"dscp": int(number or 0)},
        "pacing": {"pacing_bps": number},
        "congestion-control": {"congestion_control": setting.text},
    }[setting.name]
    return replace(test, trial=replace(trial, options=replace(trial.options, **options)))  # type: ignore[arg-type]


def _implied(test: TcpTest) -> Sequence[Setting]:
    """The number of flows, which bounds of arithmetic need, whether or not it was set."""
    return (Setting("flows", str(test.trial.flows), float(test.trial.flows)),)


def _host_notices(test: TcpTest, near: HostConditions, far: HostConditions | None) -> Iterator[str]:
    return buffer_notices(test.trial.options.socket_buffer_bytes, near, far)


TCP = Kind(
    test=TcpTest,
    procedure=tcp_test,
    rig="stations",
    takes_events=True,
    quantities=(
        "goodput-settled", "ceiling-share", "goodput-mean", "tcp-throughput-l2", "settling", "ceiling",
        "transfer-time-ratio", "segment-payload", "retransmitted", "rtt-min", "rtt-mean", "buffer-delay", "fairness",
        "busiest-core-near", "busiest-core-far",
    ),
    conditions=_conditions,
    host_notices=_host_notices,
    step=TcpStep,
    sweeping=Sweeping(
        TCP_AXES, _with_setting, SweptFigures("goodput-settled", ("rtt-mean", "retransmitted"), bounded=True), _implied
    ),
)  # fmt: skip
