"""How a user's request tells the service of a trial what to answer. Worker processes import this file.

Every request carries the proof that it belongs to the trial: 24 hexadecimal digits that follow from the trial's key.

In HTTP/1.1 it is the first part of the path, followed by names for people and by the size of the body wanted:

    GET /0123456789abcdef01234567/images/fetch/64000?after=20000

`after` is the service's own time in microseconds. A request with a body is a POST. The plain exchange has a head:

    0    1       2       4          12               20             24               32
    +----+-------+-------+----------+----------------+--------------+----------------+----
    | AE | close | 0     | proof    | response bytes | after, in µs | request bytes  | …
    +----+-------+-------+----------+----------------+--------------+----------------+----

and then the request's body; the response is the body alone.
"""

import hashlib
import hmac
import re
import struct
from dataclasses import dataclass

from harvok.core.trials.app import MAX_BODY_BYTES
from harvok.core.wire.http1 import MalformedMessageError, make_request

PROOF_DIGITS = 24
MAX_AFTER_US = 3_600_000_000

_EXCHANGE = struct.Struct("!BBH8sQIQ")
EXCHANGE_BYTES = _EXCHANGE.size
EXCHANGE_MARK = 0xAE
_TARGET = re.compile(rb"/([0-9a-f]{24})(?:/[\w.%~+-]{1,200}){0,4}/(\d{1,13})(?:\?after=(\d{1,10}))?")
_NOT_IN_PATHS = re.compile(r"[^\w.-]+", re.ASCII)


@dataclass(frozen=True, slots=True)
class Wanted:
    """What a request asks for: a body of so many bytes, after so long; and how many bytes of its own are to come."""

    response_bytes: int
    after_us: int
    request_bytes: int
    close: bool


def proof_of(trial_id: bytes, key: bytes) -> str:
    """What requests of a trial carry."""
    return hmac.digest(key, b"application" + trial_id, hashlib.sha256).hex()[:PROOF_DIGITS]


def target_of(proof: str, names: tuple[str, ...], wanted: Wanted) -> str:
    """The path that asks for something."""
    shown = "/".join(_NOT_IN_PATHS.sub("-", name)[:100].strip("-") or "-" for name in names)
    after = f"?after={wanted.after_us}" if wanted.after_us else ""
    return f"/{proof}/{shown}/{wanted.response_bytes}{after}"


def read_target(target: bytes, proof: bytes) -> tuple[int, int] | None:
    """(bytes of the response, microseconds to wait) that a path asks for; None without the trial's proof. Raises
    MalformedMessageError for one with it that makes no sense."""
    match = _TARGET.fullmatch(target)
    if not match:
        if hmac.compare_digest(target[1 : 1 + PROOF_DIGITS], proof):
            raise MalformedMessageError("no size in the path")
        return None
    if not hmac.compare_digest(match[1], proof):
        return None
    return _within(int(match[2]), int(match[3] or 0))


def make_http(proof: str, names: tuple[str, ...], host: str, wanted: Wanted) -> bytes:
    """The head of an HTTP/1.1 request."""
    method = "POST" if wanted.request_bytes else "GET"
    return make_request(method, target_of(proof, names, wanted), host, wanted.request_bytes, wanted.close)


def make_exchange(proof: str, wanted: Wanted) -> bytes:
    """The head of a plain exchange."""
    return _EXCHANGE.pack(
        EXCHANGE_MARK,
        wanted.close,
        0,
        bytes.fromhex(proof)[:8],
        wanted.response_bytes,
        wanted.after_us,
        wanted.request_bytes,
    )


def read_exchange(head: bytes, proof: bytes) -> Wanted | None:
    """What a plain exchange asks for; None without the trial's proof. Raises MalformedMessageError."""
    mark, close, zero, shown, response_bytes, after_us, request_bytes = _EXCHANGE.unpack(head)
    if mark != EXCHANGE_MARK or not hmac.compare_digest(shown, bytes.fromhex(proof.decode())[:8]):
        return None
    if zero or close > 1 or request_bytes > MAX_BODY_BYTES:
        raise MalformedMessageError("no exchange")
    response_bytes, after_us = _within(response_bytes, after_us)
    return Wanted(response_bytes, after_us, request_bytes, bool(close))


def _within(response_bytes: int, after_us: int) -> tuple[int, int]:
    if response_bytes > MAX_BODY_BYTES or after_us > MAX_AFTER_US:
        raise MalformedMessageError("too much asked for")
    return response_bytes, after_us
