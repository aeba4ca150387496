"""What the kernel says of time stamps, as bytes of its interfaces on this machine: what a port's card and driver can do
(uapi linux/ethtool.h), how a card is told to (linux/net_tstamp.h), and stamps beside messages (linux/errqueue.h).
"""

import struct
from dataclasses import dataclass

TS_INFO_BYTES = 44
_GET_TS_INFO = 0x41
_TX_HARDWARE, _TX_SOFTWARE, _RX_HARDWARE, _RAW_HARDWARE = 1 << 0, 1 << 1, 1 << 2, 1 << 6
_TX_ON, _RX_ALL = 1, 1  # HWTSTAMP_TX_ON, HWTSTAMP_FILTER_ALL
_TS_INFO = struct.Struct("=IIiI12xI12x")
_CONFIG = struct.Struct("=iii")
_ERROR = struct.Struct("=IBBBBII")
_TIMESTAMPING_ORIGIN = 4
_STAMPS = struct.Struct("=6q")
_NS = 1_000_000_000


@dataclass(frozen=True, slots=True)
class PortStamping:
    """What a card and its driver can: `software` stamps where the driver hands a frame over; `hardware` stamps of what
    leaves and of all that comes. `clock` is the number of the card's clock, -1 for none."""

    software: bool = False
    hardware: bool = False
    clock: int = -1


def ts_info_request() -> bytes:
    """What is asked of a driver."""
    return _TS_INFO.pack(_GET_TS_INFO, 0, 0, 0, 0)


def decode_ts_info(answer: bytes) -> PortStamping:
    """What a driver answered. A card that stamps only what comes of the Precision Time Protocol is of no use here."""
    _, flags, clock, sends, receives = _TS_INFO.unpack(answer)
    wanted = _TX_HARDWARE | _RX_HARDWARE | _RAW_HARDWARE
    hardware = flags & wanted == wanted and sends & 1 << _TX_ON and receives & 1 << _RX_ALL and clock >= 0
    return PortStamping(bool(flags & _TX_SOFTWARE), bool(hardware), clock)


def stamp_everything(before: bytes) -> bytes:
    """A card's setting, changed so that it stamps what leaves and all that comes."""
    flags, _, _ = _CONFIG.unpack(before)
    return _CONFIG.pack(flags, _TX_ON, _RX_ALL)


CONFIG_BYTES = _CONFIG.size


def decode_stamps(control: bytes) -> tuple[int, int]:
    """The stamps beside a message, in ns: of the kernel and of the card; 0 for none (SCM_TIMESTAMPING)."""
    seconds_and_ns = _STAMPS.unpack(control[: _STAMPS.size])
    kernel, _, card = ((s * _NS + ns) for s, ns in zip(seconds_and_ns[::2], seconds_and_ns[1::2], strict=True))
    return kernel, card


def decode_key(control: bytes) -> int | None:
    """Which of the frames that were to be stamped a stamp is of, from 0 on; None for a message that is no stamp."""
    _, origin, _, _, _, _, key = _ERROR.unpack(control[: _ERROR.size])
    return int(key) if origin == _TIMESTAMPING_ORIGIN else None
