"""What a test of application traffic asks of a rig, and what a rig answers. Plain dataclasses: worker processes import
this file.

A user goes through the actions of an application, in order, over and over. Each action is a transaction, or several of
them side by side: a request up, a response down. Levels follow upon each other: each is ramped to, then sustained; what
is measured is what was sustained (RFC 9411 §4.3.4).
"""

from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Annotated, Literal

from annotated_types import Ge, Le, MaxLen, MinLen

from harvok.core.bounds import Count, Index, Interval, Name, Seconds, SomeSeconds
from harvok.core.ends import CpuUse, Role, Stream
from harvok.core.samples import INTERVAL_INDEX, INTERVAL_LENGTH, Sample, cpu_samples
from harvok.core.trials.delay import DelayOutcome, DelayTrial
from harvok.core.trials.policy import MAX_CHECKS, CheckResult, PolicyCheck
from harvok.core.trials.udp import UdpTrial, UdpTrialResult

MAX_USERS = 100_000
MAX_ARRIVALS_PER_S = 1e6
MAX_BODY_BYTES = 2**40
MAX_DRAWS = 1024

AppProtocol = Literal["http/1.1", "http/2", "tcp", "udp"]
"""`http/1.1` is RFC 9112; `http/2` RFC 9113, by prior knowledge, or as agreed in TLS (ALPN); `tcp` an exchange of bytes
with a head of 32 bytes (core.wire.app); `udp` a stream of datagrams each way, such as a call (core.wire.media)."""

WebProtocol = Literal["http/1.1", "http/2"]
SharedBy = Literal["users", "transactions", "bytes"]

Bodies = Annotated[tuple[Annotated[int, Ge(0), Le(MAX_BODY_BYTES)], ...], MinLen(1), MaxLen(MAX_DRAWS)]
Times = Annotated[tuple[Annotated[float, Ge(0), Le(3600)], ...], MinLen(1), MaxLen(MAX_DRAWS)]


@dataclass(frozen=True, slots=True)
class Action:
    """One thing that a user does: `times` transactions side by side, then a pause of `think_s`. Bodies, pauses and the
    service's own time are taken from their tuples in turn. A media stream sends `packets_per_s` of these sizes each way
    for `lasts_s`."""

    name: Name
    response_bytes: Bodies
    request_bytes: Bodies = (0,)
    think_s: Times = (0.0,)
    service_s: Times = (0.0,)
    times: Annotated[int, Ge(1), Le(1000)] = 1
    packets_per_s: Annotated[float, Ge(0), Le(10_000)] = 0.0
    lasts_s: Annotated[float, Ge(0), Le(3600)] = 0.0

    @property
    def datagrams(self) -> int:
        """Of a media stream, each way; 0 where it is none."""
        return max(round(self.packets_per_s * self.lasts_s), 1) if self.packets_per_s else 0

    @property
    def mean_request_bytes(self) -> float:
        return _mean(self.request_bytes) * max(self.datagrams, 1)

    @property
    def mean_response_bytes(self) -> float:
        return _mean(self.response_bytes) * max(self.datagrams, 1)

    @property
    def mean_think_s(self) -> float:
        return _mean(self.think_s)

    @property
    def mean_service_s(self) -> float:
        return _mean(self.service_s)


def _mean(values: tuple[float, ...]) -> float:
    return sum(values) / len(values)


@dataclass(frozen=True, slots=True)
class Application:
    """What users of one kind do. A connection ends after `transactions_per_connection`, or with its user where that is
    0; `connections` may be open for a user at one time. In HTTP/2 all that he does side by side is streams of these."""

    name: Name
    weight: Annotated[float, Ge(0), Le(1e9)]
    actions: Annotated[tuple[Action, ...], MinLen(1), MaxLen(64)]
    protocol: AppProtocol = "http/1.1"
    transactions_per_connection: Annotated[int, Ge(0), Le(10**9)] = 0
    connections: Annotated[int, Ge(1), Le(64)] = 1
    tls: bool = False

    @property
    def transactions(self) -> int:
        """Of one pass through all actions."""
        return sum(action.times for action in self.actions)

    @property
    def request_bytes(self) -> float:
        """Bodies of one pass through all actions, on average."""
        return sum(action.times * action.mean_request_bytes for action in self.actions)

    @property
    def response_bytes(self) -> float:
        """Alike."""
        return sum(action.times * action.mean_response_bytes for action in self.actions)

    @property
    def body_bytes(self) -> float:
        """Both."""
        return self.request_bytes + self.response_bytes


