"""Reads the levels of a trial of application traffic: what was carried, how long it took, what failed, what limited."""

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace

from harvok.core.app.counts import joined_actions, joined_connections
from harvok.core.ends import SEND, TWO_WAY
from harvok.core.figures import Figure, Mark, numbered
from harvok.core.measures.bins import edges_of, quantile_ns
from harvok.core.trials.app import (
    ActionCounts,
    AppStreamResult,
    AppTrial,
    ConnectionCounts,
    Level,
    LevelCounts,
    MediaCounts,
)

UNEXPECTED_SHARE = 1e-5
"""RFC 9411 §7.1.3.4 and its like: of transactions that may fail, and of connections that may be reset."""


@dataclass(frozen=True, slots=True)
class Spread:
    """Times in seconds, within 1/128 of their value."""

    min_s: float
    mean_s: float
    median_s: float
    p99_s: float
    p999_s: float
    max_s: float


def spread_of(histogram: Mapping[int, int]) -> Spread | None:
    """What a histogram says; None for an empty one."""
    if not histogram:
        return None
    edges = {number: edges_of(number) for number in histogram}
    total_ns = sum(sum(edges[number]) / 2 * count for number, count in histogram.items())
    return Spread(
        edges[min(histogram)][0] / 1e9,
        total_ns / sum(histogram.values()) / 1e9,
        quantile_ns(histogram, 0.5) / 1e9,
        quantile_ns(histogram, 0.99) / 1e9,
        quantile_ns(histogram, 0.999) / 1e9,
        edges[max(histogram)][1] / 1e9,
    )


@dataclass(frozen=True, slots=True)
class Part:
    """What became of one action, of one application or of all, while a level was sustained: each second, and in all."""

    transactions: int
    failures: dict[str, int]
    request_bytes: int
    response_bytes: int
    first_byte: Spread | None
    response: Spread | None
    media: MediaCounts | None = None

    @property
    def failed(self) -> int:
        return sum(self.failures.values())

    @property
    def attempted(self) -> int:
        return self.transactions + self.failed

    @property
    def failed_share(self) -> float | None:
        """Of all that were attempted; None where nothing was."""
        return self.failed / self.attempted if self.attempted else None

    @property
    def fails_too_often(self) -> bool:
        """Whether more failed than RFC 9411 lets."""
        return self.failed > UNEXPECTED_SHARE * self.attempted


@dataclass(frozen=True, slots=True)
class LevelReading:
    """One level of one stream. `applications` and `actions` go by name, the latter by application first. `workers` is
    what each process of the users had of a core."""

    direction: str
    name: str
    level: Level
    seconds: float
    total: Part
    applications: dict[str, Part]
    actions: dict[tuple[str, str], Part]
    connections: ConnectionCounts
    handshake: Spread | None
    tls_handshake: Spread | None
    lag: Spread | None
    open_connections: float
    users: float
    unserved: int
    header_bytes: int
    workers: list[float]
    users_at: str
    """Which end users are at, where that has to be said."""

    @property
    def title(self) -> str:
        """The level, with the end that its users are at where that has to be said."""
        return f"{self.name} at the {self.users_at} end" if self.users_at else self.name

    @property
    def ways(self) -> tuple[str, str]:
        """The directions of requests and of responses."""
        return ("send", "receive") if self.direction == SEND.name else ("receive", "send")

    def each_second(self, number: float) -> float:
        """So many in the level, each second."""
        return number / self.seconds if self.seconds else 0.0

    @property
    def request_bps(self) -> float:
        return self.each_second(self.total.request_bytes * 8)

    @property
    def response_bps(self) -> float:
        return self.each_second(self.total.response_bytes * 8)

    @property
    def is_reset_too_often(self) -> bool:
        """Whether more connections were reset than RFC 9411 lets."""
        return self.connections.resets > UNEXPECTED_SHARE * max(self.connections.opened, 1)

    @property
    def l2_bps(self) -> tuple[float, float]:
        """Ethernet frames, FCS included, towards the service and back."""
        sent, received = self.connections.segments_sent, self.connections.segments_received
        return (
            self.each_second((self.total.request_bytes + sent * self.header_bytes) * 8),
            self.each_second((self.total.response_bytes + received * self.header_bytes) * 8),
        )


def read_stream(trial: AppTrial, result: AppStreamResult) -> list[LevelReading]:
    """Every level that was sustained to its end, in the order of the trial."""
    names = level_names(trial.levels)
    return [_read(trial, result, names[counts.level], counts) for counts in result.users.levels]


def level_names(levels: Sequence[Level]) -> list[str]:
    """Levels as figures are labelled; one that comes again is numbered."""
    return numbered(level.name for level in levels)


def _read(trial: AppTrial, result: AppStreamResult, name: str, counts: LevelCounts) -> LevelReading:
    applications, connections = trial.mix.applications, joined_connections(counts.connections)
    of_each = [[one for one in counts.actions if one.application == number] for number in range(len(applications))]
    return LevelReading(
        direction=result.direction,
        name=name,
        level=trial.levels[counts.level],
        seconds=counts.seconds,
        total=_part(counts.actions),
        applications={one.name: _part(actions) for one, actions in zip(applications, of_each, strict=True)},
        actions={
            (application.name, application.actions[one.action].name): _part([one])
            for application, actions in zip(applications, of_each, strict=True)
            for one in actions
        },
        connections=connections,
        handshake=spread_of(connections.handshake),
        tls_handshake=spread_of(connections.tls_handshake),
        lag=spread_of(counts.lag),
        open_connections=counts.mean_open_connections,
        users=counts.mean_users,
        unserved=counts.unserved,
        header_bytes=result.users.header_bytes,
        workers=counts.cpu,
        users_at="" if trial.streams == (SEND,) else TWO_WAY[result.direction].source,
    )


