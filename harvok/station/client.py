"""The near end's side of the control protocol. Every failure comes out as an error that says who must act."""

import contextlib
import errno
import os
import socket
import threading
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Any, TypeVar

import httpx2
from pydantic import ValidationError

from harvok.clock import Clock
from harvok.core.conditions import HostConditions, InterfaceCounters
from harvok.core.ethernet import IpVersion
from harvok.core.fields import Model
from harvok.core.models.control import (
    DEFAULT_CONTROL_PORT,
    FarEndResult,
    Fault,
    PreparedTrial,
    Progress,
    Session,
    SessionRequest,
    StationFacts,
    TrialRequest,
)
from harvok.core.units import format_span
from harvok.errors import (
    BusyError,
    FarEndError,
    HarvokError,
    ProtocolError,
    RefusedError,
    SilentError,
    StationLostError,
    UnknownNameError,
    UsageError,
)
from harvok.host.zones import with_zone
from harvok.signals import uninterrupted
from harvok.station.capabilities import CAPABILITIES, require, traffic_capability
from harvok.traffic.icmp_errors import is_rejected
from harvok.traffic.sockets import Source, format_address
from harvok.traffic.table import FlowTrial

_CONNECT_TIMEOUT_S = 5.0
_ANSWER_TIMEOUT_S = 10.0
_START_TIMEOUT_S = 30.0  # the station starts its workers before it answers
_SILENCE_S = 5.0  # on the progress stream, which says something every second
_ASK_AGAIN_S = 1.0
_RENEWALS_A_LEASE = 2.5

ModelT = TypeVar("ModelT", bound=Model)


@dataclass(frozen=True, slots=True)
class StationAddress:
    """Where a station is, as the user wrote it and as it resolved."""

    name: str
    host: str
    port: int


def parse_station(text: str) -> tuple[str, int]:
    """Reads `host`, `host:port`, `address` or `[address]:port`. Raises UsageError."""
    host, port = text, ""
    if text.startswith("["):
        host, _, rest = text[1:].partition("]")
        port = rest.removeprefix(":") if rest.startswith(":") else rest and "?"
    elif text.count(":") == 1:
        host, _, port = text.partition(":")
    if not host or (port and not (port.isdigit() and 0 < int(port) < 65536)):
        raise UsageError(f"'{text}' is not the address of a station", "Give host, host:port or [IPv6 address]:port.")
    return host, int(port) if port else DEFAULT_CONTROL_PORT


def resolve(text: str, ip_version: IpVersion | None = None) -> StationAddress:
    """Finds the address of a station. Raises UnknownNameError when its name does not resolve."""
    host, port = parse_station(text)
    family = {None: socket.AF_UNSPEC, 4: socket.AF_INET, 6: socket.AF_INET6}[ip_version]
    try:
        found = socket.getaddrinfo(host, port, family, socket.SOCK_STREAM)
    except (socket.gaierror, UnicodeError) as error:
        as_version = f" to an IPv{ip_version} address" if ip_version else ""
        why = error.strerror if isinstance(error, socket.gaierror) else "not a host name"
        raise UnknownNameError(
            f"'{host}' does not resolve{as_version}: {why}",
            "Check the spelling, or give the station's address; `harvok station` prints it.",
        ) from error
    return StationAddress(host, with_zone(found[0][4]), port)


