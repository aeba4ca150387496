"""A device made of this kernel, between tester ports, in network namespaces without names.

The namespaces live as long as one holder process, which ends when its parent does: nothing is left behind, not even
after kill -9, since the kernel takes down a namespace with all its links when nobody is in it. Without root the
holder makes itself a user namespace first.
"""

import ctypes
import json
import os
import sys
from collections.abc import Sequence
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Literal

from harvok.clock import SYSTEM
from harvok.core.gateway import CLIENTS, parse_features
from harvok.host.bridge import limit_addresses
from harvok.host.device_agent import DeviceAgent, agent_socket, serve
from harvok.host.firewall import apply_ruleset, cut_of, joined_again, no_frame_above, ruleset_of
from harvok.host.interfaces import UP
from harvok.host.offloads import switch
from harvok.worker.child import end_with_parent, enter_namespace, run, say, say_ready

if TYPE_CHECKING:
    from pyroute2 import IPRoute

DeviceKind = Literal["wire", "switch", "router", "path", "hosts", "gateway"]

TESTER_PORTS = ("port1", "port2")
DEVICE_PORTS = ("device1", "device2")
"""The interfaces of a device with two ports; one with more goes on in the same way."""
_NEW_USER, _NEW_NET = 0x1000_0000, 0x4000_0000
_RESET_S = 1.0
_TICKS_A_SECOND = 100  # USER_HZ, in which a bridge's times are told
_SNOOPING = {"br_mcast_snooping": 1, "br_mcast_query_response_intvl": _TICKS_A_SECOND // 10}
"""It floods groups for as long as it gives hosts to answer, from when it begins to ask them: a tenth of a second, which
it has to know by then."""
_CUT: set[str] = set()
"""Ports of the device that this process holds which forward nothing now."""
_LOCAL_TABLE = 255  # uapi linux/rtnetlink.h
_CLIENT_PORTS, _STATION_PORTS = "1024 65535", "26470-26479"
_LINE_OVERHEAD = 24  # FCS, preamble and gap, which a token bucket does not see by itself


def device_ports(number: int) -> list[str]:
    """The names of so many ports of a device."""
    return [f"device{one}" for one in range(1, number + 1)]


@dataclass(frozen=True, slots=True)
class DeviceSpec:
    """What to build; a `path` is two ports that nothing joins yet, and so are `hosts`, whose tester ports are apart,
    each in a namespace of its own, for ordinary sockets to talk from one to the other. A `gateway` routes between two
    such hosts, with `features` (core.gateway).

    `rate_bps` (of the line, preamble and gap counted) shapes each way, with a queue of `buffer_bytes`. A router has
    `addresses` with their prefix length on its two sides, hosts have them on their ports; a gateway has its own in
    `gateways`, as the hosts' routes have them.
    """

    kind: DeviceKind
    mtu_bytes: int = 1500
    rate_bps: float | None = None
    buffer_bytes: int = 64 * 1024
    addresses: tuple[tuple[str, ...], tuple[str, ...]] = ((), ())
    ports: int = 2
    aging_s: float = 300.0
    addresses_kept: int | None = None
    max_frame_bytes: int | None = None
    snooping: bool = False
    """For how long a switch keeps an address that says nothing, how many of them, and above which size it drops frames;
    None for any number."""
    gateways: tuple[tuple[str, ...], tuple[str, ...]] = ((), ())
    features: tuple[str, ...] = ()
    has_clients: bool = False
    """Whether the first host has all of core.gateway's CLIENTS besides its own address."""
    name: str = "device"
    speed_bps: float = 10e9
    """What its agent says of it."""

    @property
    def are_hosts(self) -> bool:
        """Whether the tester ports are apart."""
        return self.kind in ("hosts", "gateway")

    @property
    def can_be_asked(self) -> bool:
        """Whether it is a device of its own, with an agent; not one whose frames a process of ours carries."""
        return self.kind in ("switch", "router", "gateway")

    @property
    def device_addresses(self) -> list[tuple[str, ...]]:
        """What the device has on each side, with prefix length."""
        if self.kind == "router":
            return list(self.addresses)
        if self.kind != "gateway":
            return []
        return [
            tuple(f"{gateway}/{own.partition('/')[2]}" for gateway, own in zip(gateways, owns, strict=True))
            for gateways, owns in zip(self.gateways, self.addresses, strict=True)
        ]

    @property
    def tester_ports(self) -> list[str]:
        return [f"port{number}" for number in range(1, self.ports + 1)]

    @property
    def device_ports(self) -> list[str]:
        return device_ports(self.ports)


@dataclass(frozen=True, slots=True)
class Built:
    """Where the tester ports are: paths of the namespaces to enter, in order; the path of the device's own; and of
    `hosts` that of the second port. The device's agent answers at `agent_port` on
    loopback, of `hosts` on that of the first; 0 where it has none."""

    namespaces: list[str]
    device: str
    other: str = ""
    agent_port: int = 0


def hold(spec: DeviceSpec) -> None:
    """Builds the device, says where it is, and holds it until standard input closes."""
    rootless = os.geteuid() != 0
    hears = agent_socket()  # where the near end is, which of hosts is one of them: see below
    if rootless:
        _become_root_of_a_user_namespace()
    device_fd, tester_fd = new_network(), new_network()
    with _kernel() as kernel:  # in the tester's namespace, where the wire's two ends stay
        _make_ports(kernel, spec, device_fd)
    agent = None
    if spec.kind != "wire":
        enter_namespace(device_fd)
        kernel = _kernel()  # for as long as the device is there
        _make_device(kernel, spec)
        if spec.can_be_asked:
            shaped = spec.rate_bps is not None
            agent = DeviceAgent(spec.name, spec.kind, spec.device_ports, spec.speed_bps, shaped, kernel)
        enter_namespace(tester_fd)
    other_fd = _part(spec, tester_fd) if spec.are_hosts else None
    if spec.are_hosts:
        hears = agent_socket()
    own = f"/proc/{os.getpid()}"
    user = [f"{own}/ns/user"] if rootless else []
    other = f"{own}/fd/{other_fd}" if other_fd is not None else ""
    agent_port = hears.getsockname()[1] if agent else 0
    say_ready(asdict(Built([*user, f"{own}/fd/{tester_fd}"], f"{own}/fd/{device_fd}", other, agent_port)))
    while word := serve(agent, hears, sys.stdin):
        if word.strip() == "reset" and spec.kind != "wire":
            _reset(device_fd, spec)
        elif word.startswith("link "):
            say({"took_s": _set_link(device_fd, spec, *word.split()[1:])})
            enter_namespace(tester_fd)


def _become_root_of_a_user_namespace() -> None:
    user, group = os.geteuid(), os.getegid()
    _unshare(_NEW_USER)
    Path("/proc/self/setgroups").write_text("deny")
    Path("/proc/self/uid_map").write_text(f"0 {user} 1")
    Path("/proc/self/gid_map").write_text(f"0 {group} 1")


def new_network() -> int:
    """Makes a network namespace and enters it; returns its descriptor."""
    _unshare(_NEW_NET)
    return os.open("/proc/self/ns/net", os.O_RDONLY)


def _unshare(flags: int) -> None:
    libc = ctypes.CDLL(None, use_errno=True)
    if libc.unshare(flags):
        code = ctypes.get_errno()
        raise OSError(code, os.strerror(code))


def _kernel() -> "IPRoute":
    from pyroute2 import IPRoute

    return IPRoute()


def _make_ports(kernel: "IPRoute", spec: DeviceSpec, device_fd: int) -> None:
    if spec.kind != "gateway":
        no_chatter()
    pairs = zip(spec.tester_ports, spec.device_ports, strict=True)
    ends = list(pairs) if spec.kind != "wire" else [TESTER_PORTS]
    for near, far in ends:
        peer: dict[str, object] = {"ifname": far, "mtu": spec.mtu_bytes}
        if spec.kind != "wire":
            peer["net_ns_fd"] = device_fd
        kernel.link("add", ifname=near, kind="veth", mtu=spec.mtu_bytes, peer=peer)
    for name in spec.tester_ports:
        kernel.link("set", index=kernel.link_lookup(ifname=name)[0], state="up")


def _part(spec: DeviceSpec, tester_fd: int) -> int:
    """Moves the second port into a namespace of its own, and makes both ports those of ordinary hosts: with an address,
    sending every frame by itself with its checksum, as it would stand on a lead, and coalescing what they receive.
    Returns the descriptor of that namespace."""
    other_fd = new_network()
    enter_namespace(tester_fd)
    with _kernel() as kernel:
        kernel.link("set", index=kernel.link_lookup(ifname=TESTER_PORTS[1])[0], net_ns_fd=other_fd)
    sides = zip((tester_fd, other_fd), TESTER_PORTS, spec.addresses, spec.gateways, strict=True)
    for fd, port, addresses, gateways in sides:
        enter_namespace(fd)
        switch(port, {"tx-checksum-ip-generic": False, "rx-gro": True})
        _many_ports()
        with _kernel() as kernel:
            index = kernel.link_lookup(ifname=port)[0]
            be_host(kernel, index, addresses, gateways)
            if spec.has_clients and fd == tester_fd:
                lo = kernel.link_lookup(ifname="lo")[0]
                for clients in CLIENTS.values():
                    kernel.route("add", dst=str(clients), oif=lo, type="local", scope="host", table=_LOCAL_TABLE)
    enter_namespace(tester_fd)
    return other_fd


def _many_ports() -> None:
    """Has this namespace give connections nearly all ports, but those of a station. Where half of the range is taken,
    the kernel looks through all of the other half for each new connection (net/ipv4/inet_hashtables.c), which at 14 000
    connections of the usual range takes a millisecond."""
    settings = Path("/proc/sys/net/ipv4")
    (settings / "ip_local_reserved_ports").write_text(_STATION_PORTS)
    (settings / "ip_local_port_range").write_text(_CLIENT_PORTS)
    (settings / "tcp_tw_reuse").write_text("1")  # a port that waits may be used again after a second (RFC 6191)


def be_host(kernel: "IPRoute", index: int, addresses: Sequence[str], gateways: Sequence[str]) -> None:
    """Makes this namespace a host with one interface: its addresses, with prefix length, and its ways elsewhere."""
    for address in addresses:
        _add_address(kernel, index, address)
    for interface in (index, kernel.link_lookup(ifname="lo")[0]):
        kernel.link("set", index=interface, state="up")
    for gateway in gateways:
        kernel.route("add", dst="::/0" if ":" in gateway else "0.0.0.0/0", gateway=gateway, oif=index)


def _add_address(kernel: "IPRoute", index: int, address: str) -> None:
    text, _, length = address.partition("/")
    options = {"flags": 0x02} if ":" in text else {}  # IFA_F_NODAD: usable at once
    kernel.addr("add", index=index, address=text, prefixlen=int(length), **options)


def no_chatter() -> None:
    """Interfaces of this namespace send nothing by themselves: no IPv6 discovery of their own."""
    for which in ("all", "default"):
        path = Path(f"/proc/sys/net/ipv6/conf/{which}/disable_ipv6")
        if path.exists():
            path.write_text("1")


def _make_device(kernel: "IPRoute", spec: DeviceSpec) -> None:
    ports = [kernel.link_lookup(ifname=name)[0] for name in spec.device_ports]
    if spec.kind == "switch":
        _make_switch(kernel, spec, ports)
    elif spec.kind in ("path", "hosts"):
        no_chatter()  # a process of its own carries the frames
    else:
        _forward()
    for port, addresses in zip(ports, spec.device_addresses, strict=False):
        for address in addresses:
            _add_address(kernel, port, address)
    if spec.features:
        apply_ruleset(ruleset_of(parse_features(spec.features), *DEVICE_PORTS))
    for port in ports:
        kernel.link("set", index=port, state="up")
        if spec.rate_bps:
            _shape(kernel, port, spec)
    if spec.has_clients:
        _lead_to_clients(kernel, spec, ports[0])


def _make_switch(kernel: "IPRoute", spec: DeviceSpec, ports: Sequence[int]) -> None:
    no_chatter()
    aging = round(spec.aging_s * _TICKS_A_SECOND)
    groups = _SNOOPING if spec.snooping else {"br_mcast_snooping": 0}
    kernel.link("add", ifname="switch", kind="bridge", br_forward_delay=0, br_ageing_time=aging, **groups)
    switch = kernel.link_lookup(ifname="switch")[0]
    if spec.snooping:
        kernel.link("set", index=switch, kind="bridge", br_mcast_querier=1)
    if spec.addresses_kept:
        limit_addresses(switch, spec.addresses_kept)
    if spec.max_frame_bytes:
        apply_ruleset(no_frame_above(spec.max_frame_bytes))
    for port in ports:
        kernel.link("set", index=port, master=switch)
    kernel.link("set", index=switch, state="up")


def _lead_to_clients(kernel: "IPRoute", spec: DeviceSpec, port: int) -> None:
    """Those are behind the first host."""
    for near in (address.partition("/")[0] for address in spec.addresses[0]):
        kernel.route("add", dst=str(CLIENTS[6 if ":" in near else 4]), gateway=near, oif=port)


def _forward() -> None:
    """Has this namespace route, IPv4 and IPv6."""
    Path("/proc/sys/net/ipv4/ip_forward").write_text("1")
    six = Path("/proc/sys/net/ipv6/conf/all/forwarding")
    if six.exists():
        six.write_text("1")


def _reset(device_fd: int, spec: DeviceSpec) -> None:
    """Takes the device's ports down, waits, and brings them up again."""
    enter_namespace(device_fd)
    with _kernel() as kernel:
        ports = [kernel.link_lookup(ifname=name)[0] for name in spec.device_ports]
        for state, wait_s in (("down", _RESET_S), ("up", 0.0)):
            for port in ports:
                kernel.link("set", index=port, state=state)
            SYSTEM.sleep(wait_s)


def _set_link(device_fd: int, spec: DeviceSpec, port: str, state: str) -> float:
    """Takes a port of the device down, or brings it up. One that is cut forwards nothing and keeps its link up: `ready`
    loads what that takes, so that the first time is like the second. Returns how long it took, in seconds."""
    began_ns = SYSTEM.now_ns()
    enter_namespace(device_fd)
    if state == "cut":
        apply_ruleset(cut_of(port, spec.kind == "switch"))
        _CUT.add(port)
    elif state == "ready" or port in _CUT:
        apply_ruleset(joined_again(port, spec.kind == "switch"))
        _CUT.discard(port)
    with _kernel() as kernel:
        index = kernel.link_lookup(ifname=port)[0]
        if state in ("down", "up") and bool(kernel.get_links(index)[0]["flags"] & UP) != (state == "up"):
            kernel.link("set", index=index, state=state)
    return (SYSTEM.now_ns() - began_ns) / 1e9


def _shape(kernel: "IPRoute", port: int, spec: DeviceSpec) -> None:
    """A token bucket at the way out of a port, which counts the whole line and holds a millisecond's tokens."""
    from pyroute2.netlink.rtnl.tcmsg import sched_tbf

    assert spec.rate_bps
    plain = sched_tbf.get_parameters

    def counting_the_whole_line(wanted: dict[str, object]) -> object:
        options = plain(wanted)
        options["attrs"][0][1]["rate_overhead"] = _LINE_OVERHEAD
        return options

    rate = int(spec.rate_bps / 8)
    burst = max(2 * (spec.mtu_bytes + 14 + _LINE_OVERHEAD), rate // 1000)
    sched_tbf.get_parameters = counting_the_whole_line  # the library has no word for it; this process does nothing else
    kernel.tc("add", "tbf", port, rate=rate, burst=burst, limit=spec.buffer_bytes)
    sched_tbf.get_parameters = plain


if __name__ == "__main__":
    end_with_parent()
    run(lambda orders: hold(DeviceSpec(**json.loads(orders))))
