"""Between which addresses test frames travel: one pair, or many pseudo-random ones (RFC 2544 §12, RFC 4814)."""

import ipaddress
import random
from collections.abc import Sequence
from dataclasses import dataclass, replace

from harvok.core.models.rig import Side
from harvok.core.stream_frames import StreamFrames
from harvok.core.wire.frame import Ends, FrameIp
from harvok.core.wire.groups import group_mac

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


def address_pairs(
    source: TesterPort, destination: TesterPort, ip: FrameIp, frames: StreamFrames, pairs: int, routed: bool
) -> list[Ends]:
    """Between which addresses the frames of a stream travel in turn, `pairs` of them unless the stream has its own
    number.

    Of those between ports the first pair is that of the ports themselves, the rest are drawn, the same ones each time:
    beside a switch hardware addresses as well, beside a router hosts of the networks on either side. Frames to
    everybody have the broadcast addresses (RFC 919), those to groups have these. Learned addresses are hardware
    addresses alone, the same ones when they are learned and when they are sent to.
    """
    first = Ends(source.mac, _next_hop(source, destination, routed))
    if ip:
        first = replace(first, source_ip=str(source.address(ip).ip), destination_ip=str(destination.address(ip).ip))
    number = frames.addresses or pairs
    if frames.cast == "broadcast":
        return [_to_everybody(first, source, ip)]
    if frames.cast == "multicast":
        return [_to_group(first, frames.address_set + group, ip) for group in range(number)]
    if frames.cast == "learning":
        return [replace(first, source_mac=mac) for mac in learned_macs(number, frames.address_set)]
    if frames.cast == "learned":
        return [replace(first, destination_mac=mac) for mac in learned_macs(number, frames.address_set)]
    return _pairs(first, source, destination, ip, number, routed)


def _pairs(
    first: Ends, source: TesterPort, destination: TesterPort, ip: FrameIp, pairs: int, routed: bool
) -> list[Ends]:
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


def learned_macs(number: int, address_set: int) -> list[bytes]:
    """A set of hardware addresses, drawn at random, the same ones each time: those of one maker, counted up, would fill
    a table that hashes them evenly, and no office has such."""
    rng = random.Random(_SEED + address_set)
    found: dict[bytes, None] = {}
    while len(found) < number:
        found[_some_mac(rng)] = None
    return list(found)


def _to_everybody(first: Ends, source: TesterPort, ip: FrameIp) -> Ends:
    """IPv6 has no broadcast address: all nodes of the link (RFC 4291 §2.7.1)."""
    if ip == 6:
        return replace(first, destination_mac=bytes.fromhex("333300000001"), destination_ip="ff02::1")
    everybody = str(source.address(ip).network.broadcast_address) if ip else ""
    return replace(first, destination_mac=b"\xff" * 6, destination_ip=everybody)


def group_address(group: int, ip: FrameIp) -> str:
    """The IP address of a group, numbered from 0: of the block that an organisation uses for itself (RFC 2365 §6.2,
    RFC 4291 §2.7). Frames without IP have the hardware address of IPv4's."""
    first = ipaddress.IPv6Address("ff18::2544:0:0") if ip == 6 else ipaddress.IPv4Address("239.192.0.0")
    return str(first + group)


def _to_group(first: Ends, group: int, ip: FrameIp) -> Ends:
    address = group_address(group, ip)
    return replace(first, destination_mac=group_mac(address), destination_ip=address if ip else "")


def distinct(addresses: Sequence[bytes]) -> list[bytes]:
    """Each address once, in order."""
    return list(dict.fromkeys(addresses))
