"""What the users of one process do: every request made beforehand, and where what became of it is counted."""

from itertools import count
from math import lcm

from harvok.core.measures.bins import BINS_UP_TO_AN_HOUR, bin_of, sparse
from harvok.core.trials.app import Action, ActionCounts, Application, AppMix, ConnectionCounts, MediaCounts
from harvok.core.wire.app import Wanted, make_exchange, make_http, target_of
from harvok.core.wire.http2 import make_request_block
from harvok.core.wire.media import Asked, MediaReport, Reception
from harvok.traffic.app.media_users import Media

_IN_ONE_PIECE_BYTES = 65_536
_MAX_EXCHANGES = 4096
_ONE_SEGMENT_BYTES = 1200
"""Goes in one segment over any path that carries IPv6 (RFC 8200 §5)."""


class Request:
    """A request, and what is known of its answer. `upload_bytes` of the body follow the request from a pattern; `last`
    is the request of a connection's last transaction. `head` is learned from the first answer: where one begins with
    it, it has `whole` bytes. In HTTP/2 the request is a header block."""

    __slots__ = ("head", "last", "request", "request_bytes", "response_bytes", "upload_bytes", "whole")

    def __init__(self, request: bytes, last: bytes, wanted: Wanted, body: bytes) -> None:
        joined = body if len(body) == wanted.request_bytes else b""
        self.request, self.last = request + joined, last + joined
        self.upload_bytes = wanted.request_bytes - len(joined)
        self.request_bytes = len(request) + wanted.request_bytes
        self.response_bytes = wanted.response_bytes
        self.head, self.whole = b"\0", -1


class Doing:
    """One action of an application: its exchanges and pauses, taken in turn, and its counts. `whole` are the times of
    answers that came in one piece, so that their first byte was their last, `first` and `last` those of the others.
    `straight` is what follows at once for a user who stays, where nothing has to be waited for; `at` its number."""

    __slots__ = (
        "at", "exchanges", "failures", "first", "jitter_down", "jitter_up", "last", "lost_down", "lost_up", "media",
        "name", "next_exchange", "next_think", "request_bytes", "response_bytes", "sent_media", "straight", "thinks_ns",
        "times", "transactions", "whole",
    )  # fmt: skip

    def __init__(self, action: Action, exchanges: list[Request]) -> None:
        self.media = _media_of(action)
        self.name, self.times, self.at = action.name, action.times, 0
        self.straight: Doing | None = None
        self.exchanges, self.next_exchange = exchanges, 0
        self.thinks_ns, self.next_think = [int(think_s * 1e9) for think_s in action.think_s], 0
        self.clear()

    def clear(self) -> None:
        """Counts from nothing."""
        self.transactions = self.request_bytes = self.response_bytes = 0
        self.whole, self.first, self.last = [0] * BINS_UP_TO_AN_HOUR, [0] * BINS_UP_TO_AN_HOUR, [0] * BINS_UP_TO_AN_HOUR
        self.failures: dict[str, int] = {}
        self.sent_media = self.lost_up = self.lost_down = 0
        self.jitter_up: dict[int, int] = {}
        self.jitter_down: dict[int, int] = {}

    def count_media(self, sent: int, reported: MediaReport, heard: Reception) -> None:
        """A media stream is over, of which each end sent so many datagrams."""
        self.sent_media += sent
        self.lost_up += max(sent - reported.came, 0)
        self.lost_down += max(sent - heard.came, 0)
        for jitters, jitter_ns in ((self.jitter_up, reported.jitter_us * 1000), (self.jitter_down, heard.jitter_ns)):
            at = bin_of(jitter_ns)
            jitters[at] = jitters.get(at, 0) + 1

    def take_exchange(self) -> Request:
        """The next request."""
        at = self.next_exchange
        self.next_exchange = at + 1 if at + 1 < len(self.exchanges) else 0
        return self.exchanges[at]

    def think_ns(self) -> int:
        """The next pause."""
        at = self.next_think
        self.next_think = at + 1 if at + 1 < len(self.thinks_ns) else 0
        return self.thinks_ns[at]

    def counts(self, application: int, action: int) -> ActionCounts:
        """What became of it since it was cleared."""
        whole = sparse(self.whole)
        return ActionCounts(
            application,
            action,
            self.transactions,
            self.request_bytes,
            self.response_bytes,
            _joined(whole, sparse(self.first)),
            _joined(whole, sparse(self.last)),
            dict(self.failures),
            self._media_counts() if self.media else None,
        )

    def _media_counts(self) -> MediaCounts:
        sent = self.sent_media
        return MediaCounts(sent, self.lost_up, sent, self.lost_down, dict(self.jitter_up), dict(self.jitter_down))


def _media_of(action: Action) -> Media | None:
    if not action.packets_per_s:
        return None
    gap_ns = round(1e9 / action.packets_per_s)
    asked = Asked(max(round(gap_ns / 1000), 1), action.datagrams, action.response_bytes[0])
    return Media(action.datagrams, gap_ns, action.request_bytes[0], asked)


def _joined(one: dict[int, int], other: dict[int, int]) -> dict[int, int]:
    return {number: one.get(number, 0) + other.get(number, 0) for number in sorted(one.keys() | other.keys())}


