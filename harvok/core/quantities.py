"""The one registry of what Harvok can say about a device: each quantity with everything that is known of it.

Lists of runs, comparisons, criteria, verdicts, tables, plots and exports ask the registry what a quantity means, so a
new kind of test adds rows here and changes none of them. docs/figures.md is held to this table by a test.
"""

from dataclasses import dataclass
from typing import Literal

Better = Literal["higher", "lower", "neither"]
Rank = Literal["headline", "main", "detail"]
Resolution = Literal["measured", "counted", "search", "histogram", "clock"]


@dataclass(frozen=True, slots=True)
class Quantity:
    """One thing that can be measured.

    `unit` is the unit of the stored value (`ratio` is shown as a percentage); `layer` states what a rate counts
    (`goodput` is payload delivered to the application), empty where no layer applies. `labels` are the labels that its
    figures may carry. `heading` is its name in a column where the table itself says what it is about. A `headline`
    stands for a run in lists, a `main` figure is shown in every table, a `detail` in reports and exports. `judged`:
    a comparison gives a verdict on it without being asked, where it may be worse by `max_regression` of what it was, or
    by `margin` in its unit if that is more: as little is never of note. `share` is the quantity that gives its share of
    what is possible; a ratio is one `of_a_whole`, which it cannot exceed, unless it says not. `resolution` says what
    bounds the precision of one value: the `search` that found it, a `histogram` (1/128), the offset between two clocks
    (`clock`), a count, or the measurement itself.
    """

    key: str
    name: str
    unit: Literal["b/s", "frames/s", "/s", "ratio", "s", "B", "count"]
    layer: str
    better: Better
    computed: str
    standard: str = ""
    labels: tuple[str, ...] = ()
    heading: str = ""
    rank: Rank = "detail"
    judged: bool = False
    max_regression: float = 0.02
    margin: float = 0.0
    share: str = ""
    of_a_whole: bool = True
    resolution: Resolution = "measured"

    @property
    def max_value(self) -> float | None:
        """The largest value that makes sense, where there is one: a share is of a whole."""
        return 1.0 if self.unit == "ratio" and self.of_a_whole else None

    @property
    def is_counted_share(self) -> bool:
        """Whether it is so many of so many, as lost datagrams are of those that were sent."""
        return self.resolution == "counted" and self.unit == "ratio"

    @property
    def is_rate(self) -> bool:
        """Whether it says how much got through, which is what a limiter explains."""
        return bool(self.layer) and self.better == "higher"


_LOSS_MARGIN = 0.0005
"""0.05 %: at 1 ms RTT the square-root law lets one TCP flow of 1448 B have 630 Mb/s with it, so that no less shows in
any application of a local network; and below it a run of a few thousand packets cannot tell loss from chance."""
_LOSS_REGRESSION = 0.5
"""A path that is known to lose may lose half again as much: losses come in bursts, and counts of few bursts differ by
about that."""
_LATENCY_REGRESSION = 0.1
"""Medians of repeats over one switch differ by a few percent between runs on one host; a tenth is what a table of two
digits shows."""

_PAGE_REGRESSION, _PAGE_MARGIN_S = 0.25, 2e-3
"""A browser's scheduling takes a millisecond or two, and its clock may have steps of one."""

_DIRECTION = ("direction",)
_FRAMES = ("direction", "frame-size")
_LOADS = ("direction", "frame-size", "load")
_SERVICES = ("direction", "service", "load", "level")
_PROBES = ("load", "level")
_OBJECTS = ("object",)
_OF_A_CASE = ("case", "object")
_USERS = ("level", "users")
_LEVELS = (*_USERS, "application", "action", *_OF_A_CASE)
_LEVELS_BY_WAY = ("direction", *_LEVELS)
_PORTS = ("port", "way")
_EVENTS = ("event", "direction")
_SHORT_TIMES = 200e-6
"""Below this a median of kernels' own wake-ups differs from hour to hour."""

