"""What a UDP procedure asks of a rig, and what a rig answers. Plain dataclasses: worker processes import this file.

A service is one kind of traffic: a load, a payload size, a DSCP. Its load is of one direction and counts datagrams
per second, each of which is one Ethernet frame. Flows are numbered through all services of a trial, in their order.
"""

from collections.abc import Collection, Iterator
from dataclasses import dataclass, field
from typing import Annotated, Literal

from annotated_types import Ge, Le

from harvok.core.bounds import (
    Count,
    Dscp,
    Flows,
    FrameRate,
    Hops,
    Index,
    Interval,
    Line,
    Name,
    Seconds,
    SignedSeconds,
    SocketBuffer,
    SomeSeconds,
)
from harvok.core.ends import CpuUse, Role, Stream
from harvok.core.samples import INTERVAL_INDEX, INTERVAL_LENGTH, Sample, cpu_samples
from harvok.core.time_axis import ClockOffset

Method = Literal["auto", "segmented", "plain"]
"""How datagrams are sent and received: `segmented` hands whole batches to the kernel, which cuts them apart, and takes
whole batches from it; `plain` uses one call for each datagram; `auto` batches only where the load asks for it."""

Means = Literal["plain", "batched", "segmented"]
"""What was really used: `batched` takes several datagrams with one call, each with a stamp of its own."""


@dataclass(frozen=True, slots=True)
class UdpService:
    """One kind of traffic: `load_fps` datagrams a second in each direction, shared evenly by its `flows`. It flows
    through the whole trial, or from `begins_s` on for `lasts_s`."""

    load_fps: FrameRate
    payload_bytes: Count
    name: Name = ""
    flows: Flows = 1
    dscp: Dscp | None = None
    begins_s: Seconds = 0.0
    lasts_s: SomeSeconds | None = None

    @property
    def payload_bps(self) -> float:
        return self.load_fps * self.payload_bytes * 8


@dataclass(frozen=True, slots=True)
class UdpTrial:
    """One trial: all `services` at once in all `streams`, for `duration_s`.

    With `group` the datagrams go to that multicast address, which the receiving station joins.
    """

    services: tuple[UdpService, ...]
    streams: tuple[Stream, ...]
    duration_s: SomeSeconds
    interval_s: Interval = 1.0
    method: Method = "auto"
    socket_buffer_bytes: SocketBuffer | None = None
    group: Name | None = None
    hops: Hops | None = None
    about: Line = ""
    kind: Literal["udp"] = "udp"

    @property
    def flows(self) -> int:
        """Flows in each direction."""
        return sum(service.flows for service in self.services)

    def span_s(self, service: UdpService) -> tuple[float, float]:
        """When a service begins and ends, after the start of the trial."""
        return service.begins_s, self.duration_s if service.lasts_s is None else service.begins_s + service.lasts_s

    def load_at_once_fps(self, flows: Collection[int]) -> float:
        """The most that some flows of one direction send at any time together."""
        services = [self.services[at] for number, at in enumerate(self.flow_services) if number in flows]
        spans = [(*self.span_s(service), service.load_fps / service.flows) for service in services]
        return max(sum(load for start, end, load in spans if start <= moment < end) for moment, _, _ in spans)

    @property
    def flow_services(self) -> list[int]:
        """For each flow the number of its service."""
        return [number for number, service in enumerate(self.services) for _ in range(service.flows)]


