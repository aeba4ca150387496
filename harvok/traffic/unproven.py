"""Connections that have not yet proven whose they are: bounded in number, for each address and in all.

Whoever proves himself does so with the first packets that he sends. So where there are too many, the oldest goes, of
the address that has most: a flood displaces itself, and nobody else.
"""

import ipaddress
from collections.abc import Iterator
from typing import Generic, TypeVar

ConnectionT = TypeVar("ConnectionT")

_IPV6_SITE_BITS = 64  # of which one host may use every address


class Unproven(Generic[ConnectionT]):
    """Knows what waits, and says who must go. Not to be called from several threads."""

    def __init__(self, max_of_all: int, max_of_one: int) -> None:
        self._max_of_all, self._max_of_one = max_of_all, max_of_one
        self._waiting: dict[ConnectionT, str] = {}  # the oldest first

    def __len__(self) -> int:
        return len(self._waiting)

    def __contains__(self, connection: object) -> bool:
        return connection in self._waiting

    def __iter__(self) -> Iterator[ConnectionT]:
        return iter(self._waiting)

    def add(self, connection: ConnectionT, address: str) -> ConnectionT | None:
        """One more; returns the one that has to go for it."""
        whose = neighbourhood(address)
        self._waiting[connection] = whose
        of_each: dict[str, int] = {}
        for one in self._waiting.values():
            of_each[one] = of_each.get(one, 0) + 1
        if of_each[whose] > self._max_of_one:
            return self._oldest_of(whose)
        if len(self._waiting) > self._max_of_all:
            return self._oldest_of(max(of_each, key=lambda one: of_each[one]))
        return None

    def discard(self, connection: ConnectionT) -> bool:
        """It proved itself, or went; False when it was not waiting."""
        return self._waiting.pop(connection, None) is not None

    def _oldest_of(self, whose: str) -> ConnectionT:
        oldest = next(connection for connection, one in self._waiting.items() if one == whose)
        del self._waiting[oldest]
        return oldest


def neighbourhood(address: str) -> str:
    """The address itself, of IPv6 the network of which one host may use all addresses; a zone is left out."""
    try:
        found = ipaddress.ip_address(address.partition("%")[0])
    except ValueError:
        return address
    if found.version == 4:
        return str(found)
    mapped = found.ipv4_mapped
    return str(mapped or ipaddress.ip_network((found, _IPV6_SITE_BITS), strict=False))
