"""What the kernel counts of a port: losses of its link, and frames that it could not take or send."""

from dataclasses import dataclass
from pathlib import Path
from typing import TextIO

from harvok.core.trials.frames import PortTrouble

_SYSFS = Path("/sys/class/net")
_COUNTERS = (
    "rx_errors", "rx_crc_errors", "rx_frame_errors", "rx_length_errors", "rx_missed_errors", "tx_errors",
    "tx_carrier_errors", "tx_dropped",
)  # fmt: skip
"""Not rx_dropped: the kernel counts there every frame that only a packet ring took, as test frames are."""


@dataclass(frozen=True, slots=True)
class PortCounters:
    """What was counted so far, and the speed as the driver tells it; empty where there is no such port, or no such
    file."""

    link_losses: int
    speed: str
    counts: dict[str, int]


def read_port_counters(interface: str, sysfs: Path = _SYSFS) -> PortCounters:
    """The counters of a port in this process's network namespace (Documentation/ABI/testing/sysfs-class-net)."""
    port = sysfs / interface
    counts = {name: int(_read(port / "statistics" / name) or 0) for name in _COUNTERS}
    return PortCounters(int(_read(port / "carrier_down_count") or 0), _read(port / "speed"), counts)


def trouble_between(name: str, before: PortCounters, after: PortCounters) -> PortTrouble | None:
    """What went wrong at a port meanwhile; None when nothing did."""
    counts = {
        key: after.counts[key] - before.counts[key] for key in _COUNTERS if after.counts[key] > before.counts[key]
    }
    losses = after.link_losses - before.link_losses
    changed = f"{before.speed} to {after.speed} Mb/s" if before.speed != after.speed else ""
    return PortTrouble(name, losses, changed, counts) if losses or changed or counts else None


def _read(file: Path) -> str:
    try:
        return file.read_text().strip()
    except OSError:  # a virtual port has no speed, and one that is down does not tell
        return ""


@dataclass(frozen=True, slots=True)
class FramesCounted:
    """What the kernel counted of an interface since it was made."""

    received_bytes: int
    received_frames: int
    receive_errors: int
    receive_drops: int
    sent_bytes: int
    sent_frames: int
    send_errors: int
    send_drops: int


def frames_counted(table: TextIO) -> dict[str, FramesCounted]:
    """The counts of all interfaces of a network namespace, from its table (/proc/net/dev), which is read anew."""
    table.seek(0)
    made = {}
    for line in table.read().splitlines()[2:]:
        name, _, numbers = line.partition(":")
        values = [int(number) for number in numbers.split()]
        made[name.strip()] = FramesCounted(*values[:4], *values[8:12])
    return made
