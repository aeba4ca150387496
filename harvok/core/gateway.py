"""What a gateway does besides forwarding: features that can be switched on one by one, to see what each costs."""

import ipaddress
import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from harvok.errors import UsageError

MAX_RULES, MAX_TABLE = 100_000, 10_000_000
CLIENTS: dict[int, ipaddress.IPv4Network | ipaddress.IPv6Network] = {
    4: ipaddress.IPv4Network("198.18.64.0/18"),
    6: ipaddress.IPv6Network("2001:2:0:1:c::/112"),
}
"""Within the networks of the near side (RFC 2544, RFC 5180): where users come from that have addresses of their own."""
MAX_CLIENTS = CLIENTS[4].num_addresses - 2
_NUMBERED = re.compile(r"(rules|table|block)=(\d+)")
_FORM = "Features are stateful, nat, rules=1000 (or another number), table=10000 and block=23, a port."


@dataclass(frozen=True, slots=True)
class GatewayFeatures:
    """`stateful` lets in only what was asked for from inside; `nat` hides the inside behind one address; `rules` are
    gone through for each packet and match none; `table` holds so many connections, and no more are let through;
    nothing goes to the ports of `blocks`."""

    stateful: bool = False
    nat: bool = False
    rules: int = 0
    table: int | None = None
    blocks: tuple[int, ...] = ()

    @property
    def names(self) -> list[str]:
        """As files have them."""
        return list(self._names())

    def _names(self) -> Iterator[str]:
        if self.stateful:
            yield "stateful"
        if self.nat:
            yield "nat"
        if self.rules:
            yield f"rules={self.rules}"
        if self.table is not None:
            yield f"table={self.table}"
        yield from (f"block={port}" for port in self.blocks)


def parse_features(texts: Sequence[str]) -> GatewayFeatures:
    """Features as files have them. Raises UsageError for one that there is not, and for one that is there twice."""
    numbers: dict[str, int] = {}
    blocks: list[int] = []
    for text in texts:
        match = _NUMBERED.fullmatch(text)
        if not match and text not in ("stateful", "nat"):
            raise UsageError(f"there is no feature '{text}'", _FORM)
        if match and match[1] == "block":
            blocks.append(int(match[2]))
        elif match:
            if match[1] in numbers:
                raise UsageError(f"the feature {match[1]} is there twice", _FORM)
            numbers[match[1]] = int(match[2])
    rules, table = numbers.get("rules", 0), numbers.get("table")
    if rules > MAX_RULES or not 1 <= (table or 1) <= MAX_TABLE:
        raise UsageError(f"up to {MAX_RULES} rules, and a table of 1 to {MAX_TABLE} connections", _FORM)
    if not all(1 <= port <= 65_535 for port in blocks):
        raise UsageError("ports are 1 to 65535", _FORM)
    return GatewayFeatures("stateful" in texts, "nat" in texts, rules, table, tuple(sorted(set(blocks))))


def client_addresses(number: int, ip_version: int = 4) -> tuple[str, ...]:
    """The addresses of so many clients; none where the near end's own is enough."""
    if number <= 1:
        return ()
    return tuple(str(CLIENTS[ip_version][1 + place]) for place in range(number))
