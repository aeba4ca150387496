"""What a station does, without HTTP: sessions, limits, and the far half of the trial under way."""

import ipaddress
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

from harvok import __version__
from harvok.clock import Clock
from harvok.core.ends import RECEIVE, SEND, Stream
from harvok.core.models.control import (
    ErrandRequest,
    NearEnd,
    Pass,
    PreparedTrial,
    Session,
    SessionRequest,
    StationFacts,
    WallClock,
)
from harvok.core.trials.app import AppTrial
from harvok.core.trials.udp import UdpTrial
from harvok.core.units import format_span
from harvok.core.wire.datagram import HEAD_BYTES, MAX_PAYLOAD_BYTES
from harvok.errors import LimitError, ProtocolError
from harvok.station.browser.code import PageSettings
from harvok.station.capabilities import CAPABILITIES, agreed
from harvok.station.far_end import FarEnd
from harvok.station.keys import Keys, Known, is_certificate
from harvok.station.passes import Passes
from harvok.station.sessions import LEASE_S, Sessions
from harvok.traffic.reflector import ReflectorSettings
from harvok.traffic.table import FlowTrial

if TYPE_CHECKING:  # what reads errands takes time to load, and a station is to be there soon
    from harvok.station.errand import ErrandLimits, RunningErrand
    from harvok.station.lent_ports import LentPorts


_PORTS_OF_A_MEMBER = 4
"""Between the data ports of the members of a group: control, data, reflector, and media streams."""


@dataclass(frozen=True, slots=True)
class StationSettings:
    """What the person who starts a station decides. `host` None serves every address of this host."""

    name: str
    token: str
    control_port: int
    data_port: int
    host: str | None = None
    max_test_s: float = 3600.0
    max_flows: int = 64
    reflector: ReflectorSettings | None = None
    keys: Keys | None = None
    """None talks in clear."""
    pairs: bool = False
    only_paired: bool = False
    errands: "ErrandLimits | None" = None
    """None takes none."""
    frame_ports: Sequence[str] = ()
    """Which ports it lends."""
    reflect: bool = False
    """Whether those only send frames back."""
    page: PageSettings | None = None
    """Where browsers measure; None without it."""


