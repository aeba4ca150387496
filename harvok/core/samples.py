"""The one envelope for everything that is seen while a trial runs, whatever sees it: samples and events on its time
axis (core.time_axis). Worker processes import this file.

A sample's `source` is who saw it: an end (`near`, `far`), a port, soon a device. Its `labels` say of what it is: the
direction and role, the flow, the service, the core. Quantities are in kebab case with their unit where they have one.
"""

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field

from harvok.core.ends import CpuUse

DEVICE = "device"
"""The source of all samples that come from the device under test."""
INTERVAL_LENGTH, INTERVAL_INDEX = "interval-length-s", "interval-index"
"""Close an interval: everything that its source told of it comes before its index."""


@dataclass(frozen=True, slots=True)
class Sample:
    """A value at a moment, `at_s` seconds after the trial's origin."""

    at_s: float
    source: str
    quantity: str
    value: float
    labels: Mapping[str, str] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class Event:
    """Something that happened at a moment; `values` are numbers that belong to it, such as a speed in b/s."""

    at_s: float
    name: str
    source: str = "near"
    labels: Mapping[str, str] = field(default_factory=dict)
    values: Mapping[str, float] = field(default_factory=dict)


@dataclass(slots=True)
class SampleColumns:
    """Samples of one source with the same labels, in columns: a list of moments, and for each quantity a list of as
    many values, None where there is none. An hour at ten a second stays small this way."""

    source: str
    labels: dict[str, str]
    at_s: list[float] = field(default_factory=list)
    values: dict[str, list[float | None]] = field(default_factory=dict)

    def add(self, sample: Sample) -> None:
        """Takes a sample into the last row, or into a new one where that is of another moment."""
        column = self.values.get(sample.quantity)
        if column is None:
            column = self.values[sample.quantity] = [None] * len(self.at_s)
        if not self.at_s or self.at_s[-1] != sample.at_s or column[-1] is not None:
            self.at_s.append(sample.at_s)
            for values in self.values.values():
                values.append(None)
        column[-1] = sample.value

    def of(self, quantity: str) -> list[tuple[float, float]]:
        """(moment in s, value) of a quantity, where it has one."""
        column = self.values.get(quantity, [])
        return [(at_s, value) for at_s, value in zip(self.at_s, column, strict=False) if value is not None]


class SampleTable:
    """Samples put into columns as they come."""

    def __init__(self) -> None:
        self._columns: dict[tuple[str, tuple[tuple[str, str], ...]], SampleColumns] = {}

    def add(self, samples: Iterable[Sample]) -> None:
        for sample in samples:
            key = sample.source, tuple(sample.labels.items())
            if key not in self._columns:
                self._columns[key] = SampleColumns(sample.source, dict(sample.labels))
            self._columns[key].add(sample)

    @property
    def columns(self) -> list[SampleColumns]:
        """All of them, in the order in which they began."""
        return list(self._columns.values())


def in_columns(samples: Iterable[Sample]) -> list[SampleColumns]:
    """Samples in columns."""
    table = SampleTable()
    table.add(samples)
    return table.columns


def replayed(columns: Sequence[SampleColumns]) -> list[Sample]:
    """The samples again, in the order of time; the index that closes an interval comes after all else of its moment."""
    samples = [
        Sample(at_s, block.source, quantity, value, block.labels)
        for block in columns
        for quantity in block.values
        for at_s, value in block.of(quantity)
    ]
    return sorted(samples, key=lambda sample: (sample.at_s, sample.quantity == INTERVAL_INDEX))


def cpu_samples(use: CpuUse | None, at_s: float, source: str, labels: Mapping[str, str]) -> Iterator[Sample]:
    """How busy a host was: each core, each worker, and what the hypervisor took, all as ratios."""
    if use is None:
        return
    for quantity, label, shares in (
        ("cpu-core", "core", use.cores),
        ("cpu-interrupts", "core", use.interrupts),
        ("cpu-worker", "worker", use.workers),
        ("cpu-waiting", "worker", use.waiting),
    ):
        for number, share in enumerate(shares):
            yield Sample(at_s, source, quantity, share, {**labels, label: str(number)})
    yield Sample(at_s, source, "cpu-stolen", use.stolen, labels)


@dataclass(slots=True)
class IntervalSamples:
    """What one end told of one interval of one direction: `values` by quantity, each as (labels, value) in order."""

    source: str
    direction: str
    role: str
    service: str
    index: int
    start_s: float
    end_s: float
    values: dict[str, list[tuple[Mapping[str, str], float]]]

    def of(self, quantity: str) -> list[float]:
        """All values of a quantity: of each flow, each core."""
        return [value for _, value in self.values.get(quantity, [])]

    def one(self, quantity: str) -> float | None:
        """The value of a quantity that has one; the last of several."""
        return values[-1] if (values := self.of(quantity)) else None


class IntervalReader:
    """Puts the samples of intervals together again, each of a direction and role, and of a service where it has one."""

    def __init__(self) -> None:
        self._open: dict[tuple[str, str, str], dict[str, list[tuple[Mapping[str, str], float]]]] = {}

    def add(self, sample: Sample) -> IntervalSamples | None:
        """The interval that this sample closes. What a device tells is of no interval."""
        if sample.source == DEVICE:
            return None
        labels = sample.labels
        key = labels.get("direction", ""), labels.get("role", ""), labels.get("service", "")
        values = self._open.setdefault(key, {})
        if sample.quantity != INTERVAL_INDEX:
            values.setdefault(sample.quantity, []).append((labels, sample.value))
            return None
        length_s = values.get(INTERVAL_LENGTH, [({}, 0.0)])[-1][1]
        del self._open[key]
        return IntervalSamples(sample.source, *key, int(sample.value), sample.at_s - length_s, sample.at_s, values)
