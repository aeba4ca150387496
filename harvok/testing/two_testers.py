"""Two hosts in namespaces, each with a test port on the same switch of this kernel. Needs root."""

import os
from types import TracebackType

from harvok.testing.namespaces import NamespacePair, Side

TEST_PORTS = ("test0", "test1")
_SIDES: tuple[Side, Side] = ("near", "far")


class TwoTesters(NamespacePair):
    """A pair of hosts that reach each other, and a switch between a test port of each (or, `together`, between two of
    the near one). With `shape_bps` the switch holds each way to that rate, as the kernel counts it; what `burst_bytes`
    take at that rate is how late this kernel may be before the switch is slower than that."""

    def __init__(
        self,
        shape_bps: float | None = None,
        buffer_bytes: int = 65_536,
        together: bool = False,
        burst_bytes: int = 4096,
    ) -> None:
        super().__init__()
        self._shape_bps, self._buffer_bytes, self._burst_bytes = shape_bps, buffer_bytes, burst_bytes
        self._hosts: tuple[Side, Side] = ("near", "near") if together else _SIDES
        self._switch = f"harvok-{os.getpid()}-switch"

    def __enter__(self) -> "TwoTesters":
        super().__enter__()
        try:
            self._make_switch()
            for host, name in zip(self._hosts, TEST_PORTS, strict=True):
                self._bring_up(host, name)
        except BaseException:
            self._remove()
            raise
        return self

    def _make_switch(self) -> None:
        from pyroute2 import NetNS, netns

        netns.create(self._switch)
        with NetNS(self._switch) as switch:
            switch.link("add", ifname="br0", kind="bridge", br_mcast_snooping=0)
            bridge = switch.link_lookup(ifname="br0")[0]
            for host, name in zip(self._hosts, TEST_PORTS, strict=True):
                switch.link("add", ifname=f"to-{name}", kind="veth", peer={"ifname": name})
                switch.link("set", index=switch.link_lookup(ifname=name)[0], net_ns_fd=self.name(host))
                port = switch.link_lookup(ifname=f"to-{name}")[0]
                switch.link("set", index=port, master=bridge, state="up")
                if self._shape_bps:
                    rate = f"{int(self._shape_bps)}bit"
                    switch.tc("add", "tbf", port, rate=rate, burst=self._burst_bytes, limit=self._buffer_bytes)
            switch.link("set", index=bridge, state="up")

    def _bring_up(self, host: Side, name: str) -> None:
        """Without addresses, so that the port sends nothing by itself."""
        from pyroute2 import NetNS

        self.run(host, ["sysctl", "-q", f"net.ipv6.conf.{name}.disable_ipv6=1"])
        with NetNS(self.name(host)) as kernel:
            kernel.link("set", index=kernel.link_lookup(ifname=name)[0], state="up")

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._remove()

    def _remove(self) -> None:
        from pyroute2 import netns

        super()._remove()
        if self._switch in netns.listnetns():
            netns.remove(self._switch)