@dataclass(frozen=True, slots=True)
class AppMix:
    """Applications with their weights: of users, or of the transactions or bytes that are to flow."""

    name: Name
    applications: Annotated[tuple[Application, ...], MinLen(1), MaxLen(64)]
    shared_by: SharedBy = "users"

    @property
    def has_media(self) -> bool:
        """Whether any application is a media stream."""
        return any(application.protocol == "udp" for application in self.applications)

    @property
    def with_tls(self) -> list[bool]:
        """Of each application."""
        return [application.tls for application in self.applications]

    def shares(self) -> list[float]:
        """The share of the users, or of the sessions, that each application has; together 1."""
        weights = [application.weight / self._cost_of(application) for application in self.applications]
        return [weight / sum(weights) for weight in weights]

    def _cost_of(self, application: Application) -> float:
        """What one session comes to of that by which the applications share."""
        if self.shared_by == "users":
            return 1.0
        return float(application.transactions) if self.shared_by == "transactions" else max(application.body_bytes, 1.0)


@dataclass(frozen=True, slots=True)
class Level:
    """How many `users` there are, or how many arrive each second (`arrivals_per_s`), reached in `ramp_s` and sustained.
    Users stay; who arrives goes through the application once, and leaves."""

    sustain_s: SomeSeconds
    ramp_s: Seconds = 0.0
    users: Annotated[int, Ge(1), Le(MAX_USERS)] | None = None
    arrivals_per_s: Annotated[float, Ge(0.01), Le(MAX_ARRIVALS_PER_S)] | None = None

    @property
    def height(self) -> float:
        """Users, or arrivals each second."""
        return self.users or self.arrivals_per_s or 0.0

    @property
    def name(self) -> str:
        """As figures are labelled."""
        if self.users is None:
            return f"{self.height:g} arrivals/s"
        return f"{self.users} user{'' if self.users == 1 else 's'}"


@dataclass(frozen=True, slots=True)
class AppTrial:
    """One trial: users at the source of each stream, and the service that they use at its destination.

    What has no answer after `timeout_s` has failed. `max_users` bounds those who arrive and have not left. Beside the
    users, for as long as the trial lasts, `services` may flow, `probes` go to the far end's reflector, and the checks
    of a `policy` be tried.
    """

    mix: AppMix
    streams: Annotated[tuple[Stream, ...], MaxLen(2)]
    levels: Annotated[tuple[Level, ...], MinLen(1), MaxLen(1000)]
    ramp_down_s: Seconds = 0.0
    interval_s: Interval = 1.0
    timeout_s: Annotated[float, Ge(0.1), Le(600)] = 10.0
    max_users: Annotated[int, Ge(1), Le(MAX_USERS)] = 10_000
    about: Annotated[str, MaxLen(1000)] = ""
    services: UdpTrial | None = None
    probes: DelayTrial | None = None
    policy: Annotated[tuple[PolicyCheck, ...], MaxLen(MAX_CHECKS)] = ()
    kind: Literal["app"] = "app"

    @property
    def flows(self) -> int:
        """What a station's limit of flows counts: users open connections as they need them, so that they are one."""
        return 1 + (self.services.flows if self.services else 0)

    @property
    def duration_s(self) -> float:
        return sum(level.ramp_s + level.sustain_s for level in self.levels) + self.ramp_down_s

    def sustained(self) -> Iterator[tuple[Level, float, float]]:
        """Each level, with when it begins and ends to be sustained, in seconds after the start of the trial."""
        at_s = 0.0
        for level in self.levels:
            begins_s = at_s + level.ramp_s
            at_s = begins_s + level.sustain_s
            yield level, begins_s, at_s


@dataclass(frozen=True, slots=True)
class AppInterval:
    """One interval at one end. Bytes are those of messages, heads included; times are of the transactions that ended in
    it, of users alone; a service knows no users, and what it counts as connections it has accepted."""

    direction: Name
    role: Role
    index: Index
    start_s: Seconds
    end_s: Seconds
    users: Count = 0
    open_connections: Count = 0
    connections: Count = 0
    transactions: Count = 0
    failed: Count = 0
    unserved: Count = 0
    request_bytes: Count = 0
    response_bytes: Count = 0
    first_byte_median_s: Seconds | None = None
    first_byte_p999_s: Seconds | None = None
    response_median_s: Seconds | None = None
    response_p999_s: Seconds | None = None
    lag_p99_s: Seconds | None = None
    cpu: CpuUse | None = None
    began_ns: Count = 0

    def samples(self, source: str, began_s: float) -> Iterator[Sample]:
        """Everything that it tells, for a half that began at `began_s` on the time axis."""
        labels = {"direction": self.direction, "role": self.role}
        at_s = round(began_s + self.end_s, 9)
        for quantity, value in self._values():
            if value is not None:
                yield Sample(at_s, source, quantity, value, labels)
        yield from cpu_samples(self.cpu, at_s, source, labels)
        yield Sample(at_s, source, INTERVAL_LENGTH, self.end_s - self.start_s, labels)
        yield Sample(at_s, source, INTERVAL_INDEX, self.index, labels)

    def _values(self) -> Iterator[tuple[str, float | None]]:
        yield "open-connections", self.open_connections
        yield "connections", self.connections
        yield "transactions", self.transactions
        yield "request-bytes", self.request_bytes
        yield "response-bytes", self.response_bytes
        if self.role == "sender":
            yield "users", self.users
            yield "failed", self.failed
            yield "unserved", self.unserved
            yield "first-byte-median-s", self.first_byte_median_s
            yield "first-byte-p999-s", self.first_byte_p999_s
            yield "response-median-s", self.response_median_s
            yield "response-p999-s", self.response_p999_s
            yield "lag-p99-s", self.lag_p99_s