def _part(actions: Sequence[ActionCounts]) -> Part:
    counts = joined_actions(actions)
    return Part(
        counts.transactions,
        counts.failures,
        counts.request_bytes,
        counts.response_bytes,
        spread_of(counts.first_byte),
        spread_of(counts.response),
        counts.media,
    )


_OF_THE_TAIL = 0.5
"""Of a p99.9: where the tester's own lag is this much of it, it speaks of the tester."""


def figures_of(reading: LevelReading, by_tester: bool) -> Iterator[Figure]:
    """The figures of a level, then those of its applications and actions; marked where the tester was the limit."""
    for figure in _figures(reading, "tester-limit" if by_tester else ""):
        yield replace(figure, mark="tester-limit") if _is_lag(figure, reading) else figure


def _is_lag(figure: Figure, reading: LevelReading) -> bool:
    """Whether a time at the far end of a distribution is the tester's own as much as anybody's."""
    tail = figure.quantity.endswith(("-p999", "-max"))
    return tail and reading.lag is not None and reading.lag.p999_s > _OF_THE_TAIL * figure.value


def _figures(reading: LevelReading, mark: Mark) -> Iterator[Figure]:
    labels = {"level": reading.name} | ({"users": reading.users_at} if reading.users_at else {})
    for quantity, value, more in _of_level(reading):
        if value is not None:
            yield Figure(quantity, value, labels | more, mark)
    if len(reading.applications) > 1:
        for name, part in reading.applications.items():
            yield from _of_part(reading, part, labels | {"application": name}, mark)
    for (application, action), part in reading.actions.items():
        if len(reading.actions) > 1:
            yield from _of_part(reading, part, labels | {"application": application, "action": action}, mark)


def _of_level(reading: LevelReading) -> Iterator[tuple[str, float | None, dict[str, str]]]:
    total, connections = reading.total, reading.connections
    ways = tuple({"direction": way} for way in reading.ways)
    yield "transactions-rate", reading.each_second(total.transactions), {}
    yield "connections-rate", reading.each_second(connections.opened), {}
    yield "open-connections", reading.open_connections, {}
    for way, bps in zip(ways, (reading.request_bps, reading.response_bps), strict=True):
        yield "app-goodput", bps, way
    for way, bps in zip(ways, reading.l2_bps, strict=True):
        yield "app-throughput-l2", bps, way
    for way, segments in zip(ways, (connections.segments_sent, connections.segments_received), strict=True):
        yield "packets-rate", reading.each_second(segments), way
    for quantity, time_s in times_of(total):
        yield quantity, time_s, {}
    if reading.handshake:
        yield "handshake-median", reading.handshake.median_s, {}
        yield "handshake-p99", reading.handshake.p99_s, {}
    if reading.tls_handshake:
        shaken = sum(connections.tls_handshake.values())
        yield "tls-handshakes-rate", reading.each_second(shaken), {}
        yield "tls-handshake-median", reading.tls_handshake.median_s, {}
        yield "tls-handshake-p99", reading.tls_handshake.p99_s, {}
    yield from ((quantity, value, {"direction": way}) for quantity, value, way in media_of(reading, total))
    yield "failed-transactions", total.failed_share, {}
    yield "reset-connections", connections.resets / max(connections.opened, 1), {}
    yield "segments-retransmitted", connections.retransmitted / max(connections.segments_sent, 1), {}
    for reason, number in total.failures.items():
        yield "failures", number, {"reason": reason}
    if reading.level.users is None:
        arrived = reading.unserved + total.attempted
        yield "unserved-arrivals", reading.unserved / arrived if arrived else None, {}
    yield "users-lag-p99", reading.lag.p99_s if reading.lag else None, {}


def times_of(part: Part) -> Iterator[tuple[str, float]]:
    """Every quantity of the times to the first and to the last byte, in seconds; none where nothing was answered."""
    for name, spread in (("first-byte", part.first_byte), ("response", part.response)):
        if spread:
            yield f"{name}-median", spread.median_s
            yield f"{name}-p999", spread.p999_s
            yield f"{name}-min", spread.min_s
            yield f"{name}-mean", spread.mean_s
            yield f"{name}-max", spread.max_s


def media_of(reading: LevelReading, part: Part) -> Iterator[tuple[str, float, str]]:
    """Loss and jitter of media streams, each way."""
    media = part.media
    if media is None:
        return
    counts = ((media.sent_up, media.lost_up, media.jitter_up), (media.sent_down, media.lost_down, media.jitter_down))
    for way, (sent, lost, jitters) in zip(reading.ways, counts, strict=True):
        jitter = spread_of(jitters)
        if sent:
            yield "media-loss", lost / sent, way
        if jitter:
            yield "media-jitter-median", jitter.median_s, way
            yield "media-jitter-max", jitter.max_s, way


def _of_part(reading: LevelReading, part: Part, labels: dict[str, str], mark: Mark) -> Iterator[Figure]:
    yield Figure("transactions-rate", reading.each_second(part.transactions), labels, mark)
    for quantity, value in times_of(part):
        if quantity.endswith(("-median", "-p999")):
            yield Figure(quantity, value, labels, mark)
    if part.failed_share is not None:
        yield Figure("failed-transactions", part.failed_share, labels, mark)
    for direction, number in zip(reading.ways, (part.request_bytes, part.response_bytes), strict=True):
        yield Figure("app-goodput", reading.each_second(number * 8), labels | {"direction": direction}, mark)
    for quantity, value, direction in media_of(reading, part):
        yield Figure(quantity, value, labels | {"direction": direction}, mark)
