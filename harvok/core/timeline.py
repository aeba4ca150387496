"""Everything that was seen of one trial, over one axis of time: what a plot of it shows, panel by panel."""

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, field, replace

from harvok.core.events import EVENT, EVENT_ENDS
from harvok.core.samples import DEVICE, INTERVAL_LENGTH, Event, SampleColumns
from harvok.core.trials.delay import TWO_WAY_DELAY
from harvok.core.trials.frames import FRAME_DELAY, RECEIVED_FRAMES, SENT_FRAMES

Points = list[tuple[float, float]]
"""(seconds after the origin, value)."""


@dataclass(frozen=True, slots=True)
class TimeCurve:
    """One line; a `rate` holds over the time before each point."""

    name: str
    points: Points
    is_rate: bool = False


@dataclass(frozen=True, slots=True)
class TimePanel:
    """Curves of one unit."""

    title: str
    unit: str
    curves: list[TimeCurve]


@dataclass(frozen=True, slots=True)
class Timeline:
    """What a trial looked like: panels that have anything in them, and marks of what happened."""

    panels: list[TimePanel] = field(default_factory=list)
    marks: list[tuple[float, str]] = field(default_factory=list)


def timeline_of(blocks: Sequence[SampleColumns], events: Iterable[Event]) -> Timeline:
    """The timeline of a trial's samples and events."""
    panels = [
        TimePanel("frames", "frames/s", [*_frame_rates(blocks)]),
        TimePanel("rate", "Mb/s", [*_byte_rates(blocks)]),
        TimePanel("transactions", "/s", [*_each_second(blocks, "transactions", "sender", "transactions")]),
        TimePanel("ports of the device", "Mb/s", [*_of_the_device(blocks, "port-rate-bps", 1e-6)]),
        TimePanel("lost since the start", "frames", [*_lost(blocks)]),
        TimePanel("failed", "/s", [*_each_second(blocks, "failed", "sender", "failed")]),
        TimePanel("delay", "ms", [*_delays(blocks)]),
        TimePanel("busiest core", "%", [*_cpus(blocks)]),
    ]
    marks = [(event.at_s, _words(event)) for event in events if event.name in (EVENT, EVENT_ENDS, "device-reset")]
    return Timeline([_readable(panel) for panel in map(_without_nothing, panels) if panel.curves], marks)


def _without_nothing(panel: TimePanel) -> TimePanel:
    """Without curves that stay at nothing all the time."""
    return replace(panel, curves=[curve for curve in panel.curves if any(y for _, y in curve.points)])


def _readable(panel: TimePanel) -> TimePanel:
    """Milliseconds that are all below one as microseconds."""
    if panel.unit != "ms" or max(y for curve in panel.curves for _, y in curve.points) >= 1:
        return panel
    curves = [replace(curve, points=[(x, 1e3 * y) for x, y in curve.points]) for curve in panel.curves]
    return replace(panel, unit="µs", curves=curves)


def _words(event: Event) -> str:
    what = event.labels.get("what", event.name)
    return f"end of {what}" if event.name == EVENT_ENDS else what


def _blocks(blocks: Sequence[SampleColumns], quantity: str, role: str = "") -> Iterator[SampleColumns]:
    for block in blocks:
        if quantity in block.values and (not role or block.labels.get("role") == role):
            yield block


def _name(what: str, block: SampleColumns) -> str:
    """What a curve is of: its direction and service, where it has them."""
    return ", ".join(filter(None, (what, block.labels.get("direction", ""), block.labels.get("service", ""))))


def _frame_rates(blocks: Sequence[SampleColumns]) -> Iterator[TimeCurve]:
    for quantity, what in ((SENT_FRAMES, "offered"), (RECEIVED_FRAMES, "received")):
        for block in _blocks(blocks, quantity):
            yield TimeCurve(_name(what, block), _slopes(block.of(quantity)), is_rate=True)


def _slopes(totals: Points) -> Points:
    """Rates of a total that grows."""
    before = [(0.0, 0.0), *totals]
    return [
        (at_s, (total - old) / (at_s - old_s))
        for (old_s, old), (at_s, total) in zip(before, totals, strict=False)
        if at_s > old_s
    ]


