"""STAMP test packets (RFC 8762 §4, with the session identifiers and TLVs of RFC 8972), as sender and as reflector.

Unauthenticated packets have 44 bytes, authenticated ones 112, whose last 16 are HMAC-SHA-256 over the first 96, cut
short (RFC 8762 §4.4). Time stamps are NTP's: seconds since 1900 and a binary fraction (RFC 5905 §6).
"""

import hashlib
import hmac
import struct
from dataclasses import dataclass

PLAIN_BYTES, AUTHENTICATED_BYTES = 44, 112
MIN_BYTES = 41
"""What a TWAMP Light reflector needs at least for its answer (RFC 8762 §4.6): such senders are answered too."""
STAMP_PORT = 862

_HMAC_BYTES, _COVERED_BYTES = 16, 96
_NTP_EPOCH_S = 2_208_988_800  # 1900 to 1970, RFC 5905 §6
_SENT = struct.Struct("!IQHH")
_REFLECTED = struct.Struct("!IQHHQIQHHB")
_SENT_AUTHENTICATED = struct.Struct("!I12xQHH")
_REFLECTED_AUTHENTICATED = struct.Struct("!I12xQHH4xQ8xI12xQH6xB15x")
_MAX_HELD_NS = 10 * 1_000_000_000
"""How long a reflector may keep a packet before it answers."""
_EXTRA_PADDING = 1  # RFC 8972 §4.1
_UNRECOGNISED, _MALFORMED = 0x80, 0x40  # RFC 8972 §4


@dataclass(frozen=True, slots=True)
class SenderPacket:
    """What a sender says. Times are nanoseconds since 1970 by its wall clock; `error` is the 16-bit estimate."""

    number: int
    sent_ns: int
    error: int
    ssid: int = 0


@dataclass(frozen=True, slots=True)
class ReflectorPacket:
    """What a reflector answers: its own number, when it received and when it sent, and what the sender had said."""

    number: int
    sent_ns: int
    error: int
    ssid: int
    received_ns: int
    sender: SenderPacket
    sender_ttl: int


def error_estimate(synchronised: bool, error_s: float) -> int:
    """The error estimate of RFC 4656 §4.1.2: S bit, Z bit 0 for NTP stamps, scale and multiplier."""
    scale, multiplier = 0, max(error_s, 1e-9) * 2**32
    while multiplier > 255 and scale < 63:
        scale, multiplier = scale + 1, multiplier / 2
    return (synchronised << 15) | (scale << 8) | max(min(round(multiplier), 255), 1)


def estimated_error_s(error: int) -> float:
    """The error in seconds that an estimate says."""
    return (error & 0xFF) * 2.0 ** ((error >> 8) & 0x3F) / 2**32


def to_ntp(wall_ns: int) -> int:
    seconds, ns = divmod(wall_ns, 1_000_000_000)
    return ((seconds + _NTP_EPOCH_S) & 0xFFFFFFFF) << 32 | ((ns << 32) + 500_000_000) // 1_000_000_000


def from_ntp(stamp: int) -> int:
    """Nanoseconds since 1970. Stamps of the era from 2036 on are read as such (RFC 5905 §6)."""
    seconds = stamp >> 32
    if seconds < 1 << 31:
        seconds += 1 << 32
    return (seconds - _NTP_EPOCH_S) * 1_000_000_000 + ((stamp & 0xFFFFFFFF) * 1_000_000_000 + (1 << 31) >> 32)


def _sealed(packet: bytes, key: bytes) -> bytes:
    return packet + hmac.digest(key, packet[:_COVERED_BYTES], hashlib.sha256)[:_HMAC_BYTES]


def _is_sealed(raw: bytes, key: bytes) -> bool:
    seal = hmac.digest(key, raw[:_COVERED_BYTES], hashlib.sha256)[:_HMAC_BYTES]
    return hmac.compare_digest(raw[_COVERED_BYTES:AUTHENTICATED_BYTES], seal)


