"""What kept a result from being higher, whatever kind of traffic it was, and whether equipment may be blamed for it."""

from dataclasses import dataclass
from typing import Literal

MAX_SHARE = 1.02
"""Of the ceiling or of line rate: more did not go over this link. Clocks of interfaces are within 100 ppm (IEEE 802.3),
and a test of some seconds that finds a token bucket full shows up to 1.7 % more than its rate."""

LimiterKind = Literal[
    "negotiated-speed", "receive-window", "send-buffer", "loss", "window-opening",
    "cpu-near", "cpu-far", "pacing", "link", "none", "sending-host", "own-queue", "receiving-host",
    "above-ceiling", "policer", "too-short", "other-traffic", "slow-flow", "unknown", "firewall",
    "near-resources", "user-limit", "new-connections", "failing-transactions", "plateau", "service-time",
    "calibrated", "browser",
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
    "above-ceiling": "nothing: more than the link can carry",
    "policer": "a policer on the path",
    "too-short": "the test, too short for its path",
    "other-traffic": "other traffic on the link",
    "slow-flow": "one slow flow",
    "unknown": "unknown: nothing proves what it was",
    "firewall": "a firewall on the path",
    "near-resources": "ports or files where the users are",
    "user-limit": "the limit of users, as asked for",
    "new-connections": "new connections, which the device does not take",
    "failing-transactions": "transactions that fail",
    "plateau": "a plateau with a queue",
    "service-time": "the service's own time, as asked for",
    "calibrated": "the tester, as calibrated",
    "browser": "the browser, or the host that it runs on",
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
    "policer": "equipment",
    "too-short": "settings",
    "none": "nothing",
    "above-ceiling": "nothing",
    "other-traffic": "nothing",
    "slow-flow": "nothing",
    "unknown": "nothing",
    "firewall": "settings",
    "near-resources": "tester",
    "user-limit": "settings",
    "new-connections": "equipment",
    "failing-transactions": "equipment",
    "plateau": "equipment",
    "service-time": "settings",
    "calibrated": "tester",
    "browser": "tester",
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
        tester could not show more, so that there is no verdict; `nothing` that nobody can be blamed with proof."""
        return _BLAME[self.kind]