def _byte_rates(blocks: Sequence[SampleColumns]) -> Iterator[TimeCurve]:
    """Of TCP by its ticks, of UDP by its intervals, as the receiver saw them."""
    for block in _blocks(blocks, "payload-bytes", "receiver"):
        totals = [(at_s, 8e-6 * moved) for at_s, moved in block.of("payload-bytes")]
        yield TimeCurve(_name("goodput", block), _slopes(totals), is_rate=True)
    for block in _blocks(blocks, "interval-bytes", "receiver"):
        yield TimeCurve(_name("received", block), _by_lengths(block, "interval-bytes", 8e-6), is_rate=True)
    for quantity, what in (("request-bytes", "requests"), ("response-bytes", "responses")):
        for block in _blocks(blocks, quantity, "sender"):
            yield TimeCurve(_name(what, block), _by_lengths(block, quantity, 8e-6), is_rate=True)


def _by_lengths(block: SampleColumns, quantity: str, factor: float) -> Points:
    """Rates of amounts of intervals, whose lengths are told with them."""
    lengths = dict(block.of(INTERVAL_LENGTH))
    return [(at_s, factor * amount / lengths[at_s]) for at_s, amount in block.of(quantity) if lengths.get(at_s)]


def _each_second(blocks: Sequence[SampleColumns], quantity: str, role: str, what: str) -> Iterator[TimeCurve]:
    for block in _blocks(blocks, quantity, role):
        yield TimeCurve(_name(what, block), _by_lengths(block, quantity, 1.0), is_rate=True)


def _of_the_device(blocks: Sequence[SampleColumns], quantity: str, factor: float) -> Iterator[TimeCurve]:
    for block in _blocks(blocks, quantity):
        points = [(at_s, factor * value) for at_s, value in block.of(quantity)]
        yield TimeCurve(f"{block.labels['port']} {block.labels['way']}", points, is_rate=True)


def _lost(blocks: Sequence[SampleColumns]) -> Iterator[TimeCurve]:
    for block in _blocks(blocks, SENT_FRAMES):
        received = dict(block.of(RECEIVED_FRAMES))
        points = [(at_s, max(sent - received[at_s], 0.0)) for at_s, sent in block.of(SENT_FRAMES) if at_s in received]
        yield TimeCurve(_name("lost or in flight", block), points)
    for block in _blocks(blocks, "missing", "receiver"):
        total, points = 0.0, list[tuple[float, float]]()
        for at_s, missing in block.of("missing"):
            total += missing
            points.append((at_s, total))
        yield TimeCurve(_name("missing", block), points)


_DELAYS = (
    (FRAME_DELAY, 1e3, "delay"), ("rtt-us", 1e-3, "RTT"), (TWO_WAY_DELAY, 1e3, "two-way"),
    ("transit-mean-s", 1e3, "one-way"), ("first-byte-median-s", 1e3, "first byte"),
    ("response-median-s", 1e3, "response"),
)  # fmt: skip


def _delays(blocks: Sequence[SampleColumns]) -> Iterator[TimeCurve]:
    for quantity, factor, what in _DELAYS:
        seen = set[str]()
        for block in _blocks(blocks, quantity):
            name = _name(what, block)
            if name not in seen:  # of many flows the first stands for all
                seen.add(name)
                yield TimeCurve(name, [(at_s, factor * value) for at_s, value in block.of(quantity)])


def _cpus(blocks: Sequence[SampleColumns]) -> Iterator[TimeCurve]:
    for source, quantity, what in (
        ("near", "cpu-core", "near"), ("far", "cpu-core", "far"), (DEVICE, "device-cpu", "device"),
    ):  # fmt: skip
        most = _most([block for block in _blocks(blocks, quantity) if block.source == source], quantity)
        if most:
            yield TimeCurve(what, [(at_s, 100 * share) for at_s, share in most])


def _most(blocks: Sequence[SampleColumns], quantity: str) -> Points:
    """The largest value of several blocks at each moment."""
    largest: dict[float, float] = {}
    for block in blocks:
        for at_s, value in block.of(quantity):
            largest[at_s] = max(largest.get(at_s, value), value)
    return sorted(largest.items())
