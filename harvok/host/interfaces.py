"""The interface that traffic to an address really leaves by, and what the kernel tells about it (netlink, ethtool)."""

import sys
from contextlib import closing
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

from harvok.core.conditions import InterfaceFacts
from harvok.errors import PortError

if TYPE_CHECKING:
    from pyroute2 import IPRoute

UP, LOWER_UP = 0x1, 0x10000  # IFF_UP, IFF_LOWER_UP (uapi linux/if.h)
_ON_A_LOWER_PORT = {"vlan", "macvlan", "ipvlan"}  # carry no more than the port below them
_OF_SEVERAL_PORTS = {"bond", "team"}  # whose driver tells a speed for the whole
_OFFLOADS = {
    "tx-tcp-segmentation": "tcp-segmentation",
    "rx-gro": "receive-coalescing",
    "rx-lro": "large-receive",
    "tx-udp-segmentation": "udp-segmentation",
    "rx-checksum": "receive-checksum",
    "tx-checksum-ip-generic": "send-checksum",
}


def interface_towards(address: str, source: str | None = None, interface: str | None = None) -> InterfaceFacts | None:
    """Looks up the route to `address`, which may have a zone, and describes the interface; None where this
    system cannot tell."""
    if sys.platform != "linux":
        return None
    from pyroute2 import IPRoute
    from pyroute2.netlink.exceptions import NetlinkError

    address, _, zone = address.partition("%")
    interface = interface or zone
    with IPRoute() as kernel:
        try:
            index = kernel.link_lookup(ifname=interface)[0] if interface else _route_index(kernel, address, source)
            return describe(kernel, index)
        except (NetlinkError, IndexError):
            return None


@dataclass(frozen=True, slots=True)
class PortState:
    """What must be known of an interface before it may be a tester port."""

    facts: InterfaceFacts
    up: bool
    carrier: bool
    default_route: bool


def port_state(name: str) -> PortState | None:
    """Looks at an interface of this host; None when there is none of that name, also one that goes meanwhile, or this
    system cannot tell."""
    if sys.platform != "linux":
        return None
    from pyroute2 import IPRoute
    from pyroute2.netlink.exceptions import NetlinkError

    with IPRoute() as kernel:
        try:
            found = kernel.link_lookup(ifname=name)
            if not found:
                return None
            flags = kernel.get_links(found[0])[0]["flags"]
            routes = [r for r in kernel.get_default_routes() if r.get_attr("RTA_OIF") == found[0]]
            return PortState(describe(kernel, found[0]), bool(flags & UP), bool(flags & LOWER_UP), bool(routes))
        except (NetlinkError, IndexError):
            return None


def port_to_use(name: str, where_else: str, otherwise: str) -> PortState:
    """A port that may be used for tests. Raises PortError for one that is missing, is loopback, or carries this host's
    default route; the hints say what to do about a missing one, and what would happen to a network that is in use."""
    state = port_state(name)
    if state is None:
        raise PortError(f"there is no interface {name} on this host", where_else)
    if state.facts.kind == "loopback":
        raise PortError(f"{name} is loopback", "Name ports that a lead or a switch joins.")
    if state.default_route:
        raise PortError(f"this host reaches its network through {name} (default route)", otherwise)
    return state


def port_that_is_up(name: str, where_else: str, otherwise: str) -> PortState:
    """The same of one that is up already. Raises PortError."""
    state = port_to_use(name, where_else, otherwise)
    if not state.up:
        raise PortError(f"the interface {name} is down", f"Bring it up first: ip link set {name} up")
    return state


def link_ups_counted(name: str) -> int | None:
    """How often the kernel has seen an interface come up; None where it does not count."""
    try:
        return int(Path(f"/sys/class/net/{name}/carrier_up_count").read_text())
    except (OSError, ValueError):
        return None


def _route_index(kernel: "IPRoute", address: str, source: str | None) -> int:
    """The index of the interface that the kernel would send to `address` by."""
    wanted = {"dst": address} | ({"src": source} if source else {})
    return int(kernel.route("get", **wanted)[0].get_attr("RTA_OIF"))


def describe(kernel: "IPRoute", index: int) -> InterfaceFacts:
    """What the kernel tells of the interface with an index."""
    link = kernel.get_links(index)[0]
    name = str(link.get_attr("IFLA_IFNAME"))
    kind = _kind(link)
    driver = Path(f"/sys/class/net/{name}/device/driver")
    speed_bps, duplex = _speed(kernel, link, kind)
    return InterfaceFacts(
        name=name,
        kind=kind,
        driver=driver.resolve().name if driver.exists() else None,
        hardware_address=link.get_attr("IFLA_ADDRESS"),
        negotiated_bps=speed_bps,
        duplex=duplex,
        mtu_bytes=link.get_attr("IFLA_MTU"),
        offloads=_offloads(name),
    )


def _kind(link: Any) -> str:
    """`loopback`, `physical`, or the kernel's name for a virtual kind."""
    if link["flags"] & 0x8:  # IFF_LOOPBACK
        return "loopback"
    info = link.get_attr("IFLA_LINKINFO")
    return str(info.get_attr("IFLA_INFO_KIND")) if info else "physical"


def _speed(kernel: "IPRoute", link: Any, kind: str) -> tuple[float | None, str | None]:
    """(b/s, duplex) as negotiated. A virtual interface has none of its own, whatever its driver may claim."""
    if kind in _ON_A_LOWER_PORT and link.get_attr("IFLA_LINK"):
        lower = describe(kernel, link.get_attr("IFLA_LINK"))
        return lower.negotiated_bps, lower.duplex
    if kind != "physical" and kind not in _OF_SEVERAL_PORTS:
        return None, None
    from pyroute2 import Ethtool
    from pyroute2.ethtool.ioctl import EthtoolError

    try:
        with closing(Ethtool()) as kernel_driver:
            mode = kernel_driver.get_link_mode(link.get_attr("IFLA_IFNAME"))
    except (EthtoolError, OSError):
        return None, None
    known = mode.speed and mode.speed > 0
    return (mode.speed * 1e6, str(mode.duplex).lower()) if known else (None, None)


def _offloads(name: str) -> dict[str, bool]:
    """The offloads that change what a TCP test shows."""
    from pyroute2 import Ethtool
    from pyroute2.ethtool.ioctl import EthtoolError

    try:
        with closing(Ethtool()) as kernel_driver:
            features = kernel_driver.get_features(name).features
    except (EthtoolError, OSError):
        return {}
    return {ours: bool(features[theirs].enable) for theirs, ours in _OFFLOADS.items() if theirs in features}
