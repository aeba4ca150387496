"""The Basic Encoding Rules of ASN.1 (ITU-T X.690), as far as SNMP uses them (RFC 3417 §8): definite lengths only.

Whatever is read comes from elsewhere: every length is held against what is there, and every number against its bound.
"""

from collections.abc import Iterator

INTEGER, OCTETS, NULL, OID, SEQUENCE = 0x02, 0x04, 0x05, 0x06, 0x30
ObjectId = tuple[int, ...]

MAX_ARC = 2**32 - 1
MAX_ARCS = 128
"""RFC 2578 §3.5: of a sub-identifier, and how many there may be."""
_MAX_INTEGER_BYTES = 9  # a Counter64 with its sign
_MAX_LENGTH_BYTES = 4


class MalformedBerError(ValueError):
    """What came is not what these rules allow. Told to nobody: it is as if nothing had come."""


def element(tag: int, content: bytes) -> bytes:
    """A value with its tag and length (X.690 §8.1)."""
    size = len(content)
    if size < 0x80:
        return bytes((tag, size)) + content
    length = size.to_bytes((size.bit_length() + 7) // 8, "big")
    return bytes((tag, 0x80 | len(length))) + length + content


def integer(value: int, tag: int = INTEGER) -> bytes:
    """Two's complement in as few bytes as can be (X.690 §8.3)."""
    bits = (value if value >= 0 else ~value).bit_length()
    return element(tag, value.to_bytes(bits // 8 + 1, "big", signed=True))


def object_id(arcs: ObjectId) -> bytes:
    """X.690 §8.19: the first two arcs share a byte."""
    content = bytearray()
    for arc in (arcs[0] * 40 + arcs[1], *arcs[2:]):
        content += _base_128(arc)
    return element(OID, bytes(content))


def _base_128(arc: int) -> bytes:
    digits = [arc & 0x7F]
    while arc := arc >> 7:
        digits.append(0x80 | arc & 0x7F)
    return bytes(reversed(digits))


class BerReader:
    """Reads one element after the other. Raises MalformedBerError for what is cut short or out of bounds."""

    def __init__(self, data: bytes, at: int = 0, end: int | None = None) -> None:
        self._data, self._at, self._end = data, at, len(data) if end is None else end

    @property
    def has_more(self) -> bool:
        return self._at < self._end

    def next(self) -> tuple[int, bytes]:
        """The tag and the content of the next element."""
        tag, at, end = self._header()
        self._at = end
        return tag, self._data[at:end]

    def inside(self, *tags: int) -> tuple[int, "BerReader"]:
        """The tag of the next element, which must be one of `tags`, and a reader of what is in it."""
        tag, at, end = self._header()
        if tag not in tags:
            raise MalformedBerError(f"an element of type {tag:#x} where {tags[0]:#x} was to be")
        self._at = end
        return tag, BerReader(self._data, at, end)

    def integer(self) -> int:
        return read_integer(self._of(INTEGER))

    def octets(self) -> bytes:
        return self._of(OCTETS)

    def object_id(self) -> ObjectId:
        return read_object_id(self._of(OID))

    def _of(self, wanted: int) -> bytes:
        tag, content = self.next()
        if tag != wanted:
            raise MalformedBerError(f"an element of type {tag:#x} where {wanted:#x} was to be")
        return content

    def _header(self) -> tuple[int, int, int]:
        """The tag of the next element, and where its content begins and ends."""
        data, at = self._data, self._at
        if at + 2 > self._end:
            raise MalformedBerError("an element is cut short")
        tag, size = data[at], data[at + 1]
        at += 2
        if size & 0x80:
            number = size & 0x7F
            if not 1 <= number <= _MAX_LENGTH_BYTES or at + number > self._end:
                raise MalformedBerError("an element has no definite length")
            size = int.from_bytes(data[at : at + number], "big")
            at += number
        if at + size > self._end:
            raise MalformedBerError("an element is longer than what holds it")
        return tag, at, at + size


def read_integer(content: bytes) -> int:
    """A signed number. Raises MalformedBerError for none, and for one of more than 64 bits."""
    if not 1 <= len(content) <= _MAX_INTEGER_BYTES:
        raise MalformedBerError(f"a number of {len(content)} bytes")
    return int.from_bytes(content, "big", signed=True)


def read_unsigned(content: bytes) -> int:
    """A counter. Some agents forget the sign byte that a high first bit asks for, and none means a negative one."""
    if not 1 <= len(content) <= _MAX_INTEGER_BYTES:
        raise MalformedBerError(f"a number of {len(content)} bytes")
    return int.from_bytes(content, "big")


def read_object_id(content: bytes) -> ObjectId:
    """Raises MalformedBerError for an empty one, one that is cut short, and one that is out of bounds."""
    arcs = list(_arcs(content))
    if not arcs or len(arcs) >= MAX_ARCS:
        raise MalformedBerError(f"an object identifier of {len(content)} bytes")
    first = min(arcs[0] // 40, 2)
    return (first, arcs[0] - 40 * first, *arcs[1:])


def _arcs(content: bytes) -> Iterator[int]:
    arc, is_within = 0, False
    for byte in content:
        arc = arc << 7 | byte & 0x7F
        if arc > MAX_ARC:
            raise MalformedBerError("an object identifier with a number of more than 32 bits")
        is_within = bool(byte & 0x80)
        if not is_within:
            yield arc
            arc = 0
    if is_within:
        raise MalformedBerError("an object identifier is cut short")


def object_id_of(text: str) -> ObjectId:
    """As people write them: 1.3.6.1.2.1.1.1."""
    return tuple(int(arc) for arc in text.split("."))


def written(arcs: ObjectId) -> str:
    """Alike, the other way round."""
    return ".".join(map(str, arcs))
