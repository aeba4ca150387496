"""Lends two ports of this host to two namespaces without names, and puts them back.

A holder process has the ports for as long as its standard input is open: when its parent ends, however that happens,
it moves them home and gives them back their addresses, routes, MTU and state. Should the holder itself be killed, the
kernel takes its namespaces down and moves physical ports home by itself; what they had is then in the notes that the
holder left, which `restore_left_over` reads. Needs root.
"""

import contextlib
import json
import os
import socket
import sys
from dataclasses import asdict, dataclass, field
from typing import TYPE_CHECKING, Any

from harvok.host.namespaces import be_host, new_network
from harvok.host.state import read_cleanup, remove_state, write_cleanup
from harvok.worker.child import enter_namespace, run, say_ready

if TYPE_CHECKING:
    from pyroute2 import IPRoute

_UP = 0x1  # IFF_UP
_STATIC_SCOPE_LINK = 253


@dataclass(frozen=True, slots=True)
class PairSpec:
    """Which ports to lend, and the address with prefix length that each has meanwhile; `gateways` are their ways
    elsewhere, empty where there is none. `notes` is the state file in which what they had is written down."""

    ports: tuple[str, str]
    addresses: tuple[str, str]
    notes: str
    gateways: tuple[str, str] = ("", "")


@dataclass(frozen=True, slots=True)
class Lent:
    """What a port had before it was lent: `addresses` are (address, prefix length), `routes` (destination, gateway)."""

    name: str
    index: int
    up: bool
    mtu_bytes: int
    addresses: list[tuple[str, int]] = field(default_factory=list)
    routes: list[tuple[str, str | None]] = field(default_factory=list)


def hold(spec: PairSpec) -> None:
    """Lends the ports, says where they are, and puts them back when standard input closes."""
    home = os.open("/proc/self/ns/net", os.O_RDONLY)
    kernel = _kernel()
    lent = [_describe(kernel, name) for name in spec.ports]
    write_cleanup(spec.notes, {"ports": [asdict(port) for port in lent]})
    host_namespaces = []
    try:
        for port, address, gateway in zip(lent, spec.addresses, spec.gateways, strict=True):
            network = new_network()
            enter_namespace(home)
            host_namespaces.append(network)
            kernel.link("set", index=port.index, net_ns_fd=network)
            _configure(network, home, port, address, gateway)
        own = f"/proc/{os.getpid()}/fd"
        say_ready([f"{own}/{network}" for network in host_namespaces])
        sys.stdin.read()
    finally:
        for port, network in zip(lent, host_namespaces, strict=False):
            _bring_home(network, home, port)
        for port in lent:
            _restore(kernel, port)
        remove_state(spec.notes)


def _kernel() -> "IPRoute":
    from pyroute2 import IPRoute

    return IPRoute()


def _describe(kernel: "IPRoute", name: str) -> Lent:
    index = kernel.link_lookup(ifname=name)[0]
    link = kernel.get_links(index)[0]
    addresses = [
        (str(one.get_attr("IFA_ADDRESS")), int(one["prefixlen"]))
        for one in kernel.get_addr(index=index)
        if one["scope"] != _STATIC_SCOPE_LINK
    ]
    routes = [
        (f"{route.get_attr('RTA_DST')}/{route['dst_len']}", route.get_attr("RTA_GATEWAY"))
        for family in (socket.AF_INET, socket.AF_INET6)
        for route in kernel.get_routes(family=family, oif=index, table=254)
        if route.get_attr("RTA_DST") and route.get_attr("RTA_GATEWAY")
    ]
    return Lent(name, index, bool(link["flags"] & _UP), int(link.get_attr("IFLA_MTU")), addresses, routes)


def _configure(network: int, home: int, port: Lent, address: str, gateway: str) -> None:
    """Gives a lent port its address and route for the test, and brings it up."""
    enter_namespace(network)
    try:
        with _kernel() as kernel:
            index = kernel.link_lookup(ifname=port.name)[0]
            kernel.link("set", index=index, mtu=port.mtu_bytes)
            be_host(kernel, index, [address], [gateway] if gateway else [])
    finally:
        enter_namespace(home)


def _bring_home(network: int, home: int, port: Lent) -> None:
    with contextlib.suppress(OSError, IndexError):
        enter_namespace(network)
        with _kernel() as kernel:
            kernel.link("set", index=kernel.link_lookup(ifname=port.name)[0], net_ns_fd=home)
    enter_namespace(home)


def _restore(kernel: "IPRoute", port: Lent) -> bool:
    """Gives a port at home what it had; False when it is not there."""
    from pyroute2.netlink.exceptions import NetlinkError

    found = kernel.link_lookup(ifname=port.name)
    if not found:
        return False
    steps: list[tuple[Any, tuple[Any, ...], dict[str, Any]]] = [
        (kernel.link, ("set",), {"index": found[0], "mtu": port.mtu_bytes}),
        (kernel.link, ("set",), {"index": found[0], "state": "up" if port.up else "down"}),
    ]
    for address, prefix in port.addresses:
        steps.append((kernel.addr, ("add",), {"index": found[0], "address": address, "prefixlen": prefix}))
    for destination, gateway in port.routes:
        steps.append((kernel.route, ("add",), {"dst": destination, "gateway": gateway, "oif": found[0]}))
    for call, words, fields in steps:
        with contextlib.suppress(NetlinkError):  # what is there already need not be put back
            call(*words, **fields)
    return True


def restore_lent_ports(notes: str) -> tuple[list[str], list[str]]:
    """Puts back what a killed holder left undone; returns the names of the ports that have all they had, and of those
    that are gone. Both are empty when nothing was left."""
    reported = read_cleanup(notes)
    try:
        lent = [_read_back(one) for one in reported["ports"]] if reported else []
    except (ValueError, TypeError, KeyError):
        return [], []
    if reported is None:
        return [], []
    with _kernel() as kernel:
        restored = [port.name for port in lent if _restore(kernel, port)]
    remove_state(notes)
    return restored, [port.name for port in lent if port.name not in restored]


def _read_back(reported: dict[str, Any]) -> Lent:
    addresses = [(str(address), int(prefix)) for address, prefix in reported["addresses"]]
    routes = [(str(destination), gateway) for destination, gateway in reported["routes"]]
    return Lent(reported["name"], reported["index"], reported["up"], reported["mtu_bytes"], addresses, routes)


def work(orders: str) -> None:
    """Outlives a parent that was killed, for as long as it takes to put the ports back."""
    ports = json.loads(orders)
    hold(PairSpec(tuple(ports["ports"]), tuple(ports["addresses"]), ports["notes"], tuple(ports["gateways"])))


if __name__ == "__main__":
    run(work, "Run Harvok as root.")
