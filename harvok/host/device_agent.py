"""The agent of a device made of this kernel: it answers SNMP with what the kernel counts of the device's ports.

Its socket is one of the namespace in which it was made, where the near end is; what it counts is of the device's
own, whose file stays that one's however the process moves.
"""

import os
import select
import socket
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any, TextIO

from harvok.clock import SYSTEM
from harvok.core.device.reading import PortCounts
from harvok.core.wire.snmp_agent import AgentPort, AgentState, answer_to, objects_of
from harvok.host.interfaces import LOWER_UP
from harvok.host.port_counters import frames_counted

if TYPE_CHECKING:
    from pyroute2 import IPRoute

COMMUNITY = "harvok"
_MAX_REQUEST = 65_535
_LINKS_KNOWN_S = 0.5
"""Whether ports are up is asked of the kernel no more often than that: it takes a hundred times as long as counting."""
_CPU_OVER_S = 0.25
_IRQ, _SOFTIRQ = 5, 6  # proc(5), /proc/stat


def agent_socket() -> socket.socket:
    """Where an agent hears, on loopback of the namespace of whoever calls this."""
    made = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    made.bind(("127.0.0.1", 0))
    return made


class DeviceAgent:
    """Answers for the device whose network namespace this process is in when this one is made."""

    def __init__(
        self, name: str, kind: str, ports: Sequence[str], speed_bps: float, shaped: bool, kernel: "IPRoute"
    ) -> None:
        self._name, self._description = name, f"a {kind} of this host's kernel, made by Harvok ({os.uname().release})"
        self._ports, self._speed_bps, self._shaped, self._kernel = ports, speed_bps, shaped, kernel
        self._counted = Path("/proc/thread-self/net/dev").open()  # noqa: SIM115 as long as the device lives
        self._indices = {port: kernel.link_lookup(ifname=port)[0] for port in ports}
        self._began_ns = SYSTEM.now_ns()
        self._links: dict[str, tuple[bool, bytes, int]] = {}
        self._links_ns = self._cpu_ns = 0
        self._cpu: list[float] = []
        self._jiffies: list[tuple[int, int]] = []

    def answer(self, hears: socket.socket) -> None:
        """Takes one request, and answers it."""
        request, sender = hears.recvfrom(_MAX_REQUEST)
        answer = answer_to(request, COMMUNITY, objects_of(self.state()))
        if answer is not None:
            hears.sendto(answer, sender)

    def state(self) -> AgentState:
        """What the device is now."""
        now_ns = SYSTEM.now_ns()
        self._look_at_links(now_ns)
        self._look_at_cpu(now_ns)
        counted, dropped = frames_counted(self._counted), self._dropped()
        ports = []
        for port in self._ports:
            up, address, mtu = self._links[port]
            one = counted[port]
            counts = PortCounts(
                octets_in=one.received_bytes,
                frames_in=one.received_frames,
                errors_in=one.receive_errors,
                discards_in=one.receive_drops,
                fcs_errors=0,
                octets_out=one.sent_bytes,
                frames_out=one.sent_frames,
                errors_out=one.send_errors,
                discards_out=one.send_drops + dropped.get(port, 0),
            )
            ports.append(AgentPort(self._indices[port], port, counts, up, self._speed_bps, mtu, address))
        return AgentState(self._name, self._description, (now_ns - self._began_ns) / 1e9, ports, cpu=self._cpu)

    def _look_at_links(self, now_ns: int) -> None:
        if self._links and now_ns - self._links_ns < _LINKS_KNOWN_S * 1e9:
            return
        self._links_ns = now_ns
        for port, index in self._indices.items():
            link = self._kernel.get_links(index)[0]
            address = bytes.fromhex(str(link.get_attr("IFLA_ADDRESS")).replace(":", ""))
            self._links[port] = bool(link["flags"] & LOWER_UP), address, int(link.get_attr("IFLA_MTU"))

    def _look_at_cpu(self, now_ns: int) -> None:
        """How much of the time since a moment ago each core spent in interrupts, which is where the kernel forwards:
        the rest of the time is the tester's."""
        if self._jiffies and now_ns - self._cpu_ns < _CPU_OVER_S * 1e9:
            return
        with Path("/proc/stat").open() as file:
            rows = [line.split()[1:9] for line in file if line[:3] == "cpu" and line[3].isdigit()]
        jiffies = [(sum(map(int, row)), int(row[_IRQ]) + int(row[_SOFTIRQ])) for row in rows]
        before = self._jiffies or [(0, 0)] * len(jiffies)
        self._cpu = [
            (interrupts - old_interrupts) / (total - old_total) if total > old_total else 0.0
            for (total, interrupts), (old_total, old_interrupts) in zip(jiffies, before, strict=True)
        ]
        self._jiffies, self._cpu_ns = jiffies, now_ns

    def _dropped(self) -> dict[str, int]:
        """What full queues at the way out dropped, where a port is shaped: the kernel does not count it as the
        port's."""
        made: dict[str, int] = {}
        names = {index: port for port, index in self._indices.items()}
        for queue in self._kernel.get_qdiscs() if self._shaped else []:
            stats = queue.get_attr("TCA_STATS")
            if queue["index"] in names and queue.get_attr("TCA_KIND") == "tbf" and stats:
                made[names[queue["index"]]] = int(stats["drop"])
        return made


def serve(agent: DeviceAgent | None, hears: socket.socket, words: TextIO) -> str:
    """Answers until a line comes, which is returned; empty when there will be no more. Without an agent all is
    quiet."""
    sources: list[Any] = [hears, words] if agent else [words]
    while True:
        ready, _, _ = select.select(sources, [], [])
        if agent and hears in ready:
            agent.answer(hears)
        if words in ready:
            return words.readline()