_ROWS = (
    Quantity(
        "goodput-settled", "settled goodput", "b/s", "goodput", "higher",
        "payload bytes received after settling × 8 / the time they took, on the receiver's clock",
        standard="RFC 6349 §4.1.1", labels=_DIRECTION, heading="goodput", rank="headline", judged=True,
        share="ceiling-share",
    ),
    Quantity(
        "goodput-mean", "whole-test goodput", "b/s", "goodput", "higher",
        "all payload bytes received × 8 / the time since the first byte, on the receiver's clock",
        standard="RFC 6349 §4.1.1", labels=_DIRECTION, rank="main",
    ),
    Quantity(
        "goodput-both-ways", "goodput with both directions at once", "b/s", "goodput", "higher",
        "settled goodput while the other direction has as many connections that are as busy",
        standard="RFC 6349 §4.1.1", labels=_DIRECTION, heading="both at once", rank="main",
    ),
    Quantity(
        "tcp-throughput-l2", "TCP throughput on layer 2", "b/s", "L2", "higher",
        "settled goodput × bytes of the frame of a full segment (Ethernet header to FCS) / its payload: what compares "
        "with UDP and frames",
        standard="RFC 1242 §3.17", labels=_DIRECTION,
    ),
    Quantity(
        "settling", "settling time", "s", "", "lower",
        "the start of the test that the settled figure leaves out: the truncation point with the smallest "
        "standard error (MSER) of the goodput series, or the time that was set",
        labels=_DIRECTION,
    ),
    Quantity(
        "ceiling", "goodput ceiling", "b/s", "goodput", "neither",
        "line rate × payload per segment / bytes of the line per segment, with the segment size and options "
        "that the connection really used",
        standard="IEEE 802.3; RFC 2544 §20", labels=_DIRECTION,
    ),
    Quantity(
        "together-goodput", "goodput of all near ends", "b/s", "goodput", "higher",
        "payload bytes × 8 that arrived from all near ends of a group while all of them sent / that time",
        labels=_DIRECTION,
    ),
    Quantity(
        "together-ceiling-share", "share of the ceiling of all near ends", "ratio", "goodput", "higher",
        "goodput of all near ends / the highest of their goodput ceilings",
        labels=_DIRECTION,
    ),
    Quantity(
        "together-fairness", "fairness between near ends", "ratio", "", "higher",
        "(Σ goodput)² / (near ends × Σ goodput²), while all of them sent",
        standard="RFC 5166 §2.3", labels=_DIRECTION,
    ),
    Quantity(
        "start-skew", "start skew", "s", "", "neither",
        "from the first near end of a group that began to the last, by one clock",
        labels=_DIRECTION,
    ),
    Quantity(
        "ceiling-share", "share of the ceiling", "ratio", "goodput", "higher",
        "settled goodput / goodput ceiling",
        labels=_DIRECTION, heading="of ceiling", rank="main",
    ),
    Quantity(
        "retransmitted", "retransmitted bytes", "ratio", "", "lower",
        "payload bytes retransmitted / payload bytes sent, from the sender's kernel",
        standard="RFC 6349 §4.1.2 (100 % − TCP efficiency)", labels=_DIRECTION, heading="retransmitted", rank="main",
        judged=True, max_regression=1.0, margin=_LOSS_MARGIN,
    ),
    Quantity(
        "rtt-min", "min RTT", "s", "", "lower",
        "the smallest round-trip time that the sender's kernel saw on any flow",
        labels=_DIRECTION, heading="RTT min",
    ),
    Quantity(
        "rtt-mean", "mean RTT", "s", "", "lower",
        "mean of the kernel's smoothed round-trip times, over flows and intervals after settling",
        labels=_DIRECTION, heading="RTT mean", rank="main",
    ),
    Quantity(
        "buffer-delay", "buffer delay", "ratio", "", "lower",
        "(mean RTT under load − idle RTT) / idle RTT, where idle RTT is the smaller of handshake RTT and min "
        "RTT",
        standard="RFC 6349 §4.1.3", labels=_DIRECTION,
        of_a_whole=False,
    ),
    Quantity(
        "transfer-time-ratio", "transfer time ratio", "ratio", "", "lower",
        "goodput ceiling / whole-test goodput: how much longer the transfer took than the ceiling allows",
        standard="RFC 6349 §4.1.1", labels=_DIRECTION,
        of_a_whole=False,
    ),
    Quantity(
        "segment-payload", "payload of a full segment", "B", "", "neither",
        "the segment size that the sender's kernel uses, options left out",
        standard="RFC 9293 §3.7.1", labels=_DIRECTION,
    ),
    Quantity(
        "fairness", "fairness between flows", "ratio", "", "higher",
        "(sum of the flows' bytes)² / (flows × sum of their squares); 100 % when all flows got the same",
        standard="RFC 5166 §2.3", labels=_DIRECTION,
    ),
    Quantity(
        "throughput", "throughput", "frames/s", "L2", "higher",
        "highest load at which a full-length trial lost nothing (or no more than the loss tolerance, which is "
        "then stated)",
        standard="RFC 2544 §26.1", labels=_FRAMES, heading="frames/s", rank="headline", judged=True,
        share="throughput-share", resolution="search",
    ),
    Quantity(
        "throughput-share", "throughput, share of line rate", "ratio", "L1", "higher",
        "throughput / theoretical maximum frame rate",
        standard="RFC 2544 §20, §26.1", labels=_FRAMES, heading="of line rate", rank="main", resolution="search",
    ),
    Quantity(
        "throughput-l1", "throughput, L1", "b/s", "L1", "higher",
        "throughput × (frame size + 20 B of preamble and gap) × 8",
        standard="RFC 2544 §20", labels=_FRAMES, heading="L1", resolution="search",
    ),
    Quantity(
        "throughput-l2", "throughput, L2", "b/s", "L2", "higher",
        "throughput × frame size × 8",
        standard="RFC 2544 §26.1", labels=_FRAMES, heading="L2", resolution="search",
    ),
    Quantity(
        "search-trials", "trials of the search", "count", "", "neither",
        "number of trials in the search",
        labels=("frame-size",), resolution="counted",
    ),
    Quantity(
        "search-time", "search time", "s", "", "neither",
        "durations and pauses of all trials of the search",
        labels=("frame-size",),
    ),
    Quantity(
        "frame-loss", "frame loss", "ratio", "L2", "lower",
        "(frames sent − frames received) / frames sent, at the load that the label names",
        standard="RFC 2544 §26.3", labels=_LOADS, heading="loss", rank="main", resolution="counted",
        judged=True, max_regression=_LOSS_REGRESSION, margin=_LOSS_MARGIN,
    ),
    Quantity(
        "frame-duplicates", "duplicated frames", "ratio", "L2", "lower",
        "frames received more than once / frames sent, at the throughput or at the load that the label names",
        standard="RFC 5560", labels=_LOADS, heading="duplicates", resolution="counted",
        judged=True, max_regression=_LOSS_REGRESSION, margin=_LOSS_MARGIN,
    ),
    Quantity(
        "frame-reordered", "reordered frames", "ratio", "L2", "lower",
        "frames received after one with a higher number / frames sent, at the throughput or at the load that the "
        "label names",
        standard="RFC 4737 §3", labels=_LOADS, heading="reordered", resolution="counted",
        judged=True, max_regression=_LOSS_REGRESSION, margin=_LOSS_MARGIN,
    ),
    Quantity(
        "frame-corrupted", "corrupted frames", "ratio", "L2", "lower",
        "frames received in fragments, with a wrong length or an altered content (above 1 Gb/s the content of every "
        "second frame or fewer is read) / frames sent; they count as lost",
        standard="RFC 2544 §10", labels=_LOADS, heading="corrupted", resolution="counted",
        judged=True, max_regression=_LOSS_REGRESSION, margin=_LOSS_MARGIN,
    ),
    Quantity(
        "frame-foreign", "foreign frames", "count", "L2", "lower",
        "frames on the receiving port that were not of the trial",
        labels=_LOADS, heading="foreign", of_a_whole=False,
    ),
    Quantity(
        "offered-load", "offered load", "frames/s", "L2", "neither",
        "frames sent / the time that sending took",
        standard="RFC 2285 §3.5.2", labels=_LOADS, heading="offered, frames/s",
    ),
    Quantity(
        "forwarding-rate", "forwarding rate", "frames/s", "L2", "higher",
        "frames received / the time that sending took, at the load that the label names",
        standard="RFC 2285 §3.6.1", labels=_LOADS, heading="forwarded, frames/s",
    ),
    Quantity(
        "forwarding-rate-l2", "forwarding rate, L2", "b/s", "L2", "higher",
        "forwarding rate × frame size × 8",
        standard="RFC 2285 §3.6.1", labels=_LOADS, heading="forwarded, L2", rank="main",
        judged=True,
    ),
    Quantity(
        "max-forwarding-rate", "maximum forwarding rate", "frames/s", "L2", "higher",
        "highest forwarding rate at any load from the throughput to line rate",
        standard="RFC 2285 §3.6.3, RFC 2889 §5.6", labels=_FRAMES, heading="max forwarded, frames/s", rank="headline",
        judged=True,
    ),
    Quantity(
        "max-forwarding-load", "load at the maximum forwarding rate", "ratio", "L1", "neither",
        "offered load at which the forwarding rate was highest / line rate",
        standard="RFC 2889 §5.6", labels=_FRAMES, heading="at a load of",
    ),
    Quantity(
        "head-of-line-loss", "head-of-line blocking", "ratio", "L2", "lower",
        "frames lost / frames sent to a port that is not congested, from a port half of whose frames go to one that is",
        standard="RFC 2889 §5.5", labels=_FRAMES, heading="lost at the free port", rank="headline",
        resolution="counted", judged=True, max_regression=_LOSS_REGRESSION, margin=_LOSS_MARGIN,
    ),
    Quantity(
        "back-pressure", "back pressure", "ratio", "L2", "neither",
        "1 − frames sent / frames intended, where the device paused the tester's ports",
        standard="RFC 2889 §5.5", labels=_FRAMES, heading="held back", resolution="counted",
    ),
    Quantity(
        "address-capacity", "address caching capacity", "count", "", "higher",
        "most addresses that the device kept without flooding a frame to any of them, that of the testing port "
        "among them",
        standard="RFC 2889 §5.7", heading="addresses kept", rank="headline", resolution="search", judged=True,
    ),
    Quantity(
        "address-learning-rate", "address learning rate", "frames/s", "L2", "higher",
        "highest rate of frames, each from another address, of which the device learned every one",
        standard="RFC 2889 §5.8", heading="addresses learned, frames/s", rank="headline", resolution="search",
        judged=True,
    ),
    Quantity(
        "group-join-delay", "group join delay", "s", "", "lower",
        "from the word that joined the groups to the first frame of any of them",
        standard="RFC 3918 §6.1", labels=_DIRECTION, heading="join delay", rank="headline", judged=True,
        max_regression=_LATENCY_REGRESSION, margin=1e-3,
    ),
    Quantity(
        "group-leave-delay", "group leave delay", "s", "", "lower",
        "from the word that left the groups to the last frame of any of them",
        standard="RFC 3918 §6.2", labels=_DIRECTION, heading="leave delay", rank="headline", judged=True,
        max_regression=_LATENCY_REGRESSION, margin=1e-3,
    ),
    Quantity(
        "group-capacity", "multicast group capacity", "count", "", "higher",
        "most groups of which a port that joined them got every frame, and one that had not got none",
        standard="RFC 3918 §7.1", heading="groups kept", rank="headline", resolution="search", judged=True,
    ),
    Quantity(
        "errored-forwarded", "errored frames forwarded", "ratio", "L2", "lower",
        "frames that should be dropped and came out / frames sent, by the kind of error",
        standard="RFC 2889 §5.9", labels=_FRAMES, heading="forwarded", rank="headline", resolution="counted",
        judged=True, max_regression=_LOSS_REGRESSION, margin=_LOSS_MARGIN,
    ),
    Quantity(
        "latency-tagged-mean", "mean latency of tagged frames", "s", "", "lower",
        "mean delay of the tagged frames",
        standard="RFC 2544 §26.2", labels=_FRAMES, heading="tagged mean",
    ),
    Quantity(
        "latency-median", "median latency", "s", "", "lower",
        "median delay of the tagged frames; of all stamped frames where a load is held or an emulator is "
        "checked; RFC 8219 calls it typical latency",
        standard="RFC 8219 §7.2", labels=_LOADS, heading="median", rank="main", resolution="histogram",
        judged=True, max_regression=_LATENCY_REGRESSION, margin=2e-6,
    ),
    Quantity(
        "latency-p999", "p99.9 latency", "s", "", "lower",
        "99.9th percentile of the delays of the same frames; RFC 8219 calls it worst-case latency",
        standard="RFC 8219 §7.2", labels=_LOADS, heading="p99.9", rank="main", resolution="histogram",
    ),
    Quantity(
        "latency-min", "min latency", "s", "", "lower",
        "smallest delay of all stamped frames",
        labels=_LOADS, heading="min",
    ),
    Quantity(
        "latency-mean", "mean latency", "s", "", "lower",
        "mean delay of all stamped frames",
        labels=_FRAMES, heading="mean",
    ),
    Quantity(
        "latency-max", "max latency", "s", "", "lower",
        "largest delay of all stamped frames",
        labels=_FRAMES, heading="max",
    ),
    Quantity(
        "latency-jitter", "delay variation", "s", "", "lower",
        "mean absolute difference of the delays of successive stamped frames",
        standard="RFC 3393", labels=_FRAMES, heading="variation",
    ),
    Quantity(
        "frames-sent", "frames sent", "count", "L2", "neither",
        "number of frames that a figure is based on",
        labels=_FRAMES, resolution="counted",
    ),
    Quantity(
        "burst-mean", "back-to-back burst", "count", "L2", "higher",
        "mean over the repeats of the longest burst at minimum gap that lost nothing",
        standard="RFC 2544 §26.4; RFC 9004", labels=("frame-size",), heading="longest burst", rank="main",
        resolution="counted",
    ),
    Quantity(
        "burst-min", "shortest burst", "count", "L2", "neither",
        "shortest burst of the repeats",
        standard="RFC 9004", labels=("frame-size",), resolution="counted",
    ),
    Quantity(
        "burst-max", "longest burst", "count", "L2", "neither",
        "longest burst of the repeats",
        standard="RFC 9004", labels=("frame-size",), resolution="counted",
    ),
    Quantity(
        "burst-deviation", "standard deviation of bursts", "count", "L2", "neither",
        "standard deviation of the repeats",
        standard="RFC 9004", labels=("frame-size",),
    ),
    Quantity(
        "buffer-time-implied", "implied buffer time", "s", "", "neither",
        "mean burst / maximum frame rate",
        standard="RFC 9004", labels=("frame-size",),
    ),
    Quantity(
        "buffer-time", "corrected buffer time", "s", "", "higher",
        "implied buffer time × (1 − throughput / maximum frame rate)",
        standard="RFC 9004", labels=("frame-size",), heading="buffer time",
    ),
    Quantity(
        "recovery-time", "system recovery time", "s", "", "lower",
        "from the end of an overload to the last frame lost",
        standard="RFC 2544 §26.5", labels=_FRAMES, heading="recovery", rank="main",
    ),
    Quantity(
        "reset-time", "reset time", "s", "", "lower",
        "from the last frame before a reset to the first frame after it",
        standard="RFC 2544 §26.6; RFC 6201", labels=_FRAMES, heading="reset", rank="main",
    ),
    Quantity(
        "tester-limit", "tester limit", "frames/s", "L2", "higher",
        "highest load that the tester held within 0.5 % and received back without loss over a lead alone: the lowest "
        "of three searches",
        labels=_FRAMES, heading="frames/s", rank="headline", share="tester-limit-share", resolution="search",
    ),
    Quantity(
        "tester-limit-share", "tester limit, share of line rate", "ratio", "L1", "higher",
        "the tester's own limit / theoretical maximum frame rate",
        standard="RFC 2544 §20", labels=_FRAMES, heading="of line rate", resolution="search",
    ),
    Quantity(
        "tester-limit-transactions", "tester limit, transactions per second", "/s", "", "higher",
        "highest rate of transactions of a mix that two stations held over a lead alone: the lowest of three trials",
        labels=("level",), heading="transactions/s", rank="headline",
    ),
    Quantity(
        "tester-limit-spread", "tester limit, spread", "ratio", "", "lower",
        "(highest − lowest limit found in three searches) / their median",
        labels=_FRAMES, heading="spread",
    ),
    Quantity(
        "offered-error", "offered load error", "ratio", "", "lower",
        "|offered load / intended load − 1|, at a share of the tester's limit: of three trials the median, where one "
        "was too far off",
        standard="RFC 2285 §3.5", labels=_LOADS, heading="load error", rank="main",
        of_a_whole=False,
    ),
    Quantity(
        "delay-floor-min", "tester's own min delay", "s", "", "lower",
        "smallest delay over a lead alone, which every latency includes",
        labels=_FRAMES, heading="delay min",
    ),
    Quantity(
        "delay-floor-median", "tester's own median delay", "s", "", "lower",
        "median delay over a lead alone",
        labels=_FRAMES, heading="median", rank="main", resolution="histogram",
    ),
    Quantity(
        "delay-floor-p999", "tester's own p99.9 delay", "s", "", "lower",
        "99.9th percentile of the delays over a lead alone",
        labels=_FRAMES, heading="p99.9", resolution="histogram",
    ),
    Quantity(
        "udp-offered", "offered UDP load", "b/s", "L2", "higher",
        "datagrams sent × frame size × 8 / the time that they span at the sender",
        standard="RFC 2285 §3.5.2", labels=_SERVICES, heading="offered, L2",
    ),
    Quantity(
        "udp-received", "received UDP rate", "b/s", "L2", "higher",
        "datagrams received, each counted once, × frame size × 8 / the time that they span at the sender",
        standard="RFC 2285 §3.6.1", labels=_SERVICES, heading="received, L2", rank="headline", judged=True,
    ),
    Quantity(
        "udp-goodput", "UDP goodput", "b/s", "goodput", "higher",
        "payload bytes of the datagrams received, each counted once, × 8 / the time that they span at the "
        "sender",
        labels=_SERVICES,
    ),
    Quantity(
        "udp-throughput", "loss-free UDP throughput", "b/s", "L2", "higher",
        "highest rate at which a full-length trial lost nothing (or no more than the loss tolerance, which is "
        "then stated)",
        standard="RFC 2544 §26.1", labels=_DIRECTION, rank="headline", judged=True, resolution="search",
    ),
    Quantity(
        "udp-throughput-goodput", "goodput at the loss-free UDP throughput", "b/s", "goodput", "higher",
        "payload share of the loss-free UDP throughput",
        labels=_DIRECTION, resolution="search",
    ),
    Quantity(
        "datagram-loss", "datagram loss", "ratio", "", "lower",
        "(datagrams sent − datagrams received) / datagrams sent, wherever they were lost",
        standard="RFC 7680", labels=_SERVICES, heading="loss", rank="main", resolution="counted",
        judged=True, max_regression=_LOSS_REGRESSION, margin=_LOSS_MARGIN,
    ),
    Quantity(
        "datagram-duplicates", "duplicated datagrams", "ratio", "", "lower",
        "datagrams received more than once / datagrams sent",
        standard="RFC 5560", labels=_SERVICES, resolution="counted",
        judged=True, max_regression=_LOSS_REGRESSION, margin=_LOSS_MARGIN,
    ),
    Quantity(
        "datagram-reordered", "reordered datagrams", "ratio", "", "lower",
        "datagrams received after one with a higher number / datagrams sent",
        standard="RFC 4737 §3", labels=_SERVICES, resolution="counted",
        judged=True, max_regression=_LOSS_REGRESSION, margin=_LOSS_MARGIN,
    ),
    Quantity(
        "loss-run-longest", "longest loss run", "count", "", "lower",
        "largest number of consecutive datagrams lost",
        standard="RFC 3357 §4", labels=_SERVICES, heading="loss run", resolution="counted",
    ),
    Quantity(
        "socket-drops", "receive socket drops", "ratio", "", "lower",
        "datagrams that reached the receiving host and found its socket buffer full / datagrams sent",
        labels=_SERVICES, resolution="counted",
    ),
    Quantity(
        "jitter", "jitter", "s", "", "lower",
        "J += (|D| − J) / 16, D being the change of transit time from one datagram to the next, at the end of "
        "the test",
        standard="RFC 3550 §6.4.1", labels=_SERVICES, heading="jitter", rank="main",
    ),
    Quantity(
        "delay-variation-median", "median delay variation", "s", "", "lower",
        "median of the transit times above the smallest",
        standard="RFC 5481 §4.2", labels=_SERVICES, resolution="histogram",
    ),
    Quantity(
        "delay-variation-p99", "p99 delay variation", "s", "", "lower",
        "99th percentile of the transit times above the smallest",
        standard="RFC 5481 §4.2", labels=_SERVICES, heading="variation p99", rank="main", resolution="histogram",
    ),
    Quantity(
        "delay-variation-p999", "p99.9 delay variation", "s", "", "lower",
        "99.9th percentile of the transit times above the smallest",
        standard="RFC 5481 §4.2", labels=_SERVICES, heading="variation p99.9", resolution="histogram",
    ),
    Quantity(
        "one-way-delay-min", "min one-way delay", "s", "", "lower",
        "smallest transit time minus the clock offset, whose error bound is in the record",
        standard="RFC 7679", labels=_SERVICES, resolution="clock",
    ),
    Quantity(
        "one-way-delay-mean", "mean one-way delay", "s", "", "lower",
        "mean transit time minus the clock offset, whose error bound is in the record",
        standard="RFC 7679", labels=_SERVICES, heading="one-way mean", rank="main", resolution="clock",
    ),
    Quantity(
        "clock-error", "clock error bound", "s", "", "lower",
        "bound on the error of the clock offset: half of the fastest exchange with the far end's reflector "
        "plus half of the drift during the trial; zero where both ends are one machine",
        standard="RFC 7679 §3.7", labels=_SERVICES,
    ),
    Quantity(
        "two-way-delay-min", "min two-way delay", "s", "", "lower",
        "smallest time from a packet to its answer, minus the time the reflector held it",
        standard="RFC 2681; RFC 8762", labels=_PROBES, heading="min",
    ),
    Quantity(
        "two-way-delay-median", "median two-way delay", "s", "", "lower",
        "median of the two-way delays",
        standard="RFC 2681", labels=_PROBES, heading="median", rank="headline",
        judged=True, max_regression=_LATENCY_REGRESSION, margin=5e-5,
    ),
    Quantity(
        "two-way-delay-mean", "mean two-way delay", "s", "", "lower",
        "mean of the two-way delays",
        standard="RFC 2681", labels=_PROBES, heading="mean",
    ),
    Quantity(
        "two-way-delay-p99", "p99 two-way delay", "s", "", "lower",
        "99th percentile of the two-way delays",
        standard="RFC 2681", labels=_PROBES, heading="p99", rank="main",
    ),
    Quantity(
        "two-way-delay-max", "max two-way delay", "s", "", "lower",
        "largest of the two-way delays",
        standard="RFC 2681", labels=_PROBES, heading="max",
    ),
    Quantity(
        "two-way-variation-p99", "p99 two-way delay variation", "s", "", "lower",
        "99th percentile of the two-way delays above the smallest",
        standard="RFC 5481 §4.2", labels=_PROBES, heading="variation p99",
    ),
    Quantity(
        "two-way-loss", "two-way loss", "ratio", "", "lower",
        "packets without an answer / packets sent",
        standard="RFC 6673", labels=_PROBES, heading="loss", rank="main", resolution="counted",
        judged=True, max_regression=_LOSS_REGRESSION, margin=_LOSS_MARGIN,
    ),
    Quantity(
        "delay-under-load", "delay added by load", "s", "", "lower",
        "median two-way delay while a load fills the link − median two-way delay while it is idle",
        labels=_PROBES, rank="headline",
        judged=True, max_regression=0.25, margin=1e-3,
    ),
    Quantity(
        "link-ups", "link-ups", "count", "", "neither",
        "number of times the link came up at the speed that the label names",
        labels=("speed",), rank="main", resolution="counted",
    ),
    Quantity(
        "negotiated-speed-min", "lowest negotiated speed", "b/s", "L1", "higher",
        "the lowest speed at which the link came up",
        standard="IEEE 802.3 §28", rank="headline",
        judged=True,
    ),
    Quantity(
        "link-flaps", "link flaps missed between samples", "count", "", "lower",
        "number of times the link went down and up again between two samples, by the kernel's counter",
        resolution="counted",
    ),
    Quantity(
        "busiest-core-near", "busiest core, near end", "ratio", "", "neither",
        "the largest mean share of time that any one core of the near end was busy, after settling",
        labels=_DIRECTION,
    ),
    Quantity(
        "busiest-core-far", "busiest core, far end", "ratio", "", "neither",
        "the largest mean share of time that any one core of the far end was busy, after settling",
        labels=_DIRECTION,
    ),
    Quantity(
        "transactions-rate", "transactions per second", "/s", "", "higher",
        "transactions that were answered whole while the level was sustained / its time",
        standard="RFC 9411 §6.3", labels=_LEVELS, heading="transactions/s", rank="headline", judged=True,
        max_regression=0.05,
    ),
    Quantity(
        "connections-rate", "connections per second", "/s", "", "higher",
        "connections opened while the level was sustained / its time",
        standard="RFC 9411 §6.3", labels=(*_USERS, *_OF_A_CASE), heading="connections/s", rank="main",
    ),
    Quantity(
        "open-connections", "concurrent connections", "count", "", "neither",
        "connections that were open, on average of looks twenty times a second",
        standard="RFC 9411 §6.3", labels=_USERS, heading="open", rank="main",
    ),
    Quantity(
        "app-goodput", "application throughput, L7", "b/s", "goodput", "higher",
        "bytes of messages, heads included, of transactions that were answered whole × 8 / the level's time",
        standard="RFC 9411 §6.3", labels=_LEVELS_BY_WAY, heading="L7", rank="headline", judged=True,
        max_regression=0.05,
    ),
    Quantity(
        "app-throughput-l2", "application throughput, L2", "b/s", "L2", "higher",
        "(L7 bytes + segments × their headers, Ethernet and FCS included) × 8 / the level's time; segments as the "
        "users' kernel counted them",
        standard="RFC 9411 §6.3", labels=("direction", *_USERS), heading="L2", rank="main",
    ),
    Quantity(
        "packets-rate", "packets per second", "/s", "L3", "higher",
        "segments of the users' connections, handshakes and acknowledgements included / the level's time",
        labels=("direction", *_USERS), heading="packets/s",
    ),
    Quantity(
        "first-byte-median", "median time to first byte", "s", "", "lower",
        "from the moment at which a user meant to begin, opening a connection included, to the answer's first byte",
        standard="RFC 9411 §6.3", labels=_LEVELS, heading="first byte", rank="main", resolution="histogram",
    ),
    Quantity(
        "first-byte-p999", "p99.9 time to first byte", "s", "", "lower",
        "the same, 99.9th percentile",
        standard="RFC 9411 §6.3", labels=_LEVELS, heading="p99.9", resolution="histogram",
    ),
    Quantity(
        "first-byte-min", "min time to first byte", "s", "", "lower",
        "the same, the smallest",
        standard="RFC 9411 §6.3", labels=(*_USERS, *_OF_A_CASE), resolution="histogram",
    ),
    Quantity(
        "first-byte-mean", "mean time to first byte", "s", "", "lower",
        "the same, the mean",
        standard="RFC 9411 §6.3", labels=(*_USERS, *_OF_A_CASE), resolution="histogram",
    ),
    Quantity(
        "first-byte-max", "max time to first byte", "s", "", "lower",
        "the same, the largest",
        standard="RFC 9411 §6.3", labels=(*_USERS, *_OF_A_CASE), resolution="histogram",
    ),
    Quantity(
        "response-median", "median response time", "s", "", "lower",
        "from the moment at which a user meant to begin to the last byte of the answer (time to last byte)",
        standard="RFC 9411 §6.3", labels=_LEVELS, heading="response", rank="main", resolution="histogram",
        judged=True, max_regression=_LATENCY_REGRESSION, margin=_SHORT_TIMES,
    ),
    Quantity(
        "response-p999", "p99.9 response time", "s", "", "lower",
        "the same, 99.9th percentile",
        standard="RFC 9411 §6.3", labels=_LEVELS, heading="p99.9", rank="main", resolution="histogram",
    ),
    Quantity(
        "response-min", "min response time", "s", "", "lower",
        "the same, the smallest",
        standard="RFC 9411 §6.3", labels=(*_USERS, *_OF_A_CASE), resolution="histogram",
    ),
    Quantity(
        "response-mean", "mean response time", "s", "", "lower",
        "the same, the mean",
        standard="RFC 9411 §6.3", labels=(*_USERS, *_OF_A_CASE), resolution="histogram",
    ),
    Quantity(
        "response-max", "max response time", "s", "", "lower",
        "the same, the largest",
        standard="RFC 9411 §6.3", labels=(*_USERS, *_OF_A_CASE), resolution="histogram",
    ),
    Quantity(
        "page-response-median", "median response in a browser", "s", "", "lower",
        "from a request of a few bytes in a browser to its answer, by the browser's clock, on a connection that stands",
        labels=("load",), heading="response", rank="main", judged=True, max_regression=_PAGE_REGRESSION,
        margin=_PAGE_MARGIN_S,
    ),
    Quantity(
        "page-response-p95", "p95 response in a browser", "s", "", "lower", "the same, 95th percentile",
        labels=("load",), heading="p95", rank="main",
    ),
    Quantity(
        "page-response-min", "min response in a browser", "s", "", "lower", "the same, the smallest", labels=("load",),
    ),
    Quantity(
        "handshake-median", "median time to open a connection", "s", "", "lower",
        "from the first SYN to the connection, as the near end saw it",
        labels=_USERS, heading="to connect", resolution="histogram",
    ),
    Quantity(
        "handshake-p99", "p99 time to open a connection", "s", "", "lower",
        "the same, 99th percentile",
        labels=_USERS, resolution="histogram",
    ),
    Quantity(
        "failed-transactions", "failed transactions", "ratio", "", "lower",
        "transactions that ended without a whole answer, or with another than was asked for / all that were attempted",
        standard="RFC 9411 §7.1.3.4", labels=_LEVELS, heading="failed", rank="main", resolution="counted",
        judged=True, max_regression=_LOSS_REGRESSION, margin=_LOSS_MARGIN,
    ),
    Quantity(
        "media-loss", "loss of media", "ratio", "", "lower",
        "datagrams of media streams that did not come / datagrams that were sent",
        standard="RFC 7680", labels=_LEVELS_BY_WAY, heading="media loss", rank="main", resolution="counted",
        judged=True, max_regression=_LOSS_REGRESSION, margin=_LOSS_MARGIN,
    ),
    Quantity(
        "media-jitter-median", "median jitter of media", "s", "", "lower",
        "J of RFC 3550 of each media stream at its end; the median of all streams",
        standard="RFC 3550 §6.4.1", labels=_LEVELS_BY_WAY, heading="media jitter", resolution="histogram",
    ),
    Quantity(
        "media-jitter-max", "max jitter of media", "s", "", "lower",
        "the same; the largest of all streams",
        standard="RFC 3550 §6.4.1", labels=_LEVELS_BY_WAY, heading="media jitter max", resolution="histogram",
    ),
    Quantity(
        "failures", "failures by reason", "count", "", "lower",
        "transactions that failed for the reason that the label names",
        labels=(*_USERS, "reason"), resolution="counted",
    ),
    Quantity(
        "reset-connections", "reset connections", "ratio", "", "lower",
        "connections that ended by a reset which the user did not ask for / connections opened",
        standard="RFC 9411 §7.1.3.4", labels=_USERS, heading="reset", resolution="counted", of_a_whole=False,
    ),
    Quantity(
        "segments-retransmitted", "retransmitted segments", "ratio", "", "lower",
        "segments that the users' kernel sent again / segments that it sent",
        labels=_USERS, resolution="counted",
    ),
    Quantity(
        "unserved-arrivals", "unserved arrivals", "ratio", "", "lower",
        "arrivals that found as many users as were allowed / all arrivals",
        labels=_USERS, heading="unserved", resolution="counted",
    ),
    Quantity(
        "wrong-checks", "wrong policy checks", "ratio", "", "lower",
        "tries of policy checks that were let through and must be blocked, or blocked and must pass / all tries",
        labels=("check",), heading="wrong checks", rank="main", resolution="counted",
    ),
    Quantity(
        "users-lag-p99", "p99 lag of users", "s", "", "lower",
        "how late the near end began what its users meant to do: the tester's own delay, which is in all times above",
        labels=_USERS, heading="lag p99", resolution="histogram",
    ),
    Quantity(
        "max-connections-rate", "highest connections per second", "/s", "", "higher",
        "highest rate of connections with one transaction each at which no more failed than RFC 9411 lets",
        standard="RFC 9411 §7.2", labels=_OBJECTS, heading="connections/s", rank="headline", judged=True,
        resolution="search",
    ),
    Quantity(
        "max-app-throughput", "highest application throughput", "b/s", "goodput", "higher",
        "highest rate of objects, heads left out, at which no more transactions failed than RFC 9411 lets; ten "
        "transactions on each connection",
        standard="RFC 9411 §7.3", labels=_OBJECTS, heading="throughput", rank="headline", judged=True,
        resolution="search",
    ),
    Quantity(
        "max-open-connections", "maximum concurrent connections", "count", "", "higher",
        "most connections that were open at one time, each with a transaction every five seconds, of which no more "
        "failed than RFC 9411 lets",
        standard="RFC 9411 §7.5", labels=_OBJECTS, heading="connections", rank="headline", judged=True,
        resolution="search",
    ),
    Quantity(
        "tls-handshakes-rate", "TLS handshakes per second", "/s", "", "higher",
        "TLS handshakes that were completed while the level was sustained / its time",
        standard="RFC 9411 §6.3", labels=_USERS, heading="TLS/s",
    ),
    Quantity(
        "tls-handshake-median", "median time of a TLS handshake", "s", "", "lower",
        "from the connection to the end of TLS's handshake, as the near end saw it",
        labels=_USERS, resolution="histogram",
    ),
    Quantity(
        "tls-handshake-p99", "p99 time of a TLS handshake", "s", "", "lower",
        "the same, 99th percentile",
        labels=_USERS, resolution="histogram",
    ),
    Quantity(
        "outage-from-loss", "outage by loss", "s", "", "lower",
        "frames or datagrams lost from an event to the next, or to the end / the load that was offered",
        standard="RFC 6412 §8; RFC 6413 §6.3", labels=_EVENTS, heading="outage by loss", rank="headline", judged=True,
        resolution="counted",
    ),
    Quantity(
        "outage-from-rate", "outage by rate", "s", "", "lower",
        "what came less than before an event, until its rate is back at 90 % / the rate before; as coarse as the time "
        "between two looks",
        standard="RFC 6413 §6.2", labels=_EVENTS, heading="outage by rate", rank="headline", judged=True, margin=0.1,
    ),
    Quantity(
        "time-to-recover", "time to recover", "s", "", "lower",
        "from an event to when the rate is back at 90 % of what it was, and stays there",
        standard="RFC 6413 §3.2", labels=_EVENTS, heading="recovered after", rank="main",
    ),
    Quantity(
        "event-stall", "stall", "s", "", "lower",
        "the longest time from an event on in which nothing came at all; as coarse as the time between two looks",
        labels=_EVENTS, heading="stall", judged=True,
    ),
    Quantity(
        "event-delay-rise", "rise of the delay", "s", "", "lower",
        "the longest delay from an event to the next, or to the end, less the median of the five seconds before it: of "
        "packets and their answers, of TCP's RTT, of datagrams, of the 99.9th percentile of transactions",
        standard="RFC 6412 §8", labels=_EVENTS, heading="delay rose by", judged=True,
    ),
    Quantity(
        "event-failed-transactions", "transactions failed by an event", "count", "", "lower",
        "transactions that failed from an event to the next, or to the end; each loses its connection",
        labels=_EVENTS, resolution="counted", judged=True,
    ),
    Quantity(
        "event-lost-connections", "connections lost by an event", "count", "", "lower",
        "flows that moved something before an event, and nothing any more at the end",
        labels=_EVENTS, resolution="counted", judged=True,
    ),
    Quantity(
        "frames-lost-at", "frames lost at a place", "count", "", "lower",
        "the tester's and the device's counts of frames set against each other: on the lead to the device, inside it, "
        "on the lead from it, or in the tester's own host",
        standard="RFC 2863", labels=("direction", "place"), resolution="counted",
    ),
    Quantity(
        "device-discards", "frames discarded by the device", "count", "", "lower",
        "ifInDiscards or ifOutDiscards of a port of the device, over all trials",
        standard="RFC 2863", labels=_PORTS, resolution="counted",
    ),
    Quantity(
        "device-errors", "errors counted by the device", "count", "", "lower",
        "ifInErrors or ifOutErrors of a port of the device, over all trials",
        standard="RFC 2863", labels=_PORTS, resolution="counted",
    ),
    Quantity(
        "device-cpu-max", "max CPU of the device", "ratio", "", "lower",
        "the most that any processor of the device was busy in any trial (hrProcessorLoad)",
        standard="RFC 2790", heading="device CPU", rank="main",
    ),
    Quantity(
        "device-memory-max", "max memory of the device in use", "ratio", "", "lower",
        "the most of its RAM that the device had in use in any trial (hrStorage)",
        standard="RFC 2790",
    ),
)  # fmt: skip

EVENT_QUANTITIES = (
    "outage-from-loss", "outage-from-rate", "time-to-recover", "event-stall", "event-delay-rise",
    "event-failed-transactions", "event-lost-connections",
)  # fmt: skip
"""What events in mid-test add to the figures of any kind of test."""

DEVICE_QUANTITIES = ("frames-lost-at", "device-discards", "device-errors", "device-cpu-max", "device-memory-max")
"""What the device itself adds to the figures of any kind of test."""

QUANTITIES: dict[str, Quantity] = {row.key: row for row in _ROWS}


def register(*quantities: Quantity) -> None:
    """Adds quantities of a kind of test that is not part of Harvok itself. Raises ValueError for a key in use."""
    for quantity in quantities:
        if quantity.key in QUANTITIES:
            raise ValueError(f"there is a quantity {quantity.key} already")
        QUANTITIES[quantity.key] = quantity


def of_rank(*ranks: Rank) -> list[str]:
    """The keys of all quantities of some ranks, in the order of the registry."""
    return [key for key, quantity in QUANTITIES.items() if quantity.rank in ranks]


def heading_of(key: str) -> str:
    """The name of a quantity as a column heading."""
    return QUANTITIES[key].heading or QUANTITIES[key].name
