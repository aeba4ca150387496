"""Datagrams of a media stream, such as a call: both ends send on their own clocks, and each tells the other what it has
had so far, as the reports of RTP do (RFC 3550 §6.4). Worker processes import this file.

    0    1      2        4          12       16       20          28
    +----+------+--------+----------+--------+--------+-----------+----------------------------+----
    | AD | kind | 0      | proof    | call   | number | sent, ns  | what is asked, or a report | …
    +----+------+--------+----------+--------+--------+-----------+----------------------------+----

Every datagram of a user says what he asks for: gap in µs (4), datagrams (4), bytes of each (2), 0 (2). Every datagram
of the service has a report: datagrams that came (4), jitter in µs (4), 0 (4). Proof is the first 8 bytes of the trial's
(core.wire.app).
"""

import hmac
import struct
from dataclasses import dataclass

_HEAD = struct.Struct("!BBH8sIIQ")
_ASKED = struct.Struct("!IIHH")
_REPORT = struct.Struct("!III")
MARK, ASKS, BRINGS, REPORTS = 0xAD, 1, 2, 3
MIN_MEDIA_BYTES = _HEAD.size + _ASKED.size
MAX_MEDIA_BYTES = 1472
MAX_DATAGRAMS = 10_000_000
_MIN_GAP_US = 100
_PROOF_BYTES = 8


@dataclass(frozen=True, slots=True)
class Asked:
    """What a user wants to have: so many datagrams, one each `gap_us`."""

    gap_us: int
    datagrams: int
    size_bytes: int


@dataclass(frozen=True, slots=True)
class MediaReport:
    """What an end has had so far."""

    came: int
    jitter_us: int


@dataclass(frozen=True, slots=True)
class MediaDatagram:
    """What a datagram says. `asked` is that of a user, `report` that of the service."""

    kind: int
    call: int
    number: int
    sent_ns: int
    asked: Asked | None
    report: MediaReport | None


def media_proof(proof: str) -> bytes:
    """What datagrams of a trial carry."""
    return bytes.fromhex(proof)[:_PROOF_BYTES]


def make_media(proof: bytes, kind: int, call: int, number: int, sent_ns: int, tail: Asked | MediaReport) -> bytes:
    """The head of a datagram, which is filled up to its size."""
    head = _HEAD.pack(MARK, kind, 0, proof, call, number, sent_ns)
    if isinstance(tail, Asked):
        return head + _ASKED.pack(tail.gap_us, tail.datagrams, tail.size_bytes, 0)
    return head + _REPORT.pack(tail.came, tail.jitter_us, 0)


def read_media(data: bytes, proof: bytes) -> MediaDatagram | None:
    """What a datagram says; None for a stranger's, and for one that makes no sense."""
    if len(data) < MIN_MEDIA_BYTES:
        return None
    mark, kind, zero, shown, call, number, sent_ns = _HEAD.unpack_from(data)
    if mark != MARK or zero or not hmac.compare_digest(shown, proof):
        return None
    if kind == ASKS:
        asked = Asked(*_ASKED.unpack_from(data, _HEAD.size)[:3])
        possible = asked.gap_us >= _MIN_GAP_US and 0 < asked.datagrams <= MAX_DATAGRAMS
        if not possible or not MIN_MEDIA_BYTES <= asked.size_bytes <= MAX_MEDIA_BYTES:
            return None
        return MediaDatagram(kind, call, number, sent_ns, asked, None)
    if kind not in (BRINGS, REPORTS):
        return None
    return MediaDatagram(kind, call, number, sent_ns, None, MediaReport(*_REPORT.unpack_from(data, _HEAD.size)[:2]))


class Reception:
    """What has come of a stream, counted as it comes; duplicates once."""

    __slots__ = ("_before_ns", "_jitter_ns", "_seen", "came")

    def __init__(self) -> None:
        self.came = 0
        self._seen = bytearray()
        self._before_ns: int | None = None
        self._jitter_ns = 0.0

    @property
    def jitter_ns(self) -> int:
        """RFC 3550 §6.4.1."""
        return int(self._jitter_ns)

    @property
    def report(self) -> MediaReport:
        return MediaReport(self.came, min(self.jitter_ns // 1000, 2**32 - 1))

    def take(self, number: int, sent_ns: int, now_ns: int) -> None:
        """A datagram has come."""
        if number >= MAX_DATAGRAMS or self._is_known(number):
            return
        self.came += 1
        transit_ns = now_ns - sent_ns
        if self._before_ns is not None:
            self._jitter_ns += (abs(transit_ns - self._before_ns) - self._jitter_ns) / 16
        self._before_ns = transit_ns

    def _is_known(self, number: int) -> bool:
        place, bit = number >> 3, 1 << (number & 7)
        if place >= len(self._seen):
            self._seen.extend(bytes(place + 64 - len(self._seen)))
        known = bool(self._seen[place] & bit)
        self._seen[place] |= bit
        return known
