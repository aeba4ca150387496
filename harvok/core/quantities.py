"""The one registry of what Harvok can say about a device: each quantity with its unit, layer and meaning.

Compare, criteria, verdicts, plots and exports know nothing but quantities and figures, so a new kind of test
adds rows here and changes none of them.
"""

from dataclasses import dataclass
from typing import Literal

Better = Literal["higher", "lower", "neither"]


@dataclass(frozen=True, slots=True)
class Quantity:
    """One thing that can be measured.

    `unit` is the unit of the stored value (`ratio` is shown as a percentage); `layer` says what a rate counts
    (`goodput` is payload delivered to the application), empty where no layer applies.
    """

    key: str
    name: str
    unit: Literal["b/s", "ratio", "s", "B", "count"]
    layer: str
    better: Better
    computed: str
    standard: str = ""


_ROWS = (
    Quantity(
        "goodput-settled", "settled goodput", "b/s", "goodput", "higher",
        "payload bytes received after settling × 8 / the time they took, on the receiver's clock",
        "RFC 6349 §4.1.1",
    ),
    Quantity(
        "goodput-mean", "whole-test goodput", "b/s", "goodput", "higher",
        "all payload bytes received × 8 / the time since the first byte, on the receiver's clock",
        "RFC 6349 §4.1.1",
    ),
    Quantity(
        "settling", "settling time", "s", "", "lower",
        "the start of the test that the settled figure leaves out: the truncation point of least standard error "
        "(MSER) of the goodput series, or the time that was set",
    ),
    Quantity(
        "ceiling", "goodput ceiling", "b/s", "goodput", "neither",
        "line rate × payload per segment / bytes of the line per segment, with the segment size and options that "
        "the connection really used",
        "IEEE 802.3; RFC 2544 §20",
    ),
    Quantity(
        "ceiling-share", "share of the ceiling", "ratio", "goodput", "higher",
        "settled goodput / goodput ceiling",
    ),
    Quantity(
        "retransmitted", "retransmitted", "ratio", "", "lower",
        "payload bytes retransmitted / payload bytes sent, from the sender's kernel",
        "RFC 6349 §4.1.2 (100 % − TCP efficiency)",
    ),
    Quantity(
        "rtt-least", "least RTT", "s", "", "lower",
        "the smallest round-trip time that the sender's kernel saw on any flow",
    ),
    Quantity(
        "rtt-mean", "mean RTT", "s", "", "lower",
        "mean of the kernel's smoothed round-trip times, over flows and intervals after settling",
    ),
    Quantity(
        "buffer-delay", "buffer delay", "ratio", "", "lower",
        "(mean RTT under load − idle RTT) / idle RTT, idle being the smaller of handshake RTT and least RTT",
        "RFC 6349 §4.1.3",
    ),
    Quantity(
        "transfer-time-ratio", "transfer time ratio", "ratio", "", "lower",
        "goodput ceiling / whole-test goodput: how much longer the transfer took than the ceiling allows",
        "RFC 6349 §4.1.1",
    ),
    Quantity(
        "fairness", "fairness among flows", "ratio", "", "higher",
        "(sum of the flows' bytes)² / (flows × sum of their squares); 100 % when all flows got the same",
        "RFC 5166 §2.3",
    ),
    Quantity(
        "busiest-core-near", "busiest core, near end", "ratio", "", "neither",
        "the largest mean share of time that any one core of the near end was busy, after settling",
    ),
    Quantity(
        "busiest-core-far", "busiest core, far end", "ratio", "", "neither",
        "the largest mean share of time that any one core of the far end was busy, after settling",
    ),
)  # fmt: skip

QUANTITIES: dict[str, Quantity] = {row.key: row for row in _ROWS}
