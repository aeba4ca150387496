"""Turns records into what a comparison looks at: figures, limiters, and conditions by name."""

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence

from harvok.core.conditions import HostConditions, InterfaceFacts
from harvok.core.figures import Figure
from harvok.core.judgement.sample import FailedRun, Fault, RunSample, Series
from harvok.core.kinds.table import kind_of
from harvok.core.labels import label_text
from harvok.core.measures.statistics import Summary, summarise
from harvok.core.models.device import DeviceRecord
from harvok.core.models.rig import VirtualRig
from harvok.core.models.run import PortsRigRecord, RigRecord, RunRecord
from harvok.core.procedures.latency import stamps_of
from harvok.core.quantities import QUANTITIES
from harvok.core.trials.frames import FrameTrialResult
from harvok.core.trials.tcp import TcpOutcome
from harvok.core.units import format_speed
from harvok.logbook.store import Logbook


def series_of(logbook: Logbook, name: str) -> Series:
    """A series of the logbook, complete runs only; the others are named in `left_out`. Raises NothingFoundError."""
    return as_series(name, logbook.series_records(name))


def as_series(name: str, records: Sequence[RunRecord]) -> Series:
    """The same of records that were read already."""
    return Series(
        name=name,
        runs=[sample_of(record) for record in records if record.state == "complete"],
        failed=[_failed(record) for record in records if record.state not in ("complete", "running")],
    )


_FAULTS: dict[str, Fault] = {
    "broken-off": "operator",
    "flow-broken": "path",
    "station-lost": "path",
    "nothing-forwarded": "path",
}
"""Who broke a run off, by the reference of its error; everything else is the tester's."""


def _failed(record: RunRecord) -> FailedRun:
    reference, message = (record.fault.reference, record.fault.message) if record.fault else ("", "no reason is known")
    return FailedRun(record.id, record.state, _FAULTS.get(reference, "tester"), message)


def sample_of(record: RunRecord) -> RunSample:
    """One run as a comparison sees it."""
    return RunSample(
        id=record.id,
        figures=record.figures,
        conditions=conditions_of(record),
        limiters={reading.direction: reading.limiter for reading in record.readings},
        default=frozenset(figure.key for figure in _without_side_loads(record)),
    )


def conditions_of(record: RunRecord) -> dict[str, str]:
    """Everything that should be alike before two series are compared, by its name, as printed."""
    return dict(_conditions(record))


def _conditions(record: RunRecord) -> Iterator[tuple[str, str]]:
    """(name, value as printed) of everything that should be alike before two series are compared."""
    if record.link.rated_bps:
        yield "link.rated", format_speed(record.link.rated_bps)
    yield from kind_of(record.test).conditions(record.test)
    yield from _ways_of_measuring(record)
    if record.impairment:
        put = record.impairment.impairment
        yield "path.impairment", f"{put.name}: {put.model_dump_json(exclude={'name', 'about'}, exclude_defaults=True)}"
    if isinstance(record.rig, RigRecord) and record.rig.device:
        yield "device.name", record.rig.device.name
        if isinstance(record.rig.device, VirtualRig):
            yield "device.features", ", ".join(record.rig.device.features) or "none"
    if isinstance(record.rig, PortsRigRecord):
        for number, port in enumerate(record.rig.ports, 1):
            yield from _interface_conditions(f"port{number}", port)
    if record.device:
        yield from _device_conditions(record.device)
    yield from _host_conditions("near", record.near)
    if record.far:
        yield from _host_conditions("far", record.far)


def _ways_of_measuring(record: RunRecord) -> Iterator[tuple[str, str]]:
    """What was found out only when it was measured: how bytes were moved, and whose stamps delays are by."""
    methods = {
        d.method for trial in record.trials if isinstance(trial.result, TcpOutcome) for d in trial.result.directions
    }
    if methods:
        yield "test.method", " and ".join(sorted(methods))
    if stamps := stamps_of(record.trials):
        yield "test.stamps", " and ".join(sorted(stamps))
    frames = [trial.result for trial in record.trials if isinstance(trial.result, FrameTrialResult)]
    if senders := {one.tester.sent_by for result in frames for one in result.directions}:
        yield "test.sender", " and ".join(sorted(senders))