class Station:
    """One station: who holds it, and the far end of a trial that the holder runs."""

    def __init__(
        self,
        settings: StationSettings,
        clock: Clock,
        tell: Callable[[str], None],
        on_guest: Callable[[str | None], None] = lambda _: None,
    ) -> None:
        """`tell` is called for each thing that happens, `on_guest` with the address of whoever has the station."""
        self._on_guest = on_guest
        self.settings = settings
        self.sessions = Sessions(clock)
        self.passes = Passes(clock)
        self._clock = clock
        self._tell = tell
        self._trial_ends: dict[str, FarEnd] = {}
        self._errands: dict[str, RunningErrand] = {}
        self._lent: dict[str, LentPorts] = {}

    def facts(self) -> StationFacts:
        return StationFacts(
            name=self.settings.name,
            harvok=__version__,
            capabilities=list(CAPABILITIES),
            data_port=self.settings.data_port,
            delay_port=self.settings.reflector.port if self.settings.reflector else None,
            max_test_s=self.settings.max_test_s,
            max_flows=self.settings.max_flows,
            frame_ports=list(self.settings.frame_ports),
            free_in_s=self.sessions.free_in_s,
        )

    def claim(self, request: SessionRequest, address: str) -> Session:
        common = agreed(request.capabilities, "the near end")
        session = self.hold(request.near, request.planned_s, address, request.session, request.group)
        return Session(session=session, lease_s=LEASE_S, harvok=__version__, capabilities=common)

    def hold(
        self, near: str, planned_s: float, address: str, session: str | None = None, group: str | None = None
    ) -> str:
        """Gives the station to somebody, as Sessions.claim does; returns the session. Raises BusyError."""
        session = self.sessions.claim(near, planned_s, session, group)
        self._on_guest(address)
        self._tell(f"{near} ({address}) has the station for about {format_span(round(planned_s))}")
        return session

    def pair(self, near_end: NearEnd, address: str) -> None:
        """Believes a near end that presented the token, where the operator lets it. Raises LimitError."""
        if not self.settings.pairs or not self.settings.keys:
            raise LimitError(
                "the station remembers no near ends now", "Ask for it to be started with --pair while you do this."
            )
        if not is_certificate(near_end.certificate):
            raise ProtocolError("what came is no certificate", "Upgrade the older end of the two.")
        known = Known(near_end.name, near_end.certificate, f"{self._clock.utc():%Y-%m-%d}")
        if any(one.name == known.name and one.code != known.code for one in self.settings.keys.near_ends()):
            raise LimitError(
                f"the station knows another near end as '{known.name}'",
                f"Give this one another --name, or have that one forgotten there: harvok pairing forget {known.name}",
            )
        self.settings.keys.learn_near_end(known)
        self._tell(f"{known.name} ({address}) is paired; its code is {known.code}")

    def give_back(self, session: str) -> None:
        if self.sessions.give_back(session):
            self._drop(session)
            self._tell_if_free("free")

    def sweep(self) -> None:
        """Frees the station from a near end that vanished; to be called now and then."""
        for session, near in self.sessions.expire():
            self._drop(session)
            said = f"{near} fell silent for {LEASE_S:.0f} s; its test is ended"
            if not self._tell_if_free(f"{said} and the station is free"):
                self._tell(said)

    def _tell_if_free(self, said: str) -> bool:
        """Says so once the last of a group is gone."""
        if self.sessions.free_in_s is not None:
            return False
        self._on_guest(None)
        self._tell(said)
        return True

    def prepare(self, session: str, trial: FlowTrial, address: str) -> PreparedTrial:
        """Gets the far half of a trial ready: at the data port or, for the later ones of a group, further up."""
        place = self.sessions.renew(session)
        self._check_limits(trial)
        self._drop(session)
        settings = self.settings
        port = settings.data_port + _PORTS_OF_A_MEMBER * place
        far_end = FarEnd(trial, settings.host, port, settings.max_test_s, self._clock, address)
        self._trial_ends[session] = far_end
        return far_end.prepared

    def make_pass(self, for_s: float) -> Pass:
        """A token for a near end that is not to know the station's own. Raises LimitError."""
        return Pass(token=self.passes.make(for_s))

    def take_errand(self, session: str, request: ErrandRequest) -> None:
        """Begins a test as its near end, for a host that is paired and within what the operator allows. Raises
        LimitError, PairingError, ProtocolError."""
        settings = self.settings
        if settings.errands is None or settings.keys is None:
            raise LimitError(
                "the station takes no errands", "Ask for it to be started with --errands-to, naming its far ends."
            )
        from harvok.station.errand import RunningErrand, read_errand

        errand = read_errand(request, session, settings.keys)
        errand = settings.errands.check(errand, settings.max_test_s, settings.max_flows, self._clock.utc().astimezone())
        self._drop(session)
        self._errands[session] = RunningErrand(errand.model_copy(update={"near_name": settings.name}))
        self._tell(f"tests {errand.test.title} toward {errand.station}, asked by {errand.asked_by}")

    def errand(self, session: str) -> "RunningErrand":
        """The one that is under way. Raises ProtocolError when there is none."""
        if session not in self._errands:
            raise ProtocolError("no errand is under way", "Use two ends of one version.")
        return self._errands[session]

    def lend(self, session: str) -> None:
        """Begins to lend its ports to a near end. Raises LimitError where it lends none."""
        settings = self.settings
        if not settings.frame_ports:
            raise LimitError("the station lends no ports", "Ask for it to be started with --frames PORT.")
        from harvok.station.lent_ports import LentPorts

        self._drop(session)
        self._lent[session] = LentPorts(settings.frame_ports, settings.max_test_s, settings.reflect)
        self._tell(f"lends {', '.join(settings.frame_ports)}")

    def lent(self, session: str) -> "LentPorts":
        """The ports that a near end has. Raises ProtocolError when it has none."""
        if session not in self._lent:
            raise ProtocolError("no ports are lent", "Use two ends of one version.")
        return self._lent[session]

    def far_end(self, session: str) -> FarEnd:
        """The far end of a trial that is prepared or under way. Raises ProtocolError when there is none."""
        if session not in self._trial_ends:
            raise ProtocolError("no trial is prepared", "Use near end and station of one version.")
        return self._trial_ends[session]

    def drop_errand(self, session: str) -> None:
        """Ends the errand that is under way, if any is."""
        self._drop(session)

    def wall_clock(self) -> WallClock:
        """For a start in common."""
        return WallClock(wall_ns=self._clock.wall_ns())

    def close(self) -> None:
        for session in [*self._trial_ends, *self._errands, *self._lent]:
            self._drop(session)

    def _drop(self, session: str) -> None:
        """Ends what is under way in a session."""
        held = self._trial_ends.pop(session, None), self._errands.pop(session, None), self._lent.pop(session, None)
        for under_way in held:
            if under_way:
                under_way.release()

    def _check_limits(self, trial: FlowTrial) -> None:
        settings = self.settings
        if trial.flows > settings.max_flows:
            raise LimitError(
                f"the station allows 1 to {settings.max_flows} flows, not {trial.flows}",
                "Use fewer --flows, or start the station with a larger --max-flows.",
            )
        if trial.duration_s and trial.duration_s > settings.max_test_s:
            raise LimitError(
                f"the station allows tests of {settings.max_test_s:.0f} s, not {trial.duration_s:.0f} s",
                "Use a shorter --duration, or start the station with a larger --max-duration.",
            )
        _check_streams(trial.streams)
        if trial.kind == "udp":
            _check_udp(trial)
            return
        if trial.kind == "app":
            if not trial.streams:
                raise ProtocolError("a trial of application traffic needs streams", "Correct the request.")
            if trial.services:
                _check_beside(trial, trial.services)
            return
        if (trial.duration_s is None) == (trial.amount_bytes is None) or not trial.streams:
            raise ProtocolError("a trial needs streams, and either a duration or an amount", "Correct the request.")
        if trial.interval_s < trial.tick_s:
            raise ProtocolError("intervals are no shorter than ticks", "Correct the request.")


