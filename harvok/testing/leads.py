"""A switch of this kernel with a lead on either side, each of which can lose frames, in namespaces of their own.

    tester: port1 ── lead: in1, out1 ── device: device1, device2 ── lead: in2, out2 ── tester: port2

A process holds them all, and answers SNMP for the device; everything goes with it. Needs root.
"""

import json
import sys
from dataclasses import dataclass
from types import TracebackType
from typing import Literal

from pyroute2 import IPRoute

from harvok.clock import SYSTEM
from harvok.core.models.rig import SIDE_1, SIDE_2
from harvok.device.orders import SnmpAccess, WatchOrders
from harvok.host.device_agent import COMMUNITY, DeviceAgent, agent_socket, serve
from harvok.host.firewall import apply_ruleset
from harvok.host.namespaces import DEVICE_PORTS, TESTER_PORTS, new_network, no_chatter
from harvok.rigs.device_files import DeviceSettings
from harvok.rigs.ports import FramePorts, Wiring
from harvok.worker.child import end_with_parent, enter_namespace, run, say_ready
from harvok.worker.parent import Worker

Place = Literal["entry lead", "device", "exit lead"]
_NAME, _SPEED_BPS = "dome-sw-a", 10e9


@dataclass(frozen=True, slots=True)
class Losing:
    """Where one frame of IPv4 in so many is lost; nowhere by itself."""

    where: Place | None = None
    one_in: int = 100


class SwitchWithLeads:
    """A context manager; `ports` run frame trials through it, `device` says how the switch is asked."""

    def __init__(self, losing: Losing, every_s: float = 0.1) -> None:
        orders = {"where": losing.where, "one_in": losing.one_in}
        self._worker = Worker("harvok.testing.leads", json.dumps(orders))
        told = self._worker.wait_ready()
        namespaces = [f"/proc/{self._worker.pid}/fd/{told['tester']}"]
        interfaces = {name: name for name in TESTER_PORTS}
        wiring = Wiring(_NAME, interfaces, (SIDE_1, SIDE_2), "switch", 1500, namespaces)
        self.ports = FramePorts(wiring, SYSTEM, (), self._worker.pid)
        access = SnmpAccess("127.0.0.1", told["agent"], COMMUNITY)
        ends = dict(zip(TESTER_PORTS, DEVICE_PORTS, strict=True))
        self.device = DeviceSettings(_NAME, WatchOrders(access, every_s, DEVICE_PORTS), ends)

    def __enter__(self) -> "SwitchWithLeads":
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.ports.__exit__(kind, error, trace)
        self._worker.kill()


def hold(losing: Losing) -> None:
    """Builds everything, says where it is, and holds it until standard input closes."""
    hears = agent_socket()
    entry_fd, device_fd, exit_fd, tester_fd = (_quiet_network() for _ in range(4))
    with IPRoute() as kernel:
        _pair(kernel, TESTER_PORTS[0], "in1", entry_fd)
        _pair(kernel, TESTER_PORTS[1], "out2", exit_fd)
    enter_namespace(device_fd)
    with IPRoute() as kernel:
        _pair(kernel, DEVICE_PORTS[0], "out1", entry_fd)
        _pair(kernel, DEVICE_PORTS[1], "in2", exit_fd)
    places: tuple[tuple[Place, int, tuple[str, str]], ...] = (
        ("entry lead", entry_fd, ("in1", "out1")),
        ("device", device_fd, DEVICE_PORTS),
        ("exit lead", exit_fd, ("in2", "out2")),
    )
    for place, fd, ports in places:
        enter_namespace(fd)
        _bridge(ports)
        if place == losing.where:
            apply_ruleset(_RULES.format(one_in=losing.one_in))
    enter_namespace(device_fd)
    agent = DeviceAgent(_NAME, "switch", DEVICE_PORTS, _SPEED_BPS, False, IPRoute())
    enter_namespace(tester_fd)
    say_ready({"tester": tester_fd, "agent": hears.getsockname()[1]})
    while serve(agent, hears, sys.stdin):
        pass


_RULES = """
table bridge lead {{
chain forward {{ type filter hook forward priority 0; policy accept;
ether type ip numgen inc mod {one_in} 0 counter drop
}}
}}
"""


def _quiet_network() -> int:
    fd = new_network()
    no_chatter()
    return fd


def _pair(kernel: IPRoute, name: str, other: str, other_fd: int) -> None:
    kernel.link("add", ifname=name, kind="veth", peer={"ifname": other, "net_ns_fd": other_fd})
    kernel.link("set", index=kernel.link_lookup(ifname=name)[0], state="up")


def _bridge(ports: tuple[str, str]) -> None:
    with IPRoute() as kernel:
        kernel.link("add", ifname="bridge", kind="bridge", br_mcast_snooping=0, br_forward_delay=0)
        bridge = kernel.link_lookup(ifname="bridge")[0]
        for port in ports:
            kernel.link("set", index=kernel.link_lookup(ifname=port)[0], master=bridge, state="up")
        kernel.link("set", index=bridge, state="up")


if __name__ == "__main__":
    end_with_parent()
    run(lambda orders: hold(Losing(**json.loads(orders))))