class Using:
    """One application: what its users do, and the counts of its connections. It `is_brief` where each has one request
    of one segment; `short` are those of them that were over before anything could be sent again, of which some were
    `looked_at`, and stand for the others."""

    __slots__ = (
        "actions", "connections", "handshake", "has_calls", "has_streams", "is_brief", "looked_at", "name",
        "opened", "resets", "retransmitted", "segments_received",
        "segments_sent", "short", "short_received", "short_sent",
        "tls", "tls_handshake", "transactions_per_connection",
    )  # fmt: skip

    def __init__(self, application: Application, actions: list[Doing]) -> None:
        self.name, self.actions = application.name, actions
        self.connections, self.tls = application.connections, application.tls
        self.has_streams, self.has_calls = application.protocol == "http/2", application.protocol == "udp"
        for number, action in enumerate(actions):
            action.at = number
        self.transactions_per_connection = application.transactions_per_connection or -1
        self.is_brief = self.transactions_per_connection == 1 and _asks_in_one_segment(actions)
        self.clear()

    def clear(self) -> None:
        """Counts from nothing."""
        for action in self.actions:
            action.clear()
        self.opened = self.resets = self.segments_sent = self.segments_received = self.retransmitted = 0
        self.short = self.looked_at = self.short_sent = self.short_received = 0
        self.handshake, self.tls_handshake = [0] * BINS_UP_TO_AN_HOUR, [0] * BINS_UP_TO_AN_HOUR

    def _of_short(self, seen: int) -> int:
        """The segments of all short connections, by those of the ones that were looked at."""
        return round(seen * self.short / self.looked_at) if self.looked_at else 0

    def counts(self, application: int) -> ConnectionCounts:
        """What became of its connections since it was cleared."""
        return ConnectionCounts(
            application,
            self.opened,
            self.resets,
            self.segments_sent + self._of_short(self.short_sent),
            self.segments_received + self._of_short(self.short_received),
            self.retransmitted,
            sparse(self.handshake),
            sparse(self.tls_handshake),
        )


def _asks_in_one_segment(actions: list[Doing]) -> bool:
    exchanges = [exchange for doing in actions for exchange in doing.exchanges]
    return all(len(exchange.last) + exchange.upload_bytes <= _ONE_SEGMENT_BYTES for exchange in exchanges)


def script_of(mix: AppMix, proof: str, host: str, bodies: bytes) -> list[Using]:
    """Everything that users of a mix can do, towards a service that goes by `host`. Small bodies are cut from
    `bodies`."""
    script = [
        Using(one, [Doing(action, _exchanges(one, action, proof, host, bodies)) for action in one.actions])
        for one in mix.applications
    ]
    for using in script:
        _find_straight_ways(using, again=mix.shared_by == "users")
    return script


def _find_straight_ways(using: Using, again: bool) -> None:
    """Where one transaction follows upon another without a pause; round again, too, where users stay with what they
    do."""
    if (
        using.has_streams
        or using.has_calls
        or using.connections > 1
        or any(action.times > 1 for action in using.actions)
    ):
        return
    for action, following in zip(using.actions, [*using.actions[1:], using.actions[0]], strict=True):
        if not any(action.thinks_ns) and (again or following is not using.actions[0]):
            action.straight = following


def _exchanges(application: Application, action: Action, proof: str, host: str, bodies: bytes) -> list[Request]:
    """As many as it takes until requests, responses and service times come round together, or a good many."""
    if application.protocol == "udp":
        return []
    number = min(lcm(*map(len, (action.request_bytes, action.response_bytes, action.service_s))), _MAX_EXCHANGES)
    made: dict[Wanted, Request] = {}
    return [
        made.setdefault(wanted, _exchange(application, action, proof, host, wanted, bodies))
        for wanted, _ in zip((_wanted(action, turn) for turn in count()), range(number), strict=False)
    ]


def _wanted(action: Action, turn: int) -> Wanted:
    service_s = action.service_s[turn % len(action.service_s)]
    return Wanted(
        action.response_bytes[turn % len(action.response_bytes)],
        round(service_s * 1e6),
        action.request_bytes[turn % len(action.request_bytes)],
        False,
    )


def _exchange(
    application: Application, action: Action, proof: str, host: str, wanted: Wanted, bodies: bytes
) -> Request:
    last = Wanted(wanted.response_bytes, wanted.after_us, wanted.request_bytes, True)
    body = bodies[: wanted.request_bytes] if wanted.request_bytes <= _IN_ONE_PIECE_BYTES else b""
    if application.protocol == "tcp":
        exchange = Request(make_exchange(proof, wanted), make_exchange(proof, last), wanted, body)
        exchange.head, exchange.whole = b"", wanted.response_bytes
        return exchange
    names = application.name, action.name
    if application.protocol == "http/2":
        scheme, method = "https" if application.tls else "http", "POST" if wanted.request_bytes else "GET"
        block = make_request_block(method, scheme, host, target_of(proof, names, wanted), wanted.request_bytes)
        return Request(block, block, wanted, b"")
    return Request(make_http(proof, names, host, wanted), make_http(proof, names, host, last), wanted, body)
