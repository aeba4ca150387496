"""The kernel's own emulator (netem, uapi linux/pkt_sched.h) on an interface: the same impairment, by netlink.

It acts on what the interface sends. What it has no word for is refused rather than left out.
"""

from typing import Any

from harvok.core.impairment import Impairment
from harvok.errors import NearEndError, PortError, UnsupportedError

_QUEUE_PACKETS = 100_000
_RECORDED = "delays from a record"


def message_of(impairment: Impairment) -> dict[str, Any]:
    """The parameters of the message that sets an impairment up, as pyroute2 names them; times in µs, shares in %.

    Raises UnsupportedError for what netem cannot do.
    """
    if impairment.spread != "uniform" and (impairment.variation_s or impairment.recorded_s):
        what = _RECORDED if impairment.spread == "recorded" else "normally distributed delays"
        raise UnsupportedError(
            f"the kernel's emulator has no {what} without a table of its own",
            "Use the bridge: harvok impair start PORT OTHER FILE",
        )
    if impairment.burst_loss:
        raise UnsupportedError("losses in bursts are left to the bridge", "Use it: harvok impair start PORT OTHER FILE")
    wanted: dict[str, Any] = {"limit": _QUEUE_PACKETS}
    if impairment.delay_s:
        wanted["delay"] = round(impairment.delay_s * 1e6)
    if impairment.variation_s:
        wanted["jitter"] = round(impairment.variation_s * 1e6)
    for name, share in (
        ("loss", impairment.loss),
        ("prob_reorder", impairment.reordering),
        ("duplicate", impairment.duplication),
        ("prob_corrupt", impairment.corruption),
    ):
        if share:
            wanted[name] = share * 100
    if impairment.rate_bps:
        wanted["rate"] = f"{round(impairment.rate_bps)}bit"
        wanted["limit"] = max(round(impairment.queue_bytes / 1500), 1)
    return wanted


def put_on(port: str, impairment: Impairment) -> None:
    """Impairs what an interface sends. Raises UnsupportedError where this kernel has no netem, PortError without the
    interface, NearEndError without the rights."""
    wanted = message_of(impairment)
    _request("replace", port, wanted)


def take_off(port: str) -> None:
    """Clears an interface of it. Raises as `put_on` does."""
    _request("del", port, {})


def is_on(port: str) -> bool:
    """Whether the kernel impairs what an interface sends just now."""
    from pyroute2 import IPRoute

    with IPRoute() as kernel:
        found = kernel.link_lookup(ifname=port)
        kinds = [queue.get_attr("TCA_KIND") for queue in kernel.get_qdiscs(index=found[0])] if found else []
        return "netem" in kinds


def _request(command: str, port: str, wanted: dict[str, Any]) -> None:
    from pyroute2 import IPRoute
    from pyroute2.netlink.exceptions import NetlinkError

    with IPRoute() as kernel:
        found = kernel.link_lookup(ifname=port)
        if not found:
            raise PortError(f"this host has no port {port}", "`harvok ports` lists them.")
        try:
            if command == "del":
                kernel.tc("del", index=found[0], root=True)
            else:
                kernel.tc(command, "netem", found[0], **wanted)
        except NetlinkError as error:
            raise _meaning(error.code, port) from error


def _meaning(code: int, port: str) -> UnsupportedError | NearEndError:
    if code == 1:
        return NearEndError("changing an interface needs root", "Run Harvok as root.")
    if code in (2, 95, 93, 22):
        return UnsupportedError(
            f"this kernel has no netem, or {port} has none to take off",
            "Load the module sch_netem, or use the bridge: harvok impair start PORT OTHER NAME",
        )
    return NearEndError(f"the kernel refuses it on {port}: error {code}", "Look at `tc qdisc show`.")
