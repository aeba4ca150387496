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
    unit: Literal["b/s", "frames/s", "ratio", "s", "B", "count"]
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
        "segment-payload", "payload of a full segment", "B", "", "neither",
        "the segment size that the sender's kernel uses, options left out", "RFC 9293 §3.7.1",
    ),
    Quantity(
        "fairness", "fairness among flows", "ratio", "", "higher",
        "(sum of the flows' bytes)² / (flows × sum of their squares); 100 % when all flows got the same",
        "RFC 5166 §2.3",
    ),
    Quantity(
        "throughput", "throughput", "frames/s", "L2", "higher",
        "highest load at which a full-length trial lost nothing (or no more than the tolerance, which is then said)",
        "RFC 2544 §26.1",
    ),
    Quantity(
        "throughput-share", "throughput of line rate", "ratio", "L1", "higher",
        "throughput / theoretical maximum frame rate", "RFC 2544 §20, §26.1",
    ),
    Quantity(
        "throughput-l1", "throughput on the line", "b/s", "L1", "higher",
        "throughput × (frame size + 20 B of preamble and gap) × 8", "RFC 2544 §20",
    ),
    Quantity(
        "throughput-l2", "throughput in frames", "b/s", "L2", "higher",
        "throughput × frame size × 8", "RFC 2544 §26.1",
    ),
    Quantity("search-trials", "trials of the search", "count", "", "neither", "how many trials the search took"),
    Quantity(
        "search-time", "tester time of the search", "s", "", "neither",
        "durations and pauses of all trials of the search",
    ),
    Quantity(
        "frame-loss", "frame loss", "ratio", "L2", "lower",
        "(frames sent − frames received) / frames sent, at the load that the label names", "RFC 2544 §26.3",
    ),
    Quantity(
        "offered-load", "offered load", "frames/s", "L2", "neither",
        "frames sent / the time that sending took", "RFC 2285 §3.5.2",
    ),
    Quantity(
        "forwarding-rate", "forwarding rate", "frames/s", "L2", "higher",
        "frames received / the time that sending took, at the load that the label names", "RFC 2285 §3.6.1",
    ),
    Quantity(
        "forwarding-rate-l2", "forwarding rate in frames", "b/s", "L2", "higher",
        "forwarding rate × frame size × 8", "RFC 2285 §3.6.1",
    ),
    Quantity(
        "latency-tagged-mean", "latency, mean of tagged frames", "s", "", "lower",
        "mean delay of the tagged frames, first bit in to first bit out", "RFC 2544 §26.2",
    ),
    Quantity(
        "latency-median", "latency, typical", "s", "", "lower",
        "median delay of the tagged frames; of all stamped frames where a load is held or an emulator checked",
        "RFC 8219 §7.2",
    ),
    Quantity(
        "latency-p999", "latency, worst case", "s", "", "lower",
        "99.9th percentile of the delays of the same frames", "RFC 8219 §7.2",
    ),
    Quantity("latency-least", "least latency", "s", "", "lower", "smallest delay of all stamped frames"),
    Quantity("latency-mean", "mean latency", "s", "", "lower", "mean delay of all stamped frames"),
    Quantity("latency-most", "greatest latency", "s", "", "lower", "greatest delay of all stamped frames"),
    Quantity(
        "latency-jitter", "delay variation", "s", "", "lower",
        "mean absolute difference of the delays of successive stamped frames", "RFC 3393",
    ),
    Quantity("frames-sent", "frames sent", "count", "L2", "neither", "how many frames a figure rests on"),
    Quantity(
        "burst-mean", "back-to-back burst", "count", "L2", "higher",
        "mean over the repeats of the longest burst at minimum gap that lost nothing", "RFC 2544 §26.4; RFC 9004",
    ),
    Quantity("burst-least", "shortest burst", "count", "L2", "neither", "least of the repeats", "RFC 9004"),
    Quantity("burst-most", "longest burst", "count", "L2", "neither", "greatest of the repeats", "RFC 9004"),
    Quantity(
        "burst-deviation", "deviation of bursts", "count", "L2", "neither",
        "standard deviation of the repeats", "RFC 9004",
    ),
    Quantity(
        "buffer-time-implied", "implied buffer time", "s", "", "neither",
        "mean burst / maximum frame rate", "RFC 9004",
    ),
    Quantity(
        "buffer-time", "corrected buffer time", "s", "", "higher",
        "implied buffer time × (1 − throughput / maximum frame rate)", "RFC 9004",
    ),
    Quantity(
        "recovery-time", "system recovery", "s", "", "lower",
        "from the cut of an overload to the last frame lost", "RFC 2544 §26.5",
    ),
    Quantity(
        "reset-time", "reset", "s", "", "lower",
        "from the last frame before a reset to the first after it", "RFC 2544 §26.6; RFC 6201",
    ),
    Quantity(
        "tester-limit", "the tester's own limit", "frames/s", "L2", "higher",
        "highest load that the tester held within 0.5 % and that came back whole over a lead alone",
    ),
    Quantity(
        "tester-limit-share", "the tester's limit of line rate", "ratio", "L1", "higher",
        "the tester's own limit / theoretical maximum frame rate", "RFC 2544 §20",
    ),
    Quantity(
        "offered-error", "error of the offered load", "ratio", "", "lower",
        "|offered load / intended load − 1|, at a share of the tester's limit", "RFC 2285 §3.5",
    ),
    Quantity(
        "delay-floor", "least delay of the tester", "s", "", "lower",
        "smallest delay over a lead alone: what every latency contains",
    ),
    Quantity(
        "delay-floor-median", "typical delay of the tester", "s", "", "lower", "median delay over a lead alone",
    ),
    Quantity(
        "delay-floor-p999", "worst delay of the tester", "s", "", "lower",
        "99.9th percentile of the delays over a lead alone",
    ),
    Quantity(
        "udp-offered", "UDP load sent", "b/s", "L2", "higher",
        "datagrams sent × frame size × 8 / the time that they span at the sender", "RFC 2285 §3.5.2",
    ),
    Quantity(
        "udp-received", "UDP load received", "b/s", "L2", "higher",
        "datagrams received, each counted once, × frame size × 8 / the time that they span at the sender",
        "RFC 2285 §3.6.1",
    ),
    Quantity(
        "udp-goodput", "UDP goodput", "b/s", "goodput", "higher",
        "payload bytes of the datagrams received, each counted once, × 8 / the time that they span at the sender",
    ),
    Quantity(
        "udp-throughput", "highest loss-free UDP rate", "b/s", "L2", "higher",
        "highest rate at which a full-length trial lost nothing (or no more than the tolerance, which is then said)",
        "RFC 2544 §26.1",
    ),
    Quantity(
        "udp-throughput-goodput", "highest loss-free UDP goodput", "b/s", "goodput", "higher",
        "the payload's part of the highest loss-free UDP rate",
    ),
    Quantity(
        "datagram-loss", "datagram loss", "ratio", "", "lower",
        "(datagrams sent − datagrams received) / datagrams sent, wherever they were lost", "RFC 7680",
    ),
    Quantity(
        "datagram-duplicates", "duplicates", "ratio", "", "lower",
        "datagrams that came once more / datagrams sent", "RFC 5560",
    ),
    Quantity(
        "datagram-reordered", "reordering", "ratio", "", "lower",
        "datagrams that came after one with a higher number / datagrams sent", "RFC 4737 §3",
    ),
    Quantity(
        "loss-run-longest", "longest run of losses", "count", "", "lower",
        "the most datagrams in a row that were lost", "RFC 3357 §4",
    ),
    Quantity(
        "socket-drops", "dropped by the receiving socket", "ratio", "", "lower",
        "datagrams that reached the receiving host and found its socket full / datagrams sent",
    ),
    Quantity(
        "jitter", "jitter", "s", "", "lower",
        "J += (|D| − J) / 16, D being the change of transit time from one datagram to the next, at the end of the test",
        "RFC 3550 §6.4.1",
    ),
    Quantity(
        "delay-variation-median", "delay variation, typical", "s", "", "lower",
        "median of the transit times above the least of them", "RFC 5481 §4.2",
    ),
    Quantity(
        "delay-variation-p99", "delay variation, 99 %", "s", "", "lower",
        "99th percentile of the transit times above the least of them", "RFC 5481 §4.2",
    ),
    Quantity(
        "delay-variation-p999", "delay variation, 99.9 %", "s", "", "lower",
        "99.9th percentile of the transit times above the least of them", "RFC 5481 §4.2",
    ),
    Quantity(
        "one-way-delay-least", "least one-way delay", "s", "", "lower",
        "smallest transit time, less the difference of the clocks, whose error bound the record holds", "RFC 7679",
    ),
    Quantity(
        "one-way-delay-mean", "mean one-way delay", "s", "", "lower",
        "mean transit time, less the difference of the clocks, whose error bound the record holds", "RFC 7679",
    ),
    Quantity(
        "clock-error", "error of one-way delays", "s", "", "lower",
        "the most that the difference of the two clocks may be off: half of the fastest exchange with the far end's "
        "reflector, and half of the drift in between; zero where both ends are one machine", "RFC 7679 §3.7",
    ),
    Quantity(
        "two-way-delay-least", "least two-way delay", "s", "", "lower",
        "smallest time from a packet to its answer, less what the reflector held it", "RFC 2681; RFC 8762",
    ),
    Quantity("two-way-delay-median", "two-way delay, typical", "s", "", "lower", "median of the same", "RFC 2681"),
    Quantity("two-way-delay-mean", "mean two-way delay", "s", "", "lower", "mean of the same", "RFC 2681"),
    Quantity("two-way-delay-p99", "two-way delay, 99 %", "s", "", "lower", "99th percentile of the same", "RFC 2681"),
    Quantity("two-way-delay-most", "greatest two-way delay", "s", "", "lower", "greatest of the same", "RFC 2681"),
    Quantity(
        "two-way-variation-p99", "two-way delay variation, 99 %", "s", "", "lower",
        "99th percentile of the two-way delays above the least of them", "RFC 5481 §4.2",
    ),
    Quantity(
        "two-way-loss", "two-way loss", "ratio", "", "lower", "packets without an answer / packets sent", "RFC 6673",
    ),
    Quantity(
        "delay-under-load", "delay that load adds", "s", "", "lower",
        "median two-way delay while a load fills the link − median while it is idle",
    ),
    Quantity(
        "link-ups", "link-ups", "count", "", "neither", "how often the link came up at the speed that the label names",
    ),
    Quantity(
        "negotiated-speed-least", "least negotiated speed", "b/s", "L1", "higher",
        "the lowest speed at which the link came up", "IEEE 802.3 §28",
    ),
    Quantity(
        "link-flaps", "unseen link losses", "count", "", "lower",
        "how often the link went down and up again faster than was looked, by the kernel's count",
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
