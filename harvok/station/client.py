"""The near end's side of the control protocol. Every failure comes out as an error that says who must act."""

import contextlib
import secrets
import ssl
import threading
import urllib.parse
from collections.abc import Callable, Generator, Iterator
from typing import TypeVar

import httpcore2
from pydantic import ValidationError

from harvok.clock import Clock
from harvok.core.conditions import HostConditions, InterfaceCounters, InterfaceFacts
from harvok.core.fields import Model
from harvok.core.models.control import (
    ErrandRequest,
    FarEndResult,
    Fault,
    FrameAnswer,
    FrameNews,
    FrameOrder,
    KernelDrops,
    LentPortCounts,
    NearEnd,
    Pass,
    PassRequest,
    PreparedTrial,
    Progress,
    Session,
    SessionRequest,
    StationFacts,
    TrialRequest,
    WallClock,
)
from harvok.core.time_axis import ClockOffset
from harvok.core.units import format_span
from harvok.core.wire.pairing import signed_text
from harvok.errors import (
    BusyError,
    FarEndError,
    HarvokError,
    PairingError,
    ProtocolError,
)
from harvok.signals import uninterrupted
from harvok.station.address import StationAddress
from harvok.station.capabilities import CAPABILITIES, ERRANDS, FRAMES, GROUPS, PASSES, require, traffic_capability
from harvok.station.contact import Access, known_context, make_known
from harvok.station.exchange import ERRAND_LINE_BYTES, ControlAnswer, Exchange
from harvok.station.unreachable import is_another_certificate, lost, unreachable
from harvok.traffic.sockets import Source
from harvok.traffic.table import FlowTrial

_ANSWER_TIMEOUT_S = 10.0
_START_TIMEOUT_S = 30.0  # the station starts its workers before it answers
_SILENCE_S = 5.0  # on the progress stream, which says something every second
_ASK_AGAIN_S = 1.0
_RENEWALS_A_LEASE = 2.5

_FAILURES = (httpcore2.NetworkError, httpcore2.TimeoutException, httpcore2.ProtocolError, ssl.SSLError)
"""What may become of a request, besides an answer."""

ModelT = TypeVar("ModelT", bound=Model)


