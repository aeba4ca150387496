"""Multicast from one port to others: RFC 3918."""

from typing import Annotated, Literal

from pydantic import Field

from harvok.core.fields import Duration, Share
from harvok.core.kinds.kind import Conditions, Kind
from harvok.core.kinds.switch import ManyPortsStep, many_ports_conditions
from harvok.core.procedures.rfc3918 import (
    GROUP_TESTS,
    MAX_GROUPS,
    GroupTest,
    GroupTestName,
    rfc3918,
    sent_by_rfc3918,
)
from harvok.core.units import format_share, format_span


class GroupStep(ManyPortsStep):
    """RFC 3918 on the plan's rig, from the first of `ports` to the others."""

    test: Literal["rfc3918"]
    tests: tuple[GroupTestName, ...] = ("throughput",)
    ip_version: Literal[4, 6] = 4
    groups: Annotated[int, Field(ge=1, le=MAX_GROUPS)] = 10
    share: Annotated[Share, Field(gt=0, lt=1)] = 0.5
    leave: Annotated[Duration, Field(gt=0)] = 10.0
    max_groups: Annotated[int, Field(ge=1, le=MAX_GROUPS)] = MAX_GROUPS

    def build(self, line_bps: float = 0.0) -> GroupTest:
        """The test to run between ports of a speed."""
        return GroupTest(
            tests=self.tests,
            sizes=self.sizes(self.ip_version),
            settings=self.settings(line_bps, self.ip_version),
            ports=tuple(self.ports),
            groups=self.groups,
            share=self.share,
            leave_s=self.leave,
            max_groups=self.max_groups,
        )

    @property
    def words(self) -> str:
        first, *others = self.ports
        what = self._tests_in_words(self.tests, GROUP_TESTS)
        return f"{what}, {first} to {', '.join(others)}, trials of {format_span(self.duration)}"


def _conditions(test: GroupTest) -> Conditions:
    yield from many_ports_conditions(test)
    yield "test.groups", str(test.groups)
    yield "test.multicast-share", format_share(test.share)


RFC3918 = Kind(
    test=GroupTest,
    procedure=rfc3918,
    rig="frames",
    quantities=(
        "throughput", "throughput-share", "throughput-l1", "throughput-l2", "frame-loss", "forwarding-rate",
        "group-join-delay", "group-leave-delay", "group-capacity", "latency-min", "latency-median", "latency-mean",
        "latency-p999", "latency-max", "latency-tagged-mean", "latency-jitter",
    ),
    conditions=_conditions,
    step=GroupStep,
    frames_sent=sent_by_rfc3918,
)  # fmt: skip
