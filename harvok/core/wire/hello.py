"""The first bytes of every data connection: proof that it belongs to a trial which the station has prepared.

    0      4        5        6       8                24                56
    +------+--------+--------+-------+----------------+-----------------+
    | HVOK | version| role   | flow  | trial id (16)  | HMAC-SHA-256    |
    +------+--------+--------+-------+----------------+-----------------+

The HMAC covers the first 24 bytes, under the key that the control connection handed out for this trial. The
station answers with one byte, WELCOME, and sends nothing at all to a connection that has not proven itself.
"""

import hashlib
import hmac
import struct
from dataclasses import dataclass

from harvok.core.ends import Role

HELLO_BYTES = 56
KEY_BYTES = 32
TRIAL_ID_BYTES = 16
WELCOME = b"\x06"

_HEAD = struct.Struct("!4sBBH16s")
_MAGIC = b"HVOK"
_VERSION = 1
_ROLES: tuple[Role, ...] = ("sender", "receiver")


@dataclass(frozen=True, slots=True)
class Hello:
    """Which flow of which trial a connection is; `role` is the part that the near end plays on it."""

    trial_id: bytes
    role: Role
    flow: int


def encode_hello(hello: Hello, key: bytes) -> bytes:
    """The bytes that open a data connection."""
    head = _HEAD.pack(_MAGIC, _VERSION, _ROLES.index(hello.role), hello.flow, hello.trial_id)
    return head + hmac.digest(key, head, hashlib.sha256)


def decode_hello(raw: bytes, key: bytes) -> Hello | None:
    """The hello, or None for anything that is not one made with this key: a stranger gets no reason."""
    if len(raw) != HELLO_BYTES:
        return None
    head, proof = raw[: _HEAD.size], raw[_HEAD.size :]
    if not hmac.compare_digest(proof, hmac.digest(key, head, hashlib.sha256)):
        return None
    magic, version, role, flow, trial_id = _HEAD.unpack(head)
    if magic != _MAGIC or version != _VERSION or role >= len(_ROLES):
        return None
    return Hello(trial_id=trial_id, role=_ROLES[role], flow=flow)