class StationClient:
    """Talks to one station. Use as a context manager; `claim` before anything but `facts`."""

    def __init__(self, address: StationAddress, access: Access, source: Source, clock: Clock) -> None:
        self.address = address
        self._access, self._source, self._clock = access, source, clock
        self._exchange: Exchange | None = None
        self._session, self._capabilities, self._who = "", list[str](), ""
        self._stop = threading.Event()
        self._renewer: threading.Thread | None = None
        self.notices: list[str] = []
        self.lost: HarvokError | None = None

    def __enter__(self) -> "StationClient":
        return self

    def __exit__(self, *_: object) -> None:
        self._stop.set()
        if self._renewer:
            self._renewer.join()
        if self._session:
            with contextlib.suppress(HarvokError):
                self._call("DELETE", self._path())
        if self._exchange:
            self._exchange.close()

    def facts(self) -> StationFacts:
        """Who answers, and its limits."""
        return self._ask(StationFacts, "GET", "/station")

    def pair(self, near: str) -> StationFacts:
        """Makes the station known, and hands in this user's own certificate. Raises LimitError where the station takes
        none now."""
        self._access.keys.identity  # noqa: B018  made before the first connection, so that all of them show it
        facts = self.facts()
        self._call("PUT", "/pairing", NearEnd(name=near, certificate=self._access.keys.certificate))
        return facts

    def claim(
        self, near: str, planned_s: float, wait_s: float, notice: Callable[[str], None], group: str | None = None
    ) -> None:
        """Takes the station for this near end, or for those of a `group`, waiting up to `wait_s` for its turn. Raises
        BusyError, and ProtocolError where the station knows no groups."""
        request = SessionRequest(
            near=near,
            planned_s=planned_s,
            capabilities=list(CAPABILITIES),
            session=secrets.token_hex(16),
            group=group,
        )
        deadline_ns = self._clock.now_ns() + int(wait_s * 1e9)
        announced = False
        while True:
            try:
                session = self._claim(request)
                break
            except BusyError as busy:
                if self._clock.now_ns() >= deadline_ns:
                    raise
                if not announced:
                    notice(f"{busy.message}; waiting up to {format_span(wait_s)} for a turn")
                    announced = True
                self._clock.sleep(_ASK_AGAIN_S)
        for said in self.notices:
            notice(said)
        self._session, self._capabilities = session.session, session.capabilities
        self._who = f"the station {self.address.name} (Harvok {session.harvok})"
        self._renewer = threading.Thread(target=self._renew, args=[session.lease_s / _RENEWALS_A_LEASE], daemon=True)
        with uninterrupted():
            self._renewer.start()
        if group:
            require(self._capabilities, [GROUPS], self._who)

    def clock_offset(self, tries: int = 8) -> ClockOffset:
        """How far the station's wall clock is ahead of this host's, by the fastest of some answers (RFC 5905 §8)."""
        require(self._capabilities, [GROUPS], self._who)
        found = []
        for _ in range(tries):
            asked_ns = self._clock.wall_ns()
            there_ns = self._ask(WallClock, "GET", self._path("/clock")).wall_ns
            back_ns = self._clock.wall_ns()
            found.append(ClockOffset((there_ns - (asked_ns + back_ns) / 2) / 1e9, (back_ns - asked_ns) / 2e9))
        return min(found, key=lambda one: one.error_s)

    def _claim(self, request: SessionRequest) -> Session:
        try:
            return self._ask(Session, "POST", "/sessions", request)
        except KeyboardInterrupt:
            self._session = request.session or ""  # the station may have given it; so it is given back
            raise

    def conditions(self) -> HostConditions:
        """The far end's conditions, for traffic towards this host."""
        return self._ask(HostConditions, "GET", self._path("/conditions"))

    def counters(self) -> InterfaceCounters | None:
        """What the far end's interface has counted so far; None where its system does not tell."""
        answer = self._call("GET", self._path("/counters"))
        return None if answer.content == b"null" else _parse(InterfaceCounters, answer.content)

    def prepare(self, trial: FlowTrial) -> PreparedTrial:
        """Makes the far end ready to admit the data connections of a trial. Raises ProtocolError where it does not know
        this kind of traffic."""
        require(self._capabilities, [traffic_capability(trial.kind)], self._who)
        return self._ask(PreparedTrial, "POST", self._path("/trial"), TrialRequest(trial=trial))

    def start(self) -> None:
        """Makes the far end begin."""
        self._call("POST", self._path("/trial/start"), total_s=_START_TIMEOUT_S)

    def progress(self, opened: Callable[[], None] = lambda: None) -> Iterator[Progress]:
        """What the far end reports as it goes on; `opened` is called when it begins to. Raises StationLostError when
        the station falls silent."""
        for line in self._lines("/trial/progress", opened):
            yield _parse(Progress, line)

    def make_pass(self, for_s: float) -> str:
        """A token of the station's for another near end, for so long. Raises ProtocolError where it makes none."""
        facts = self.facts()
        require(facts.capabilities, [PASSES], f"the station {self.address.name} (Harvok {facts.harvok})")
        return self._ask(Pass, "POST", "/passes", PassRequest(for_s=for_s)).token

    def send_on_errand(self, errand: str) -> None:
        """Asks the station for a test (JSON, core.models.errand), whose near end it is. Raises PairingError, LimitError
        for what it does not do, ProtocolError where it knows no errands."""
        require(self._capabilities, [ERRANDS], self._who)
        keys, station = self._access.keys, self._access.keys.station(self.address.place)
        if station is None:
            raise PairingError("errands are for stations that are known", "Leave out --plain, at both ends.")
        signature = keys.sign(signed_text(station.code, self._session, errand))
        self._call("POST", self._path("/errand"), ErrandRequest(errand=errand, code=keys.code, signature=signature))

    def errand_lines(self) -> Generator[bytes, None, None]:
        """What the station tells of its errand, line by line. Raises StationLostError when it falls silent."""
        return self._lines("/errand/progress", line_bytes=ERRAND_LINE_BYTES)

    def drop_errand(self) -> None:
        """Ends the errand, whatever its state."""
        self._call("DELETE", self._path("/errand"), total_s=_START_TIMEOUT_S)

    def borrow(self) -> None:
        """Has the station lend its ports for this session. Raises LimitError where it lends none, ProtocolError where
        it cannot."""
        require(self._capabilities, [FRAMES], self._who)
        self._call("POST", self._path("/ports"))

    def port_facts(self, port: str) -> InterfaceFacts:
        """A lent port as it is now. Raises LimitError, PortError."""
        return self._ask(InterfaceFacts, "GET", self._path(f"/ports/{_in_path(port)}/facts"))

    def port_counts(self, port: str) -> LentPortCounts:
        """What a lent port has counted so far."""
        return self._ask(LentPortCounts, "GET", self._path(f"/ports/{_in_path(port)}/counters"))

    def kernel_drops(self) -> int:
        """Frames that the station's kernel dropped before any ring since it started."""
        return self._ask(KernelDrops, "GET", self._path("/ports/drops")).frames

    def order_frames(self, row: int, order: str) -> None:
        """Has the worker of a row obey; what it answers comes with `frame_news`."""
        self._call("POST", self._path("/ports/orders"), FrameOrder(row=row, order=order), _START_TIMEOUT_S)

    def help_frames(self, order: str) -> str:
        """Has a worker beside the others obey, and returns its answer."""
        body = FrameOrder(row=0, order=order)
        return _parse(FrameAnswer, self._call("POST", self._path("/ports/help"), body, _START_TIMEOUT_S).content).line

    def begin_frames(self, row: int) -> None:
        """The word for which a sender waits."""
        self._call("POST", self._path(f"/ports/rows/{row}/begin"))

    def stop_frames(self, row: int) -> None:
        """Has a receiver end."""
        self._call("POST", self._path(f"/ports/rows/{row}/stop"))

    def frame_news(self, opened: Callable[[], None]) -> Iterator[FrameNews]:
        """What the workers of lent ports say, and how far they are, until the session ends; `opened` is called when the
        station begins to tell. Raises StationLostError when it falls silent."""
        for line in self._lines("/ports/news", opened, ERRAND_LINE_BYTES):
            yield _parse(FrameNews, line)

    def result(self) -> FarEndResult:
        """What the far end saw."""
        return self._ask(FarEndResult, "GET", self._path("/trial/result"))

    def release(self) -> None:
        """Ends the far end of the trial, whatever its state."""
        self._call("DELETE", self._path("/trial"))

    def renew(self) -> None:
        """Keeps the session for another lease."""
        self._call("POST", self._path("/renewal"))

    def _lines(
        self, path: str, opened: Callable[[], None] = lambda: None, line_bytes: int | None = None
    ) -> Generator[bytes, None, None]:
        """What the station tells as it goes on, line by line; `opened` is called when it begins to. Raises
        StationLostError when it falls silent."""
        try:
            with self._open().lines(self._path(path), _SILENCE_S, line_bytes) as (answer, lines):
                if not answer.is_success:
                    raise _refusal(answer)
                opened()
                yield from filter(None, lines)
        except _FAILURES as error:
            raise lost(self.address, error) from error

    def _path(self, rest: str = "") -> str:
        return f"/sessions/{self._session}{rest}"

    def _renew(self, every_s: float) -> None:
        """Keeps the lease alive until told to stop; remembers why it could not."""
        while not self._stop.wait(every_s):
            try:
                self.renew()
            except HarvokError as error:
                self.lost = error
                return

    def _ask(self, wanted: type[ModelT], method: str, path: str, body: Model | None = None) -> ModelT:
        return _parse(wanted, self._call(method, path, body).content)

    def _call(
        self, method: str, path: str, body: Model | None = None, total_s: float = _ANSWER_TIMEOUT_S
    ) -> ControlAnswer:
        text = body.model_dump_json() if body else None
        try:
            answer = self._open().ask(method, path, text, total_s)
        except _FAILURES as error:
            if not is_another_certificate(error) or self._session:
                raise self._unreachable(error) from error
            answer = self._ask_anew(method, path, text, total_s)
        if answer.is_success:
            return answer
        raise _refusal(answer)

    def _ask_anew(self, method: str, path: str, text: str | None, total_s: float) -> ControlAnswer:
        """Once more, of a station that has another certificate now, if the pairing code says so."""
        self._become_known()
        try:
            return self._open().ask(method, path, text, total_s)
        except _FAILURES as error:  # whoever answers shows now one certificate and now another
            raise self._unreachable(error) from error

    def _open(self) -> Exchange:
        """The connection, made at first use: to a station that is known, or becomes so now."""
        if not self._exchange:
            access = self._access
            tls = None if access.plain else known_context(access, self.address)
            if not tls and not access.plain:
                self._become_known()
            else:
                self._connect_with(tls)
        assert self._exchange
        return self._exchange

    def _become_known(self) -> None:
        """Believes the station's certificate if the pairing code is that of it; see `make_known`."""
        try:
            tls = make_known(self._access, self.address, self._source, self._clock, self.notices.append)
        except OSError as error:
            raise self._unreachable(error) from error
        self._connect_with(tls)

    def _connect_with(self, tls: ssl.SSLContext | None) -> None:
        if self._exchange:
            self._exchange.close()
        address = self.address
        self._exchange = Exchange(address.host, address.port, self._access.token, self._source, tls, self._clock)

    def _unreachable(self, error: Exception) -> HarvokError:
        """What a failed request means: before the session it is about reaching the station, later about losing it."""
        if self._session:
            return lost(self.address, error)
        return unreachable(self.address, error, self._access.plain)


