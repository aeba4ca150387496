"""Runs a TCP or UDP test between this host and a station, as often as asked, and keeps every run in the logbook."""

from contextlib import ExitStack
from dataclasses import dataclass, field

from harvok.clock import SYSTEM, Clock
from harvok.core.drive import drive
from harvok.core.ethernet import ETHERNET_HEADER_BYTES, FCS_BYTES, IpVersion, frame_bytes_of
from harvok.core.judgement.services import judge_services
from harvok.core.models.conditions import HostConditions
from harvok.core.models.impairment import ImpairmentRecord
from harvok.core.models.preflight import quick_checks
from harvok.core.models.run import RigRecord, RunRecord
from harvok.core.observer import Observer, RunOutline
from harvok.core.procedures.tcp import TcpTest, tcp_test
from harvok.core.procedures.udp import UdpFindings, UdpTest, udp_test
from harvok.core.tcp.notices import link_notices, result_notices
from harvok.core.trials.tcp import TcpTrialResult
from harvok.core.units import format_size
from harvok.errors import UsageError
from harvok.logbook.store import Logbook
from harvok.rigs.stations import StationsRig, StationsSettings
from harvok.runner.impair import at_work
from harvok.runner.journal import Journal
from harvok.runner.keeping import Found, Keeper, Label, OnRecord, new_record
from harvok.runner.lock import one_test_at_a_time

_AROUND_A_TRIAL_S = 1.0  # connecting, starting workers, letting go: only to tell others when the station is free
_NO_DURATION_GUESS_S = 60.0
_ETHERNET_BYTES = ETHERNET_HEADER_BYTES + FCS_BYTES


@dataclass(frozen=True, slots=True)
class FlowRequest:
    """Everything that `harvok tcp` or `harvok udp` was asked for. `command` is what was typed, without the token."""

    stations: StationsSettings
    test: TcpTest | UdpTest
    logbook: str
    command: list[str]
    label: Label = field(default_factory=Label)
    repeat: int = 1
    pause_s: float = 0.0
    wait_s: float = 0.0

    @property
    def planned_s(self) -> float:
        """How long all repeats should take, in seconds."""
        traffic_s = self.test.expected_s or _NO_DURATION_GUESS_S
        trials = len(self.test.trials) if isinstance(self.test, TcpTest) else len(self.test.ways)
        once_s = traffic_s + _AROUND_A_TRIAL_S * trials
        return self.repeat * once_s + (self.repeat - 1) * self.pause_s


def run_flows(request: FlowRequest, observer: Observer, on_record: OnRecord, clock: Clock = SYSTEM) -> None:
    """Runs every repeat; `on_record` gets each finished record, also one that broke off.

    Raises whatever broke the test off, after its record was kept.
    """
    with ExitStack() as stack:
        what = f"a test towards {request.stations.station}"
        stack.enter_context(one_test_at_a_time(what, request.wait_s, clock, observer.notice))
        logbook = Logbook(request.logbook)
        stack.callback(logbook.close)
        rig = stack.enter_context(StationsRig(request.stations, clock))
        rig.claim(request.planned_s, request.wait_s, observer.notice)
        keeper = Keeper(logbook, observer, on_record, clock)
        for number in range(request.repeat):
            if number and request.pause_s:
                clock.sleep(request.pause_s)
            _run_once(request, rig, keeper, number)


def _run_once(request: FlowRequest, rig: StationsRig, keeper: Keeper, number: int) -> None:
    near, far = rig.read_conditions()
    record = _new_record(request, rig, near, far, keeper.clock)
    version = rig.ip_version
    outline = RunOutline(record.id, number + 1, request.repeat, near.name, far.name, record.link, version)
    keeper.observer.run_started(outline)

    def measure(everyone: Observer, journal: Journal, found: Found) -> None:
        if isinstance(request.test, UdpTest):
            _measure_udp(request.test, rig, everyone, record, found)
        else:
            _measure_tcp(request.test, rig, everyone, record, journal, found)

    keeper.measure(record, measure)


def _measure_tcp(
    test: TcpTest, rig: StationsRig, everyone: Observer, record: RunRecord, journal: Journal, found: Found
) -> None:
    findings = drive(tcp_test(test, record.link), rig, everyone)
    results = [t.result for t in journal.trials if isinstance(t.result, TcpTrialResult)]
    said = result_notices([d for result in results for d in result.directions], findings.readings)
    found |= {"readings": findings.readings, "figures": findings.figures, "notices": [*record.notices, *said]}


def _measure_udp(test: UdpTest, rig: StationsRig, everyone: Observer, record: RunRecord, found: Found) -> None:
    findings = UdpFindings(notices=list(record.notices))
    found |= {"figures": findings.figures, "notices": findings.notices}
    drive(udp_test(test, rig.ip_version, findings), rig, everyone)
    found["findings"] = judge_services(test.services, findings.figures)


def _new_record(
    request: FlowRequest, rig: StationsRig, near: HostConditions, far: HostConditions, clock: Clock
) -> RunRecord:
    link, impairment = rig.link(), at_work()
    return new_record(
        command=request.command,
        test=request.test,
        rig=RigRecord(station=request.stations.station, address=rig.address.host, port=rig.address.port),
        link=link,
        label=request.label,
        near=near,
        far=far,
        clock=clock,
        impairment=impairment,
        preflight=quick_checks(near, far, link),
        notices=[
            *link_notices(link),
            *_impairment_notices(impairment),
            *_buffer_notices(request.test, near, far),
            *_size_notices(request.test, near),
        ],
    )


def _impairment_notices(impairment: ImpairmentRecord | None) -> list[str]:
    """Says when a path may be impaired on purpose: whoever reads the run next year must know."""
    if impairment is None:
        return []
    between = " and ".join(impairment.ports)
    return [f"the impairment '{impairment.impairment.name}' is at work on this host, at {between}"]


def _size_notices(test: TcpTest | UdpTest, near: HostConditions) -> list[str]:
    """Says when datagrams are larger than this end's MTU: they are never fragmented, so that none of them leaves."""
    mtu = near.interface.mtu_bytes if near.interface else None
    if not isinstance(test, UdpTest) or not mtu:
        return []
    version: IpVersion = 6 if near.local_address and ":" in near.local_address else 4
    largest = max(frame_bytes_of(spec.at(1.0, version).payload_bytes, version) for spec in test.services)
    if largest - _ETHERNET_BYTES <= mtu:
        return []
    raise UsageError(
        f"frames of {largest} B carry IP packets of {largest - _ETHERNET_BYTES} B, and the MTU here is {mtu} B",
        f"Use a frame size of {mtu + _ETHERNET_BYTES} B at most, or raise the MTU at both ends.",
    )


def _buffer_notices(test: TcpTest | UdpTest, near: HostConditions, far: HostConditions) -> list[str]:
    """Says when a kernel will not grant the socket buffer that was asked for."""
    asked = test.trial.socket_buffer_bytes if isinstance(test, UdpTest) else test.trial.options.socket_buffer_bytes
    if not asked:
        return []
    notices = []
    for end, host in (("near", near), ("far", far)):
        limits = host.socket_limits
        capped = [most for most in (limits.receive_max_bytes, limits.send_max_bytes) if most and most < asked]
        if capped:
            notices.append(
                f"the {end} end allows socket buffers of {format_size(min(capped))} at most, not the "
                f"{format_size(asked)} asked for: raise net.core.rmem_max and net.core.wmem_max there"
            )
    return notices