Histogram = dict[Annotated[int, Ge(0), Le(8191)], Count]
"""Times by their bin (core.measures.bins)."""


@dataclass(frozen=True, slots=True)
class MediaCounts:
    """The datagrams of media streams that ended while a level was sustained, from the users to the service (`up`) and
    back; jitter is that of each stream at its end (RFC 3550 §6.4.1)."""

    sent_up: Count = 0
    lost_up: Count = 0
    sent_down: Count = 0
    lost_down: Count = 0
    jitter_up: Histogram = field(default_factory=dict)
    jitter_down: Histogram = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class ActionCounts:
    """What became of one action of one application while a level was sustained. `failures` are by reason."""

    application: Index
    action: Index
    transactions: Count
    request_bytes: Count
    response_bytes: Count
    first_byte: Histogram = field(default_factory=dict)
    response: Histogram = field(default_factory=dict)
    failures: dict[Name, Count] = field(default_factory=dict)
    media: MediaCounts | None = None


@dataclass(frozen=True, slots=True)
class ConnectionCounts:
    """The connections of one application while a level was sustained: opened, ended by a reset that nobody asked for,
    and their segments, as the users' kernel counted them. `handshake` is from the first SYN to the connection,
    `tls_handshake` from there to the end of TLS's."""

    application: Index
    opened: Count
    resets: Count = 0
    segments_sent: Count = 0
    segments_received: Count = 0
    retransmitted: Count = 0
    handshake: Histogram = field(default_factory=dict)
    tls_handshake: Histogram = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class LevelCounts:
    """One level while it was sustained, at the users' end. `lag` is how late users began what they meant to do,
    `unserved` arrivals found `max_users` there."""

    level: Index
    seconds: Seconds
    actions: list[ActionCounts] = field(default_factory=list)
    connections: list[ConnectionCounts] = field(default_factory=list)
    mean_open_connections: Annotated[float, Ge(0), Le(1e9)] = 0.0
    mean_users: Annotated[float, Ge(0), Le(1e9)] = 0.0
    lag: Histogram = field(default_factory=dict)
    unserved: Count = 0
    cpu: list[Annotated[float, Ge(0), Le(1e4)]] = field(default_factory=list)
    """Of each worker, as a share of a core."""


@dataclass(frozen=True, slots=True)
class ServiceCounts:
    """What the service did in the whole trial. `strangers` proved nothing, `overflows` found its queue of new
    connections full; segments are those of some connections that had ended; `busiest` is the largest share of a core
    that one of its workers had in an interval."""

    transactions: Count = 0
    connections: Count = 0
    malformed: Count = 0
    strangers: Count = 0
    overflows: Count = 0
    segments_sent: Count = 0
    retransmitted: Count = 0
    busiest: Annotated[float, Ge(0), Le(1e4)] = 0.0


@dataclass(frozen=True, slots=True)
class AppSummary:
    """What one end says at its end: `levels` at the users', `service` at the other. `segment_bytes` is the payload of a
    full segment, `header_bytes` what the segments of these connections carry besides, Ethernet and FCS included."""

    direction: Name
    role: Role
    levels: list[LevelCounts] = field(default_factory=list)
    service: ServiceCounts | None = None
    header_bytes: Count = 0


@dataclass(frozen=True, slots=True)
class AppStreamResult:
    """Both ends of one stream."""

    direction: Name
    users: AppSummary
    service: AppSummary


@dataclass(frozen=True, slots=True)
class AppTrialResult:
    """What a rig answers to an AppTrial: one result for each stream, in the order of the trial, and what became of
    services, probes and policy checks, where there were any."""

    streams: list[AppStreamResult]
    services: UdpTrialResult | None = None
    probes: DelayOutcome | None = None
    policy: list[CheckResult] = field(default_factory=list)
    kind: Literal["app"] = "app"