def _in_path(name: str) -> str:
    return urllib.parse.quote(name, safe="")


def _parse(wanted: type[ModelT], raw: bytes | str) -> ModelT:
    try:
        return wanted.model_validate_json(raw, extra="ignore")
    except ValidationError as error:
        where = ".".join(str(part) for part in error.errors()[0]["loc"]) or "its beginning"
        raise ProtocolError(
            f"what answers is no station that this version knows: its {wanted.__name__} is not readable at {where}",
            "Check the port, and upgrade the older end of the two.",
        ) from error


def _refusal(answer: ControlAnswer) -> HarvokError:
    """The error that a station answered with, as the class it was raised as over there."""
    try:
        fault = Fault.model_validate_json(answer.content)
    except ValidationError:
        return ProtocolError(
            f"what answers is no station: it said HTTP {answer.status}",
            "Check the port; `harvok station` prints the right one.",
        )
    return error_of(fault)


def error_of(fault: Fault) -> HarvokError:
    """An error that came from the other end, as one of our own."""
    known = {kind.reference: kind for kind in _all_errors(HarvokError)}
    kind = known.get(fault.reference, FarEndError)
    error = kind(fault.message, fault.hint)
    if isinstance(error, BusyError):
        error.free_in_s = fault.free_in_s or 0.0
    return error


def _all_errors(kind: type[HarvokError]) -> Iterator[type[HarvokError]]:
    yield kind
    for below in kind.__subclasses__():
        yield from _all_errors(below)
