"""Turns records into what a comparison looks at: figures, limiters, and conditions by name."""

from collections.abc import Iterator, Sequence

from harvok.core.judgement.sample import RunSample, Series
from harvok.core.models.conditions import HostConditions, InterfaceFacts
from harvok.core.models.run import AnyTest, PortsRigRecord, RunRecord
from harvok.core.procedures.calibrate import CalibrationTest
from harvok.core.procedures.delay import DelayTest
from harvok.core.procedures.emulator import EmulatorTest
from harvok.core.procedures.link import LinkTest
from harvok.core.procedures.load import LoadTest
from harvok.core.procedures.rfc2544 import FrameTest
from harvok.core.procedures.tcp import TcpTest
from harvok.core.procedures.udp import UdpTest
from harvok.core.units import format_duration, format_rate, format_share, format_size, format_speed
from harvok.logbook.store import Logbook


def series_of(logbook: Logbook, name: str) -> Series:
    """A series of the logbook, complete runs only; the others are named in `left_out`. Raises NothingFoundError."""
    return as_series(name, logbook.series_records(name))


def as_series(name: str, records: Sequence[RunRecord]) -> Series:
    """The same of records that were read already."""
    return Series(
        name=name,
        runs=[sample_of(record) for record in records if record.state == "complete"],
        left_out=[f"{record.id} ({record.state})" for record in records if record.state != "complete"],
    )


def sample_of(record: RunRecord) -> RunSample:
    """One run as a comparison sees it."""
    return RunSample(
        id=record.id,
        figures=record.figures,
        conditions=dict(_conditions(record)),
        limiters={reading.direction: reading.limiter for reading in record.readings},
    )


def _conditions(record: RunRecord) -> Iterator[tuple[str, str]]:
    """(name, value as printed) of everything that should be alike before two series are compared."""
    if record.link.rated_bps:
        yield "link.rated", format_speed(record.link.rated_bps)
    test = record.test
    yield from _test_conditions(test)
    if record.impairment:
        put = record.impairment.impairment
        yield "path.impairment", f"{put.name}: {put.model_dump_json(exclude={'name', 'about'}, exclude_defaults=True)}"
    if isinstance(record.rig, PortsRigRecord):
        for number, port in enumerate(record.rig.ports, 1):
            yield from _interface_conditions(f"port{number}", port)
    yield from _host_conditions("near", record.near)
    if record.far:
        yield from _host_conditions("far", record.far)


def _test_conditions(test: AnyTest) -> Iterator[tuple[str, str]]:
    if isinstance(test, TcpTest):
        yield from _tcp_conditions(test)
    elif isinstance(test, UdpTest):
        yield from _udp_conditions(test)
    elif isinstance(test, DelayTest):
        yield from _delay_conditions(test)
    elif isinstance(test, LinkTest):
        yield "test.kind", test.kind
        yield "test.port", test.trial.port
    else:
        yield from _frame_conditions(test)


def _udp_conditions(test: UdpTest) -> Iterator[tuple[str, str]]:
    trial = test.trial
    yield "test.kind", f"{test.kind} {test.mode}"
    yield "test.direction", test.direction
    yield "test.duration", f"{trial.duration_s:g} s"
    for spec in test.services:
        prefix = f"test.{spec.name}." if spec.name else "test."
        size = f"{spec.payload_bytes} B payload" if spec.payload_bytes else f"{spec.frame_bytes} B frames"
        yield f"{prefix}rate", format_rate(spec.rate_bps)
        yield f"{prefix}size", size
        yield f"{prefix}flows", str(spec.flows)
        yield f"{prefix}dscp", str(spec.dscp or 0)
    yield "test.method", trial.method
    yield "test.group", trial.group or "none"
    buffer = trial.socket_buffer_bytes
    yield "test.socket-buffer", "as large as allowed" if buffer is None else format_size(buffer)
    yield "test.loss-tolerance", format_share(test.loss_tolerance)


def _delay_conditions(test: DelayTest) -> Iterator[tuple[str, str]]:
    trial = test.trial
    yield "test.kind", test.kind
    yield "test.packets", f"{trial.packets}, one every {format_duration(trial.gap_s)}"
    yield "test.size", f"{trial.payload_bytes} B payload"
    yield "test.dscp", str(trial.dscp or 0)
    yield "test.loads", ", ".join(test.loads) or "none"
    yield "test.load-rate", format_rate(test.load_bps) if test.load_bps else "as it comes"


def _tcp_conditions(test: TcpTest) -> Iterator[tuple[str, str]]:
    trial, options = test.trial, test.trial.options
    yield "test.kind", test.kind
    yield "test.direction", test.direction
    yield "test.flows", str(trial.flows)
    if trial.duration_s:
        yield "test.duration", f"{trial.duration_s:g} s"
    if trial.amount_bytes:
        yield "test.amount", format_size(trial.amount_bytes)
    yield "test.settling", "automatic" if test.settling_s is None else f"{test.settling_s:g} s"
    buffer, mss = options.socket_buffer_bytes, options.mss_bytes
    yield "test.socket-buffer", "the system's" if buffer is None else format_size(buffer)
    yield "test.mss", "the system's" if mss is None else f"{mss} B"
    yield "test.congestion-control", options.congestion_control or "the system's"
    yield "test.dscp", str(options.dscp or 0)
    yield "test.pacing", format_rate(options.pacing_bps) if options.pacing_bps else "none"


def _frame_conditions(test: FrameTest | LoadTest | EmulatorTest | CalibrationTest) -> Iterator[tuple[str, str]]:
    settings = test.settings
    if isinstance(test, LoadTest):
        yield "test.loads", ", ".join(f"{share * 100:g} %" for share in test.shares)
    yield "test.kind", test.kind
    yield "test.frame-sizes", ", ".join(size.name for size in test.sizes)
    yield "test.direction", " and ".join(settings.directions)
    yield "test.duration", f"{settings.full_s:g} s"
    yield "test.resolution", format_share(settings.resolution)
    yield "test.loss-tolerance", format_share(settings.loss_tolerance)
    yield "test.ip-version", str(settings.ip_version or "none")
    yield "test.address-pairs", str(settings.address_pairs)
    yield "test.burst", str(settings.burst_frames)


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
