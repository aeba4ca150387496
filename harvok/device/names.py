"""Names of what can be set on a device, as people write them."""

from harvok.core.wire.ber import MAX_ARC, ObjectId
from harvok.core.wire.snmp import SnmpValue
from harvok.errors import UsageError

_NAMED: dict[str, ObjectId] = {
    "ifAdminStatus": (1, 3, 6, 1, 2, 1, 2, 2, 1, 7),
    "ifAlias": (1, 3, 6, 1, 2, 1, 31, 1, 1, 1, 18),
    "sysContact": (1, 3, 6, 1, 2, 1, 1, 4),
    "sysLocation": (1, 3, 6, 1, 2, 1, 1, 6),
}
_HINT = f"Write it as 1.3.6.1.2.1.2.2.1.7.3, or by a name with its index: {', '.join(_NAMED)}, as ifAdminStatus.3."


def object_named(text: str) -> ObjectId:
    """An object by its numbers, or by a name of the usual MIBs and its index. Raises UsageError."""
    name, _, index = text.partition(".")
    try:
        arcs = tuple(int(arc) for arc in index.split("."))
        named = _NAMED[name] if name in _NAMED else (int(name),)
    except ValueError:
        raise UsageError(f"'{text}' names nothing that can be set", _HINT) from None
    found = (*named, *arcs)
    if len(found) < 2 or not all(0 <= arc <= MAX_ARC for arc in found):
        raise UsageError(f"'{text}' names nothing that can be set", _HINT)
    return found


def value_written(text: str) -> SnmpValue:
    """A number, or a text, in quotes where it would be taken for a number."""
    text = text.strip()
    if text.startswith('"') and text.endswith('"') and len(text) > 1:
        return text[1:-1].encode()
    try:
        return int(text)
    except ValueError:
        return text.encode()