class StationClient:
    """Talks to one station. Use as a context manager; `claim` before anything but `facts`."""

    def __init__(self, address: StationAddress, token: str, source: Source, clock: Clock) -> None:
        self.address = address
        self._clock = clock
        options: list[tuple[int, int, bytes]] = []
        if source.interface and hasattr(socket, "SO_BINDTODEVICE"):
            options.append((socket.SOL_SOCKET, socket.SO_BINDTODEVICE, source.interface.encode() + b"\0"))
        self._http = httpx2.Client(
            base_url=f"http://{format_address((address.host, address.port))}/v1",
            headers={"Authorization": f"Bearer {token}", "User-Agent": "harvok"},
            timeout=httpx2.Timeout(_ANSWER_TIMEOUT_S, connect=_CONNECT_TIMEOUT_S),
            # no TLS is spoken, and to load certificates takes longer than everything that is said
            transport=httpx2.HTTPTransport(verify=False, local_address=source.address, socket_options=options),
            trust_env=False,  # a proxy would put another path under test
        )
        self._session, self._capabilities, self._who = "", list[str](), ""
        self._stop = threading.Event()
        self._renewer: threading.Thread | None = None
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
        self._http.close()

    def facts(self) -> StationFacts:
        """Who answers, and its limits."""
        return self._ask(StationFacts, "GET", "/station")

    def claim(self, near: str, planned_s: float, wait_s: float, notice: Callable[[str], None]) -> None:
        """Takes the station for this near end, waiting up to `wait_s` for its turn. Raises BusyError."""
        request = SessionRequest(near=near, planned_s=planned_s, capabilities=list(CAPABILITIES))
        deadline_ns = self._clock.now_ns() + int(wait_s * 1e9)
        announced = False
        while True:
            try:
                session = self._ask(Session, "POST", "/sessions", request)
                break
            except BusyError as busy:
                if self._clock.now_ns() >= deadline_ns:
                    raise
                if not announced:
                    notice(f"{busy.message}; waiting up to {format_span(wait_s)} for a turn")
                    announced = True
                self._clock.sleep(_ASK_AGAIN_S)
        self._session, self._capabilities = session.session, session.capabilities
        self._who = f"the station {self.address.name} (Harvok {session.harvok})"
        self._renewer = threading.Thread(target=self._renew, args=[session.lease_s / _RENEWALS_A_LEASE], daemon=True)
        with uninterrupted():
            self._renewer.start()

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
        self._call("POST", self._path("/trial/start"), timeout=_START_TIMEOUT_S)

    def progress(self) -> Iterator[Progress]:
        """What the far end reports as it goes on. Raises StationLostError when the station falls silent."""
        try:
            timeout = httpx2.Timeout(_SILENCE_S)
            with self._http.stream("GET", self._path("/trial/progress"), timeout=timeout) as response:
                if response.status_code != httpx2.codes.OK:
                    response.read()
                    raise _refusal(response)
                for line in response.iter_lines():
                    if line:
                        yield _parse(Progress, line)
        except httpx2.HTTPError as error:
            raise _lost(self.address, error) from error

    def result(self) -> FarEndResult:
        """What the far end saw."""
        return self._ask(FarEndResult, "GET", self._path("/trial/result"))

    def release(self) -> None:
        """Ends the far end of the trial, whatever its state."""
        self._call("DELETE", self._path("/trial"))

    def _path(self, rest: str = "") -> str:
        return f"/sessions/{self._session}{rest}"

    def _renew(self, every_s: float) -> None:
        """Keeps the lease alive until told to stop; remembers why it could not."""
        while not self._stop.wait(every_s):
            try:
                self._call("POST", self._path("/renewal"))
            except HarvokError as error:
                self.lost = error
                return

    def _ask(self, wanted: type[ModelT], method: str, path: str, body: Model | None = None) -> ModelT:
        return _parse(wanted, self._call(method, path, body).content)

    def _call(self, method: str, path: str, body: Model | None = None, timeout: float | None = None) -> httpx2.Response:
        more: dict[str, Any] = {"timeout": timeout} if timeout else {}
        if body:
            more |= {"content": body.model_dump_json(), "headers": {"Content-Type": "application/json"}}
        try:
            response = self._http.request(method, path, **more)
        except httpx2.HTTPError as error:
            raise self._unreachable(error) from error
        if response.is_success:
            return response
        raise _refusal(response)

    def _unreachable(self, error: httpx2.HTTPError) -> HarvokError:
        """What a failed request means: before the session it is about reaching the station, later about losing it."""
        where = format_address((self.address.host, self.address.port))
        if self._session:
            return _lost(self.address, error)
        if isinstance(error, httpx2.TimeoutException):
            return SilentError(
                f"no answer from {where} in {_CONNECT_TIMEOUT_S:.0f} s",
                f"Check that the host is up and that its firewall lets TCP port {self.address.port} through.",
            )
        number = _system_error(error)
        if number == errno.ECONNREFUSED:
            return RefusedError(
                f"{where} refused the connection: the host is there, and no station listens on that port",
                "Start `harvok station` there, or give the port that it printed.",
            )
        if number in (errno.EHOSTUNREACH, errno.ENETUNREACH) and is_rejected(self.address.host, self.address.port):
            return FarEndError(
                f"cannot reach a station at {where}: a firewall there or on the way rejects the connection (ICMP)",
                f"Let TCP port {self.address.port} through; the route and the cable work, since somebody answered.",
            )
        why = os.strerror(number) if number else str(error)
        return FarEndError(
            f"cannot reach a station at {where}: {why}",
            "Check the address, the route and the cable; a firewall that rejects connections looks the same.",
        )


def _system_error(error: BaseException | None) -> int:
    """The operating system's error number at the bottom of a chain of errors; 0 when there is none."""
    while error:
        if isinstance(error, OSError) and error.errno:
            return error.errno
        error = error.__cause__ or error.__context__
    return 0


def _lost(address: StationAddress, error: httpx2.HTTPError) -> StationLostError:
    silent = isinstance(error, httpx2.TimeoutException)
    return StationLostError(
        f"the station {address.name} {'fell silent' if silent else 'went away'} in mid-test",
        "See whether it still runs and whether the path is up; what was measured until then is kept.",
    )


def _parse(wanted: type[ModelT], raw: bytes | str) -> ModelT:
    try:
        return wanted.model_validate_json(raw, extra="ignore")
    except ValidationError as error:
        raise ProtocolError(
            f"what answers is no station that this version knows: its {wanted.__name__} is not readable",
            "Check the port, and upgrade the older end of the two.",
        ) from error


def _refusal(response: httpx2.Response) -> HarvokError:
    """The error that a station answered with, as the class it was raised as over there."""
    try:
        fault = Fault.model_validate_json(response.content)
    except ValidationError:
        return ProtocolError(
            f"what answers is no station: it said HTTP {response.status_code}",
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