def _device_conditions(device: DeviceRecord) -> Iterator[tuple[str, str]]:
    """What the device said of itself."""
    facts = device.facts
    yield "device.name", device.name
    yield "device.description", facts.description
    yield "device.firmware", facts.firmware or "unknown"
    named = [facts.port(name) for name in device.ports.values()] or facts.ports
    ports = [f"{port.name} {_speed_words(port.speed_bps)} {port.duplex or ''}".rstrip() for port in named if port]
    yield "device.ports", ", ".join(ports)


def _speed_words(speed_bps: float | None) -> str:
    return format_speed(speed_bps) if speed_bps else "of unknown speed"


def _host_conditions(end: str, host: HostConditions) -> Iterator[tuple[str, str]]:
    yield f"{end}.host", host.name
    yield f"{end}.kernel", f"{host.system} {host.kernel}"
    yield f"{end}.harvok", host.harvok
    yield f"{end}.cpu", f"{host.cores} × {host.cpu_model or host.machine}"
    yield f"{end}.governor", host.governor or "unknown"
    yield f"{end}.clock", host.clock.source or "unknown"
    yield f"{end}.congestion-control", host.congestion_control or "unknown"
    for key, value in host.socket_limits.model_dump().items():
        yield f"{end}.{key.replace('_', '-').removesuffix('-bytes')}-buffer", str(value)
    if host.interface:
        yield from _interface_conditions(end, host.interface)


def _interface_conditions(end: str, port: InterfaceFacts) -> Iterator[tuple[str, str]]:
    yield f"{end}.interface", port.name
    yield f"{end}.driver", port.driver or port.kind
    yield f"{end}.hardware-address", port.hardware_address or "unknown"
    yield f"{end}.speed", format_speed(port.negotiated_bps) if port.negotiated_bps else "none"
    yield f"{end}.duplex", port.duplex or "unknown"
    yield f"{end}.mtu", f"{port.mtu_bytes} B"
    for offload, on in port.offloads.items():
        yield f"{end}.{offload}", "on" if on else "off"


def headline_figures(record: RunRecord) -> list[Figure]:
    """The figures that stand for a run, the first of them first."""
    headline = kind_of(record.test).headline
    return sorted(
        (f for f in _without_side_loads(record) if f.quantity in headline), key=lambda f: headline.index(f.quantity)
    )


def main_figures(record: RunRecord) -> list[Figure]:
    """The figures of a run that every table shows."""
    headline = kind_of(record.test).headline
    return [f for f in _without_side_loads(record) if f.quantity in headline or f.meaning.rank != "detail"]


def _without_side_loads(record: RunRecord) -> list[Figure]:
    """All figures but those of a part; of those at single loads the headline, and all of a test that is about loads."""
    kind = kind_of(record.test)
    return [
        figure
        for figure in record.figures
        if (kind.over_load or "load" not in figure.labels or figure.quantity in kind.headline)
        and not figure.labels.keys() & set(kind.drills_down)
    ]


def summaries_of(
    groups: Mapping[str, Sequence[RunRecord]],
    figures_of: Callable[[RunRecord], Iterable[Figure]] = lambda record: record.figures,
) -> dict[tuple[str, str], dict[str, Summary]]:
    """What the complete runs of some groups come to: by quantity and what it is of, a summary for each group that has
    it; in the order in which quantities are shown."""
    values: dict[tuple[str, str], dict[str, list[float]]] = {}
    for name, records in groups.items():
        for record in records:
            if record.state != "complete":
                continue
            for figure in figures_of(record):
                by_group = values.setdefault((figure.quantity, label_text(figure.labels)), {})
                by_group.setdefault(name, []).append(figure.value)
    order = list(QUANTITIES)
    shown = sorted(values, key=lambda key: order.index(key[0]))
    return {key: {name: summarise(found) for name, found in values[key].items()} for key in shown}
