"""Two network namespaces joined by a veth pair: two hosts on one machine, for tests and benchmarks. Needs root."""

import os
import subprocess
from collections.abc import Sequence
from types import TracebackType
from typing import Any, Literal

Side = Literal["near", "far"]

ADDRESSES: dict[Side, str] = {"near": "198.18.0.1", "far": "198.18.0.2"}  # RFC 2544 App. C.2.2
ADDRESSES_6: dict[Side, str] = {"near": "2001:2::1", "far": "2001:2::2"}  # RFC 5180 §8
_SIDES: tuple[Side, Side] = ("near", "far")


class NamespacePair:
    """A context manager; inside, `popen` starts a program on either side. Leaves nothing behind.

    With `rate_bps`, a token bucket at both ends holds each direction to that rate, as the kernel counts it: Ethernet
    header and payload, without FCS, preamble and gap.
    """

    def __init__(self, rate_bps: float | None = None, mtu_bytes: int = 1500) -> None:
        self._rate_bps = rate_bps
        self._mtu_bytes = mtu_bytes
        self._names: dict[Side, str] = {side: f"harvok-{os.getpid()}-{side}" for side in _SIDES}

    def __enter__(self) -> "NamespacePair":
        from pyroute2 import IPRoute, netns

        for name in self._names.values():
            netns.create(name)
        try:
            with IPRoute() as kernel:
                near, far = (f"hv{os.getpid() % 10**6}{side[0]}" for side in _SIDES)
                kernel.link("add", ifname=near, kind="veth", peer={"ifname": far})
                for side, port in zip(_SIDES, (near, far), strict=True):
                    index = kernel.link_lookup(ifname=port)[0]
                    kernel.link("set", index=index, net_ns_fd=self._names[side])
            for side in _SIDES:
                self._set_up(side)
        except BaseException:
            self._remove()
            raise
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._remove()

    def name(self, side: Side) -> str:
        """The network namespace of a side."""
        return self._names[side]

    def popen(self, side: Side, command: Sequence[str], **options: Any) -> "subprocess.Popen[str]":
        """Starts a program on one side."""
        from pyroute2 import netns

        name = self._names[side]
        return subprocess.Popen(command, preexec_fn=lambda: netns.setns(name), text=True, **options)

    def run(self, side: Side, command: Sequence[str], timeout_s: float = 60) -> "subprocess.CompletedProcess[str]":
        """Runs a program on one side to its end."""
        with self.popen(side, command, stdout=subprocess.PIPE, stderr=subprocess.PIPE) as process:
            try:
                out, err = process.communicate(timeout=timeout_s)
            except BaseException:
                process.kill()
                raise
        return subprocess.CompletedProcess(command, process.returncode, out, err)

    def _set_up(self, side: Side) -> None:
        """Names the port after its side, gives it addresses, and brings it and loopback up."""
        from pyroute2 import NetNS

        with NetNS(self._names[side]) as kernel:
            port = next(link["index"] for link in kernel.get_links() if link.get_attr("IFLA_IFNAME").startswith("hv"))
            kernel.link("set", index=port, ifname=f"{side}0", mtu=self._mtu_bytes)
            kernel.addr("add", index=port, address=ADDRESSES[side], prefixlen=24)
            kernel.addr(
                "add", index=port, address=ADDRESSES_6[side], prefixlen=64, flags=0x02
            )  # no duplicate detection
            kernel.link("set", index=port, state="up")
            kernel.link("set", index=kernel.link_lookup(ifname="lo")[0], state="up")
            if self._rate_bps:
                kernel.tc("add", "tbf", port, rate=f"{int(self._rate_bps)}bit", burst=32 * 1024, latency="20ms")

    def _remove(self) -> None:
        from pyroute2 import netns

        for name in self._names.values():
            if name in netns.listnetns():
                netns.remove(name)