@dataclass(frozen=True, slots=True)
class UdpInterval:
    """One interval of one service at one half of one direction; the receiver's fields are zero at a sender.

    `missing` datagrams were numbered below the highest that came in this interval and did not come in it: late ones
    make up for it later. Delays are by both hosts' own clocks, so their level is off by the difference of the clocks,
    and their variation is not. `began_ns` is the half's origin by its own host's wall clock; 0 where it is not known.
    """

    direction: Name
    role: Role
    index: Index
    service: Index
    start_s: Seconds
    end_s: Seconds
    datagrams: Count
    payload_bytes: Count
    missing: Count = 0
    duplicates: Count = 0
    reordered: Count = 0
    longest_run: Count = 0
    jitter_s: Seconds | None = None
    min_transit_s: SignedSeconds | None = None
    mean_transit_s: SignedSeconds | None = None
    max_transit_s: SignedSeconds | None = None
    cpu: CpuUse | None = None
    began_ns: Count = 0

    def samples(self, source: str, began_s: float, service: str) -> Iterator[Sample]:
        """Everything that it tells, for a half that began at `began_s` on the time axis."""
        labels = {"direction": self.direction, "role": self.role} | ({"service": service} if service else {})
        at_s = round(began_s + self.end_s, 9)
        for quantity, value in self._values():
            if value is not None:
                yield Sample(at_s, source, quantity, value, labels)
        yield from cpu_samples(self.cpu, at_s, source, labels)
        yield Sample(at_s, source, INTERVAL_LENGTH, self.end_s - self.start_s, labels)
        yield Sample(at_s, source, INTERVAL_INDEX, self.index, labels)

    def _values(self) -> Iterator[tuple[str, float | None]]:
        yield "datagrams", self.datagrams
        yield "interval-bytes", self.payload_bytes
        if self.role == "receiver":
            yield "missing", self.missing
            yield "duplicates", self.duplicates
            yield "reordered", self.reordered
            yield "longest-run", self.longest_run
            yield "jitter-s", self.jitter_s
            yield "transit-min-s", self.min_transit_s
            yield "transit-mean-s", self.mean_transit_s
            yield "transit-max-s", self.max_transit_s


@dataclass(frozen=True, slots=True)
class TransitSummary:
    """Times from the sender's stamp to the receiver's, in seconds, by clocks that may differ.

    `variation_*` are above the least of all (RFC 5481 §4.2, PDV), percentiles within 1/128 of their distance from the
    first datagram's; `changes_mean_s` is the mean absolute difference of successive ones (RFC 3393), `jitter_s` that
    of RFC 3550 §6.4.1 as it stood at the end. `counted` datagrams had stamps of their own. `distribution` is (upper
    edge above the least in s, datagrams).
    """

    counted: Count
    min_s: SignedSeconds
    mean_s: SignedSeconds
    max_s: SignedSeconds
    variation_median_s: Seconds
    variation_p99_s: Seconds
    variation_p999_s: Seconds
    changes_mean_s: Seconds
    jitter_s: Seconds
    distribution: list[tuple[Seconds, Count]] = field(default_factory=list)


@dataclass(frozen=True, slots=True)
class UdpFlowSent:
    """What the sending half says of a flow: `sending_s` is the time that its datagrams span, one gap each.

    `refused` times the kernel took a batch only later, because this host's own queue was full; `prohibited` times
    somebody on the way answered that datagrams are not let through.
    """

    flow: Index
    datagrams: Count
    sending_s: Seconds
    means: Means
    batch: Count
    refused: Count = 0
    prohibited: Count = 0


@dataclass(frozen=True, slots=True)
class UdpFlowReceived:
    """What the receiving half says of a flow. `loss_runs` maps the length of a run of lost numbers to how often it
    came, all of it below the highest number that arrived; `socket_drops` arrived at the host and found the socket's
    buffer full (estimated where the kernel coalesced them, whose count is of whole super-datagrams); `foreign` were not
    of this trial."""

    flow: Index
    datagrams: Count
    duplicates: Count
    reordered: Count
    highest: Annotated[int, Ge(-1), Le(2**63 - 1)]
    means: Means
    loss_runs: dict[Count, Count] = field(default_factory=dict)
    transit: TransitSummary | None = None
    longest_silence_s: Seconds = 0.0
    socket_drops: Count = 0
    receive_buffer_bytes: Count = 0
    foreign: Count = 0


@dataclass(frozen=True, slots=True)
class UdpSummary:
    """What one half of one direction says at its end, flow by flow."""

    direction: Name
    role: Role
    sent: list[UdpFlowSent] = field(default_factory=list)
    received: list[UdpFlowReceived] = field(default_factory=list)


@dataclass(frozen=True, slots=True)
class UdpDirectionResult:
    """Both halves of one direction. What they saw on the way is in the trial's samples."""

    direction: str
    sender: UdpSummary
    receiver: UdpSummary


@dataclass(frozen=True, slots=True)
class UdpTrialResult:
    """What a rig answers to a UdpTrial: one result for each direction of the trial, in the same order. `clock` is None
    where the ends' clocks could not be compared."""

    directions: list[UdpDirectionResult]
    clock: ClockOffset | None = None
    kind: Literal["udp"] = "udp"
