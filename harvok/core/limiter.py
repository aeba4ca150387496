"""What kept a result from being higher, whatever kind of traffic it was, and whether equipment may be blamed for it."""

from dataclasses import dataclass
from typing import Literal

LimiterKind = Literal[
    "negotiated-speed", "receive-window", "send-buffer", "loss", "window-opening",
    "cpu-near", "cpu-far", "pacing", "link", "none", "sending-host", "own-queue", "receiving-host",
]  # fmt: skip
Blame = Literal["equipment", "settings", "tester", "nothing"]

_NAMES: dict[LimiterKind, str] = {
    "negotiated-speed": "negotiated speed",
    "receive-window": "receive window",
    "send-buffer": "send buffer",
    "loss": "loss",
    "window-opening": "congestion window still opening",
    "cpu-near": "CPU of the near end",
    "cpu-far": "CPU of the far end",
    "pacing": "pacing, as asked for",
    "link": "the link itself",
    "none": "none found",
    "sending-host": "the sending host",
    "own-queue": "the sending host's own interface",
    "receiving-host": "the receiving host",
}
_BLAME: dict[LimiterKind, Blame] = {
    "negotiated-speed": "equipment",
    "loss": "equipment",
    "link": "equipment",
    "receive-window": "settings",
    "send-buffer": "settings",
    "window-opening": "settings",
    "pacing": "settings",
    "cpu-near": "tester",
    "cpu-far": "tester",
    "sending-host": "tester",
    "own-queue": "tester",
    "receiving-host": "tester",
    "none": "nothing",
}


@dataclass(frozen=True, slots=True)
class Limiter:
    """What held a result down. `evidence` and `advice` are sentences for the person at the bench."""

    kind: LimiterKind
    evidence: str
    advice: str

    @property
    def name(self) -> str:
        return _NAMES[self.kind]

    @property
    def blame(self) -> Blame:
        """`equipment` limits speak of the device, `settings` of how the test was set up; `tester` means that this
        tester could not show more, so that there is no verdict."""
        return _BLAME[self.kind]
