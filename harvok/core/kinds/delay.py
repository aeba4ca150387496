"""Two-way delay to a reflector, idle and under load."""

from typing import Annotated, Literal

from pydantic import Field

from harvok.core.fields import Duration, Rate
from harvok.core.kinds.kind import Conditions, Kind
from harvok.core.kinds.step import Step
from harvok.core.procedures.delay import DelayTest, delay_test, loads_of
from harvok.core.trials.delay import DelayTrial
from harvok.core.units import format_duration, format_rate


class DelayStep(Step):
    """Two-way delay to the plan's station, idle and, with `load`, while TCP or UDP fills the link."""

    test: Literal["delay"]
    packets: Annotated[int, Field(ge=1, le=1_000_000)] = 100
    gap: Annotated[Duration, Field(gt=0)] = 0.1
    load: Literal["none", "send", "receive", "each"] = "none"
    load_rate: Rate | None = None
    dscp: Annotated[int, Field(ge=0, le=63)] | None = None

    @property
    def needs_token(self) -> bool:
        return self.load != "none"

    def build(self, line_bps: float = 0.0) -> DelayTest:
        """The test to run; the load is UDP where a rate is given, TCP otherwise."""
        loads = loads_of(self.load, "udp" if self.load_rate else "tcp")
        return DelayTest(DelayTrial(self.packets, self.gap, dscp=self.dscp), loads, self.load_rate)

    @property
    def words(self) -> str:
        load = "" if self.load == "none" else f", idle and under load ({self.load})"
        return f"delay of {self.packets} packets, one every {format_duration(self.gap)}{load}"


def _conditions(test: DelayTest) -> Conditions:
    trial = test.trial
    yield "test.kind", test.kind
    yield "test.packets", f"{trial.packets}, one every {format_duration(trial.gap_s)}"
    yield "test.size", f"{trial.payload_bytes} B payload"
    yield "test.dscp", str(trial.dscp or 0)
    yield "test.loads", ", ".join(test.loads) or "none"
    yield "test.load-rate", format_rate(test.load_bps) if test.load_bps else "unlimited"


DELAY = Kind(
    test=DelayTest,
    procedure=delay_test,
    rig="reflector",
    takes_events=True,
    quantities=(
        "two-way-delay-median", "delay-under-load", "two-way-delay-min", "two-way-delay-mean", "two-way-delay-p99",
        "two-way-delay-max", "two-way-variation-p99", "two-way-loss",
    ),
    conditions=_conditions,
    step=DelayStep,
)  # fmt: skip
