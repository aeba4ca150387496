"""What the two ends of a policy check send: the far end answers only the exact bytes of a check of its trial, so that
what a device altered on the way counts as blocked.

Each request has the trial's proof in it (core.wire.app). Nothing here does harm: the test virus is the string that the
makers of scanners agreed upon for this, and does nothing.
"""

import hashlib
import struct
from dataclasses import dataclass

from harvok.core.trials.policy import TEST_VIRUS, PolicyCheck

_FLAGS = {"fin": 1, "syn": 2, "rst": 4, "psh": 8, "ack": 16, "urg": 32}
_SEGMENT = struct.Struct("!HHIIBBHHH")
_DNS_HEAD = struct.Struct("!6H")
_DNS_ADDRESS = bytes([198, 51, 100, 1])  # RFC 5737: for documentation
_FIELD_BYTES = 4096
TCP = 6


@dataclass(frozen=True, slots=True)
class CheckExchange:
    """The bytes of one check: what goes up, and what is to come back."""

    request: bytes
    answer: bytes


def test_virus() -> bytes:
    """The test file of the makers of virus scanners (EICAR), put together only now, so that none finds it here."""
    return b"X5O!P%@AP[4\\PZX54(P^)7CC)7}$" + b"EICAR-STANDARD-" + b"ANTIVIRUS-TEST-FILE!$H+H*"


def exchange_of(check: PolicyCheck, number: int, proof: str, host: str) -> CheckExchange:
    """The bytes of the `number`-th check of a trial; `host` is who is asked for where the check names nobody."""
    word = f"{proof}/{number}".encode()
    said = hashlib.sha256(word).hexdigest()[:24].encode()
    if check.by in ("http", "tls"):
        return _http(check, word, said, host)
    if check.by == "dns":
        return _dns(check, word)
    return CheckExchange(word + b"\n", said + b"\n")


def _http(check: PolicyCheck, word: bytes, said: bytes, host: str) -> CheckExchange:
    body = test_virus() if check.content == TEST_VIRUS else b""
    up, down = (body, said) if check.uploads else (b"", body or said)
    method = b"POST" if up or check.malformed == "two-lengths" else b"GET"
    lines = [method + b" /policy/" + word + b" HTTP/1.1", *_fields(check, up, host)]
    newline = b"\n" if check.malformed == "bare-newlines" else b"\r\n"
    head = b"HTTP/1.1 200 OK\r\nContent-Type: application/octet-stream\r\nContent-Length: %d\r\n" % len(down)
    return CheckExchange(newline.join([*lines, b"", up]), head + b"Connection: close\r\n\r\n" + down)


def _fields(check: PolicyCheck, up: bytes, host: str) -> list[bytes]:
    fields = [] if check.malformed == "no-host" else [b"Host: " + (check.host or host).encode()]
    if check.malformed == "space-in-field":
        fields.append(b"X-Check : 1")
    if check.malformed == "zero-byte":
        fields.append(b"X-Check: a\0b")
    left, number = check.header_bytes, 0
    while left > 0:
        fields.append(b"X-Long-%d: " % number + b"a" * min(left, _FIELD_BYTES))
        left, number = left - _FIELD_BYTES, number + 1
    if check.malformed == "two-lengths":
        fields += [b"Content-Length: 0", b"Content-Length: 5"]
    elif up:
        fields.append(b"Content-Length: %d" % len(up))
    return [*fields, b"Connection: close"]


def _dns(check: PolicyCheck, word: bytes) -> CheckExchange:
    """A question for the address of a name (RFC 1035 §4.1); its number follows from the trial."""
    number = int.from_bytes(hashlib.sha256(word).digest()[:2])
    name = b"".join(bytes([len(label)]) + label.encode() for label in check.host.split(".")) + b"\0"
    question = name + struct.pack("!HH", 1, 1)
    record = struct.pack("!HHHIH", 0xC00C, 1, 1, 0, len(_DNS_ADDRESS)) + _DNS_ADDRESS
    return CheckExchange(
        _DNS_HEAD.pack(number, 0x0100, 1, 0, 0, 0) + question,
        _DNS_HEAD.pack(number, 0x8180, 1, 1, 0, 0) + question + record,
    )


def segment_of(check: PolicyCheck, payload: bytes, source: tuple[str, int], target: tuple[str, int]) -> bytes:
    """One TCP segment (RFC 9293 §3.1) over IPv4 with the flags of a check, and its checksum."""
    flags = sum(_FLAGS[name] for name in check.flags)
    numbers = int.from_bytes(hashlib.sha256(payload).digest()[:4]), 0, 5 << 4, flags, 8192

    def with_sum(value: int) -> bytes:
        return _SEGMENT.pack(source[1], target[1], *numbers, value, 0) + payload

    segment = with_sum(0)
    pseudo = _ipv4(source[0]) + _ipv4(target[0]) + struct.pack("!BBH", 0, TCP, len(segment))
    return with_sum(_checksum(pseudo + segment))


def payload_of_segment(packet: bytes, port: int) -> bytes:
    """The payload of a TCP segment to a port, with its IPv4 header before it; nothing where it is another's."""
    begins = (packet[0] & 15) * 4 if packet else 0
    if begins < 20 or len(packet) < begins + _SEGMENT.size or packet[9] != TCP:
        return b""
    to_port, offset = struct.unpack_from("!2xH", packet, begins)[0], (packet[begins + 12] >> 4) * 4
    return packet[begins + offset :] if to_port == port else b""


def _ipv4(address: str) -> bytes:
    return bytes(map(int, address.split(".")))


def _checksum(data: bytes) -> int:
    """RFC 1071."""
    total: int = sum(struct.unpack(f"!{(len(data) + 1) // 2}H", data + b"\0" * (len(data) % 2)))
    while total >> 16:
        total = (total & 0xFFFF) + (total >> 16)
    return ~total & 0xFFFF
