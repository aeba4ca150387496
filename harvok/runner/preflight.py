"""Looks, before a test, at everything that could spoil it, and says what each look comes to."""

from collections.abc import Iterator
from contextlib import closing
from dataclasses import dataclass

from harvok.clock import SYSTEM, Clock
from harvok.core.conditions import HostConditions
from harvok.core.ends import SEND
from harvok.core.ethernet import IpVersion, tcp_goodput_ceiling_bps
from harvok.core.figures import find
from harvok.core.measures.clocks import offset_of
from harvok.core.models.preflight import (
    Check,
    ability_check,
    buffers_check,
    clock_check,
    cpu_checks,
    delay_check,
    interface_checks,
    mtu_agreement,
    path_mtu_check,
    traffic_check,
)
from harvok.core.models.run import RigRecord
from harvok.core.procedures.delay import delays_s
from harvok.core.time_axis import ClockOffset
from harvok.core.trials.delay import DelayTrial
from harvok.core.trials.tcp import TcpTrial
from harvok.core.trials.udp import UdpService, UdpTrial
from harvok.errors import BusyError, HarvokError, LogbookError, UnknownNameError
from harvok.logbook.store import Logbook
from harvok.rigs.stations import StationsRig, StationsSettings
from harvok.station.address import resolve
from harvok.traffic.path_mtu import path_mtu_bytes

_PLANNED_S = 15.0
_WATCH_S = 1.0
_PROBE = DelayTrial(packets=20, gap_s=0.01, wait_s=0.7)
_TCP_TRY = TcpTrial((SEND,), duration_s=1.0)
_UDP_TRY = UdpTrial((UdpService(10.0, 100),), (SEND,), duration_s=1.0)
_LOOK_BACK = 100


@dataclass(frozen=True, slots=True)
class PreflightRequest:
    """Everything that `harvok preflight` was asked for."""

    stations: StationsSettings
    logbook: str


def preflight(request: PreflightRequest, clock: Clock = SYSTEM) -> Iterator[Check]:
    """Yields each finding as it is made; ends early where nothing further can be looked at."""
    try:
        rig = StationsRig(request.stations, clock)
    except UnknownNameError as error:
        yield _stop("name", error)
        return
    except HarvokError as error:
        yield _stop("route", error)
        return
    named = rig.address.name != rig.address.host
    resolved = f"{rig.address.name} is {rig.address.host}" if named else f"{rig.address.host}, an address"
    yield Check("name", "ok", resolved)
    with rig:
        try:
            rig.claim(_PLANNED_S, 0.0, lambda _: None)
            near, far = rig.read_conditions()
        except BusyError as busy:
            yield Check("control port", "warning", busy.message, "Two tests at once spoil each other: wait your turn.")
            return
        except HarvokError as error:
            yield _stop("control port", error)
            return
        yield Check("control port", "ok", f"TCP {rig.address.port} answers, and takes the token")
        yield from _with_a_station(request, rig, near, far, clock)


def _with_a_station(
    request: PreflightRequest, rig: StationsRig, near: HostConditions, far: HostConditions, clock: Clock
) -> Iterator[Check]:
    link = rig.link()
    route = near.interface.name if near.interface else "an interface that this system does not tell"
    yield Check("route", "ok", f"from {near.local_address or 'an unknown address'} through {route}")
    for end, host in (("near", near), ("far", far)):
        yield from interface_checks(end, host, link)
    yield from mtu_agreement(near, far)
    yield from _data_ports(rig)
    probed = rig.probe(_PROBE)
    times = delays_s(probed) if probed else []
    min_s = min(times, default=None)
    yield delay_check(_PROBE.packets, len(times), min_s)
    if times:
        yield from _path_mtus(request, rig, near, clock)
    same = near.boot is not None and near.boot == far.boot
    yield clock_check(near, far, ClockOffset(0.0, 0.0) if same else offset_of(probed) if probed else None)
    for end, host in (("near", near), ("far", far)):
        yield from cpu_checks(end, host)
    yield from _traffic(rig, link.line_rate_bps, clock)
    yield buffers_check(near, far, link, min_s)
    yield _ability(request, near, far, link.line_rate_bps, rig.ip_version)


def _data_ports(rig: StationsRig) -> Iterator[Check]:
    for name, trial in (("TCP", _TCP_TRY), ("UDP", _UDP_TRY)):
        topic = f"data port, {name}"
        try:
            rig.try_data(trial)
            yield Check(topic, "ok", f"{name} {rig.address.port + 1} lets data through")
        except HarvokError as error:
            yield _stop(topic, error)


def _path_mtus(request: PreflightRequest, rig: StationsRig, near: HostConditions, clock: Clock) -> Iterator[Check]:
    """Of the version that is used, and of the other where the name has both."""
    settings = request.stations
    mtu = near.interface.mtu_bytes if near.interface else None
    versions: tuple[IpVersion, ...] = (rig.ip_version, 6 if rig.ip_version == 4 else 4)
    for version in versions:
        host = rig.address.host if version == rig.ip_version else _other(settings.station, version)
        if host:
            found = path_mtu_bytes((host, rig.delay_port()), mtu, settings.source, settings.stamp_key, clock)
            yield path_mtu_check(version, mtu, found)


def _other(station: str, version: IpVersion) -> str | None:
    try:
        return resolve(station, version).host
    except HarvokError:
        return None


def _traffic(rig: StationsRig, line_bps: float | None, clock: Clock) -> Iterator[Check]:
    before = rig.counters()
    clock.sleep(_WATCH_S)
    after = rig.counters()
    for end, first, second in zip(("near", "far"), before, after, strict=True):
        yield from traffic_check(f"{end} end", first, second, line_bps)


def _ability(
    request: PreflightRequest, near: HostConditions, far: HostConditions, line_bps: float | None, version: IpVersion
) -> Check:
    """The best that any run in the logbook carried between these two hosts, in either direction."""
    mtu = near.interface.mtu_bytes if near.interface else None
    ceiling_bps = tcp_goodput_ceiling_bps(line_bps, mtu or 1500, version) if line_bps else None
    best: tuple[float, str] | None = None
    try:
        with closing(Logbook(request.logbook)) as logbook:
            for record in logbook.records(
                [line.id for line in logbook.lines(_LOOK_BACK) if line.test.startswith("tcp")]
            ):
                if not record.far or not isinstance(record.rig, RigRecord):
                    continue
                if {record.near.name, record.far.name} == {near.name, far.name} and record.state == "complete":
                    for direction in ("send", "receive"):
                        value = find(record.figures, "goodput-settled", direction=direction)
                        if value and (best is None or value > best[0]):
                            best = value, record.id
    except LogbookError as error:
        return Check("ability of the hosts", "unknown", error.message, error.hint)
    return ability_check(best[0] if best else None, best[1] if best else "", ceiling_bps)


def _stop(topic: str, error: HarvokError) -> Check:
    return Check(topic, "stop", error.message, error.hint)