def encode_sender(packet: SenderPacket, key: bytes | None = None) -> bytes:
    """A sender's packet; with a key, an authenticated one."""
    fields = (packet.number, to_ntp(packet.sent_ns), packet.error, packet.ssid)
    if key is None:
        return _SENT.pack(*fields).ljust(PLAIN_BYTES, b"\0")
    return _sealed(_SENT_AUTHENTICATED.pack(*fields).ljust(_COVERED_BYTES, b"\0"), key)


def decode_sender(raw: bytes, key: bytes | None = None) -> SenderPacket | None:
    """What a reflector got; None for what is no packet of this mode, or not sealed with the key."""
    if len(raw) < (MIN_BYTES if key is None else AUTHENTICATED_BYTES) or (key and not _is_sealed(raw, key)):
        return None
    number, stamp, error, ssid = (_SENT if key is None else _SENT_AUTHENTICATED).unpack_from(raw)
    return SenderPacket(number, from_ntp(stamp), error, ssid)


def encode_reflector(packet: ReflectorPacket, request: bytes, key: bytes | None = None) -> bytes:
    """The answer to `request`: exactly as long as that, with its TLVs given back and flagged (RFC 8972 §4)."""
    sender = packet.sender
    fields = (to_ntp(packet.sent_ns), packet.error, packet.ssid, to_ntp(packet.received_ns), sender.number)
    if key is None:
        base = _REFLECTED.pack(
            packet.number, *fields, to_ntp(sender.sent_ns), sender.error, 0, packet.sender_ttl
        ).ljust(PLAIN_BYTES, b"\0")
    else:
        body = _REFLECTED_AUTHENTICATED.pack(
            packet.number, *fields, to_ntp(sender.sent_ns), sender.error, packet.sender_ttl
        )
        base = _sealed(body, key)
    return (base + _flagged(request[len(base) :]))[: len(request)]


def decode_reflector(raw: bytes, key: bytes | None = None) -> ReflectorPacket | None:
    """What a sender got back; None for what is no answer of this mode, or not sealed with the key."""
    if len(raw) < (MIN_BYTES if key is None else AUTHENTICATED_BYTES) or (key and not _is_sealed(raw, key)):
        return None
    if key is None:
        number, stamp, error, ssid, received, of, of_stamp, of_error, _, ttl = _REFLECTED.unpack_from(raw)
    else:
        number, stamp, error, ssid, received, of, of_stamp, of_error, ttl = _REFLECTED_AUTHENTICATED.unpack_from(raw)
    sender = SenderPacket(of, from_ntp(of_stamp), of_error, ssid)
    return ReflectorPacket(number, from_ntp(stamp), error, ssid, from_ntp(received), sender, ttl)


def reads_as_answer(raw: bytes, key: bytes | None = None) -> bool:
    """Whether a packet for a reflector looks like what a reflector sends: where a sender leaves zeros, or padding, it
    says when it was received, a short time before it was sent. Stamps of clocks that are far off look alike."""
    packet = decode_reflector(raw, key)
    if packet is None or packet.received_ns == from_ntp(0):
        return False
    return 0 <= packet.sent_ns - packet.received_ns <= _MAX_HELD_NS


def seal_of(raw: bytes) -> bytes:
    """What no two authenticated packets of a sender have in common."""
    return raw[_COVERED_BYTES:AUTHENTICATED_BYTES]


def _flagged(tlvs: bytes) -> bytes:
    """TLVs as they go back: extra padding as it came, any other marked unrecognised, and a broken one malformed."""
    out, at = bytearray(tlvs), 0
    while len(tlvs) - at >= 4:
        kind, length = tlvs[at + 1], int.from_bytes(tlvs[at + 2 : at + 4])
        if at + 4 + length > len(tlvs):
            out[at] |= _MALFORMED
            break
        out[at] = out[at] & 0x1F if kind == _EXTRA_PADDING else (out[at] & 0x1F) | _UNRECOGNISED
        at += 4 + length
    return bytes(out)
