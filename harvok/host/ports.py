"""All interfaces of this host, with everything that may hold a test down: speed, slot, offloads, faults."""

import re
import sys
from contextlib import closing, suppress
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal

import psutil

from harvok.core.units import format_speed

if TYPE_CHECKING:
    from pyroute2 import IPRoute

State = Literal["up", "no link", "down"]

_SYSFS = Path("/sys/class/net")
_FAULTS = {
    "rx_errors": "receive errors",
    "tx_errors": "send errors",
    "rx_dropped": "receive drops",
    "tx_dropped": "send drops",
    "rx_crc_errors": "CRC errors",
    "rx_missed_errors": "missed frames",
}
_EIGHT_OF_TEN_UP_TO_GTS = 5.0  # PCIe 1 and 2 code 8 bits as 10; later ones 128 as 130
_PACKET_SHARE = 0.86
"""What PCIe transactions leave of a slot's rate for packet data, about: headers, acknowledgements, descriptors."""


@dataclass(frozen=True, slots=True)
class Slot:
    """The PCIe slot of a port as it runs now, each direction; `most_*` is what both ends could do."""

    transfers_gts: float
    lanes: int
    max_transfers_gts: float
    max_lanes: int

    @property
    def data_bps(self) -> float:
        """About what the slot carries of packet data, in b/s."""
        return _slot_bps(self.transfers_gts, self.lanes) * _PACKET_SHARE


def _slot_bps(transfers_gts: float, lanes: int) -> float:
    coding = 0.8 if transfers_gts <= _EIGHT_OF_TEN_UP_TO_GTS else 128 / 130
    return transfers_gts * 1e9 * lanes * coding


@dataclass(frozen=True, slots=True)
class PortFacts:
    """One interface. What the system does not tell is None or empty. `highest_bps` is the fastest mode that the port
    offers; `faults` counts since the driver was loaded, those above zero only."""

    name: str
    kind: str
    state: State
    negotiated_bps: float | None = None
    duplex: str | None = None
    highest_bps: float | None = None
    mtu_bytes: int | None = None
    driver: str | None = None
    bus: str | None = None
    slot: Slot | None = None
    offloads: dict[str, bool] = field(default_factory=dict)
    addresses: list[str] = field(default_factory=list)
    faults: dict[str, int] = field(default_factory=dict)


def all_ports() -> list[PortFacts]:
    """Every interface of this host, in the kernel's order; without Linux only names, state, MTU and addresses."""
    addresses = _addresses()
    if sys.platform != "linux":
        return _plain_ports(addresses)
    from pyroute2 import IPRoute
    from pyroute2.netlink.exceptions import NetlinkError

    with IPRoute() as kernel:
        found = []
        for link in kernel.get_links():
            with suppress(NetlinkError, IndexError):  # one that goes meanwhile
                found.append(_port(kernel, link, addresses))
        return found


def _plain_ports(addresses: dict[str, list[str]]) -> list[PortFacts]:
    return [
        PortFacts(
            name, "unknown", "up" if stats.isup else "down", mtu_bytes=stats.mtu, addresses=addresses.get(name, [])
        )
        for name, stats in psutil.net_if_stats().items()
    ]


def _addresses() -> dict[str, list[str]]:
    return {
        name: [one.address.partition("%")[0] for one in every if one.family.name in ("AF_INET", "AF_INET6")]
        for name, every in psutil.net_if_addrs().items()
    }


def _port(kernel: "IPRoute", link: Any, addresses: dict[str, list[str]]) -> PortFacts:
    from harvok.host.interfaces import LOWER_UP, UP, describe

    facts = describe(kernel, link["index"])
    device = _SYSFS / facts.name / "device"
    return PortFacts(
        name=facts.name,
        kind=facts.kind,
        state="down" if not link["flags"] & UP else "up" if link["flags"] & LOWER_UP else "no link",
        negotiated_bps=facts.negotiated_bps,
        duplex=facts.duplex,
        highest_bps=highest_of(_modes(facts.name)) if facts.kind == "physical" else None,
        mtu_bytes=facts.mtu_bytes,
        driver=facts.driver,
        bus=device.resolve().name if device.exists() else None,
        slot=slot_of(device),
        offloads=facts.offloads,
        addresses=addresses.get(facts.name, []),
        faults=faults_of(_SYSFS / facts.name / "statistics"),
    )


def _modes(name: str) -> list[str]:
    """The link modes that a port supports, as the kernel names them: 1000baseT/Full."""
    from pyroute2 import Ethtool
    from pyroute2.ethtool.ioctl import EthtoolError

    try:
        with closing(Ethtool()) as driver:
            return list(driver.get_link_mode(name).supported_modes)
    except (EthtoolError, OSError):
        return []


def highest_of(modes: list[str]) -> float | None:
    """The speed of the fastest of some link modes, in b/s; None when none is known."""
    speeds = [float(found[1]) * 1e6 for mode in modes if (found := re.match(r"(\d+)base", mode))]
    return max(speeds, default=None)


def slot_of(device: Path) -> Slot | None:
    """The PCIe slot of a device, from sysfs; None for what is in none."""

    def number(name: str) -> float | None:
        try:
            found = re.match(r"[0-9.]+", (device / name).read_text())
        except OSError:
            return None
        return float(found[0]) if found else None

    speed, lanes = number("current_link_speed"), number("current_link_width")
    max_speed, max_lanes = number("max_link_speed"), number("max_link_width")
    if not speed or not lanes:
        return None
    return Slot(speed, int(lanes), max_speed or speed, int(max_lanes or lanes))


def faults_of(statistics: Path) -> dict[str, int]:
    """The fault counters of an interface that are above zero."""
    found = {}
    for counter, name in _FAULTS.items():
        try:
            value = int((statistics / counter).read_text())
        except (OSError, ValueError):
            continue
        if value:
            found[name] = value
    return found


def remarks_on(port: PortFacts) -> list[str]:
    """What may hold this port down, in sentences."""
    remarks = []
    if port.highest_bps and port.negotiated_bps and port.negotiated_bps < port.highest_bps:
        speeds = f"runs at {format_speed(port.negotiated_bps)} and offers {format_speed(port.highest_bps)}"
        remarks.append(f"{speeds}: check the lead, and the port at its other end")
    if port.duplex == "half":
        remarks.append("half duplex: one end may not negotiate")
    speed = port.highest_bps or port.negotiated_bps
    if port.slot and speed and port.slot.data_bps < speed:
        remarks.append(
            f"its slot (PCIe {port.slot.transfers_gts:g} GT/s × {port.slot.lanes}) carries about "
            f"{port.slot.data_bps / 1e9:.1f} Gb/s, less than the port's {speed / 1e9:g} Gb/s"
        )
    if port.slot and (port.slot.lanes, port.slot.transfers_gts) < (
        port.slot.max_lanes,
        port.slot.max_transfers_gts,
    ):
        remarks.append(f"its slot could be PCIe {port.slot.max_transfers_gts:g} GT/s × {port.slot.max_lanes}")
    if port.faults:
        faults = ", ".join(f"{count} {name}" for name, count in port.faults.items())
        remarks.append(f"{faults} since the driver was loaded")
    return remarks
