"""Which port of a device each end of a test is wired to, where nobody has said: from LLDP, or from which counters moved
by known traffic."""

from collections.abc import Mapping

from harvok.core.device.reading import DeviceFacts, PortCounts

_MIN_FRAMES = 200
"""Fewer frames than these may come together by chance of whatever else the device forwards."""
_MORE, _FEWER = 0.05, 0.5
"""Beside a test's own frames a port counts those that were sent to be learnt, and some of other programs; and half of
them may be lost on the way before nothing can be told any more."""


def by_lldp(facts: DeviceFacts, hardware_addresses: Mapping[str, str]) -> dict[str, str]:
    """The device's port by the end whose hardware address it sees at the other end of its lead."""
    seen = {port.neighbour_mac.lower(): port.name for port in facts.ports if port.neighbour_mac}
    return {end: seen[mac.lower()] for end, mac in hardware_addresses.items() if mac.lower() in seen}


def by_traffic(
    changes: Mapping[str, PortCounts], source: str, destination: str, sent: int, received: int
) -> dict[str, str]:
    """The ports that frames from one end to another entered and left by: the only ones that counted as many. Empty
    where there are none, or several."""
    if received < _MIN_FRAMES:
        return {}
    entries = [name for name, counts in changes.items() if _is_about(counts.frames_in, sent)]
    exits = [name for name, counts in changes.items() if _is_about(counts.frames_out, received)]
    if len(entries) != 1 or len(exits) != 1 or entries == exits:
        return {}
    return {source: entries[0], destination: exits[0]}


def _is_about(counted: int | None, frames: int) -> bool:
    return counted is not None and _FEWER * frames <= counted <= (1 + _MORE) * frames + _MIN_FRAMES / 10
