"""Between which addresses test frames travel: one pair, or many pseudo-random ones (RFC 2544 §12, RFC 4814)."""

import ipaddress
import random
from collections.abc import Sequence
from dataclasses import dataclass, replace

from harvok.core.models.rig import Side
from harvok.core.wire.frame import Ends, FrameIp

_LOWEST_PORT, _HIGHEST_PORT = 1024, 65535  # RFC 4814 §4.4
_SEED = 2544


@dataclass(frozen=True, slots=True)
class TesterPort:
    """One tester port: its interface, the hardware address it speaks with, the router's on its side if there is one,
    and the place where it is ("" is this host)."""

    interface: str
    mac: bytes
    side: Side
    gateway_mac: bytes | None = None
    place: str = ""

    def address(self, ip: FrameIp) -> ipaddress.IPv4Interface | ipaddress.IPv6Interface:
        """Its own address with the network it is in."""
        return next(a for a in map(ipaddress.ip_interface, self.side.addresses) if a.version == ip)

    def gateway(self, ip: FrameIp) -> str | None:
        """The router's address on this side, if there is one of that version."""
        return next((a for a in self.side.gateways if ipaddress.ip_address(a).version == ip), None)


def own_mac(number: int) -> bytes:
    """The hardware address of a tester port: locally administered (IEEE 802 §8.2), and not the interface's own, so that
    this host's kernel does not take test frames for its own."""
    return bytes([0x02, 0x25, 0x44, 0, 0, number])


def address_pairs(source: TesterPort, destination: TesterPort, ip: FrameIp, pairs: int, routed: bool) -> list[Ends]:
    """`pairs` pairs; the first is that of the ports themselves, the rest are drawn, the same ones each time.

    Beside a switch hardware addresses are drawn as well; beside a router, hosts of the networks on either side.
    """
    first = Ends(source.mac, _next_hop(source, destination, routed))
    if ip:
        first = replace(first, source_ip=str(source.address(ip).ip), destination_ip=str(destination.address(ip).ip))
    rng = random.Random(_SEED)
    return [first, *(_drawn(first, source, destination, ip, routed, rng) for _ in range(pairs - 1))]


def _next_hop(source: TesterPort, destination: TesterPort, routed: bool) -> bytes:
    return source.gateway_mac if routed and source.gateway_mac else destination.mac


def _drawn(
    first: Ends, source: TesterPort, destination: TesterPort, ip: FrameIp, routed: bool, rng: random.Random
) -> Ends:
    macs = (first.source_mac, first.destination_mac) if routed else (_some_mac(rng), _some_mac(rng))
    ports = rng.randint(_LOWEST_PORT, _HIGHEST_PORT), rng.randint(_LOWEST_PORT, _HIGHEST_PORT)
    if not ip:
        return Ends(*macs)
    return Ends(*macs, _some_host(source, ip, rng), _some_host(destination, ip, rng), *ports)


def _some_mac(rng: random.Random) -> bytes:
    return bytes([0x02, 0x25]) + rng.randbytes(4)


def _some_host(port: TesterPort, ip: FrameIp, rng: random.Random) -> str:
    """A host of the port's network that is neither the network itself, its broadcast, nor the router."""
    network, gateway = port.address(ip).network, port.gateway(ip)
    size = min(network.num_addresses, 1 << 16)
    while True:
        host = str(network[rng.randrange(1, max(size - 1, 2))])
        if host != gateway:
            return host


def distinct(addresses: Sequence[bytes]) -> list[bytes]:
    """Each address once, in order."""
    return list(dict.fromkeys(addresses))