def _check_streams(streams: Sequence[Stream]) -> None:
    if not set(streams) <= {SEND, RECEIVE} or len(set(streams)) < len(streams):
        raise ProtocolError("streams go from near to far or back, each once", "Correct the request.")


def _check_beside(trial: AppTrial, services: UdpTrial) -> None:
    """Refuses services that are not of the trial that they flow beside."""
    if services.group or services.duration_s > trial.duration_s + 1e-6:
        raise ProtocolError("services beside users end with them, and go to no group", "Correct the request.")
    _check_streams(services.streams)
    _check_udp(services)


def _check_udp(trial: UdpTrial) -> None:
    """Refuses what would harm this host, or others: no data leaves for a group, which cannot have proven itself."""
    sizes = [service.payload_bytes for service in trial.services]
    if not trial.streams or not sizes or not HEAD_BYTES <= min(sizes) <= max(sizes) <= MAX_PAYLOAD_BYTES:
        raise ProtocolError(
            f"a UDP trial needs streams, and services with payloads of {HEAD_BYTES} to {MAX_PAYLOAD_BYTES} B",
            "Correct the request.",
        )
    spans = [trial.span_s(service) for service in trial.services]
    if any(not 0 <= begins_s < ends_s <= trial.duration_s + 1e-6 for begins_s, ends_s in spans):
        raise ProtocolError("every service flows for some time within the trial", "Correct the request.")
    if trial.group and RECEIVE in trial.streams:
        raise ProtocolError("a station sends nothing to a multicast group", "Measure in direction send.")
    if trial.group and not _is_group(trial.group):
        raise ProtocolError(f"'{trial.group}' is no multicast address", "Correct the request.")


def _is_group(text: str) -> bool:
    try:
        return ipaddress.ip_address(text).is_multicast
    except ValueError:
        return False
