"""Policy checks while a trial runs: the near end tries each over and over, and the far end answers what comes through.

The far end listens on every port that is asked for, as long as the trial lasts, and answers the exact bytes of a check
of the trial alone (core.wire.policy); whatever else comes is closed without a word.
"""

import contextlib
import errno
import secrets
import select
import socket
import ssl
import threading
from collections.abc import Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from typing import Any

from harvok.certificates import self_signed
from harvok.clock import SYSTEM
from harvok.core.ends import SEND, Role
from harvok.core.trials.app import AppTrial
from harvok.core.trials.policy import TRY_S, CheckCounts, PolicyCheck, PolicySummary
from harvok.core.wire.policy import CheckExchange, exchange_of, payload_of_segment, segment_of
from harvok.errors import FarEndError, HarvokError, NearEndError
from harvok.signals import uninterrupted
from harvok.traffic.app.tls import service_context, users_context
from harvok.traffic.own_address import from_same_address
from harvok.traffic.packet_filter import take_segments_to
from harvok.traffic.sampler import MeterMaker
from harvok.traffic.sockets import Source, bind_source, listen
from harvok.traffic.udp import udp_listeners
from harvok.zones import socket_address

_ROUND_S = 2.0
"""Every check is tried once in each: no load to speak of."""
_LAST_TRY_S = 2.5 * TRY_S
_AT_ONCE = 32
_PIECE_BYTES = 65_536
_HOST = "hall.example"  # RFC 2606: who is asked for where a check names nobody
_DATAGRAMS = ("udp", "dns")

_HOW = {
    errno.ECONNREFUSED: "refused",
    errno.ECONNRESET: "reset",
    errno.EPIPE: "reset",
    errno.ENETUNREACH: "unreachable",
    errno.EHOSTUNREACH: "unreachable",
    errno.ETIMEDOUT: "no-answer",
}
"""How a try was blocked; anything else, such as no descriptor or a rule of this host, is this end's own."""


def exchanges_of(trial: AppTrial, proof: str) -> list[CheckExchange]:
    """The bytes of every check of a trial."""
    return [exchange_of(check, number, proof, _HOST) for number, check in enumerate(trial.policy)]


class PolicyResponder:
    """The far end: who listens from the time at which a trial is prepared, and answers from the time it begins."""

    direction: str = SEND.name
    role: Role = "receiver"

    def __init__(self, trial: AppTrial, proof: str, host: str | None) -> None:
        """Raises FarEndError for a port that cannot be listened on."""
        self._checks, self._exchanges = trial.policy, exchanges_of(trial, proof)
        self._lasts_s = trial.duration_s + _LAST_TRY_S
        self._arrived, self._lock = [0] * len(self._checks), threading.Lock()
        self._room = threading.BoundedSemaphore(_AT_ONCE)
        self._wake_read, self._wake_write = socket.socketpair()
        self._tls = service_context(self_signed()) if any(check.by == "tls" for check in self._checks) else None
        self._closing = contextlib.ExitStack()
        self._closing.callback(self._wake_read.close)
        self._closing.callback(self._wake_write.close)
        self._streams: dict[socket.socket, int] = {}
        self._datagrams: dict[socket.socket, int] = {}
        self._segments: socket.socket | None = None
        try:
            self._listen(host)
        except BaseException:
            self.close()
            raise

    def _listen(self, host: str | None) -> None:
        for port in sorted({check.port for check in self._checks if check.by in ("tcp", "http", "tls")}):
            for listener in _listening(host, port):
                self._closing.callback(listener.close)
                listener.listen(_AT_ONCE)
                listener.setblocking(False)
                self._streams[listener] = port
        for port in sorted({check.port for check in self._checks if check.by in _DATAGRAMS}):
            for sock in udp_listeners(host, port):
                self._closing.callback(sock.close)
                self._datagrams[sock] = port
        ports = sorted({check.port for check in self._checks if check.by == "flags"})
        if ports:
            self._segments = _raw_socket(FarEndError, "the station")
            self._closing.callback(self._segments.close)
            take_segments_to(self._segments, ports)

    def wait_ready(self) -> None:
        """It listens already."""

    def begin(self) -> None:
        """It answers as soon as it is watched."""

    def watch(self, meter_maker: MeterMaker, on_interval: Any) -> None:
        """Answers until the last try is over, or somebody interrupts."""
        ends_ns = SYSTEM.now_ns() + int(self._lasts_s * 1e9)
        sockets = [self._wake_read, *self._streams, *self._datagrams, *([self._segments] if self._segments else [])]
        while (left_s := (ends_ns - SYSTEM.now_ns()) / 1e9) > 0:
            ready, _, _ = select.select(sockets, [], [], left_s)
            if self._wake_read in ready:
                return
            for sock in ready:
                with contextlib.suppress(OSError):  # a stranger's must not end the listening
                    self._hear(sock)

    def _hear(self, sock: socket.socket) -> None:
        if sock in self._streams:
            self._accept(sock)
        elif sock in self._datagrams:
            self._answer_datagram(sock)
        else:
            self._note_segment(sock.recv(_PIECE_BYTES))

    def _accept(self, listener: socket.socket) -> None:
        connection, _ = listener.accept()
        if not self._room.acquire(blocking=False):
            connection.close()
            return
        connection.settimeout(_LAST_TRY_S)
        answering = threading.Thread(target=self._serve, args=[connection, self._streams[listener]], daemon=True)
        with uninterrupted():
            answering.start()

    def _serve(self, connection: socket.socket, port: int) -> None:
        wanted = {
            self._exchanges[number].request: number
            for number, check in enumerate(self._checks)
            if check.port == port and check.by in ("tcp", "http", "tls")
        }
        try:
            with connection:
                spoken = self._in_tls(connection) if self._speaks_tls(port) else connection
                with spoken:
                    self._serve_one(spoken, wanted)
        except OSError:  # it went away, or did not speak TLS
            return
        finally:
            self._room.release()

    def _speaks_tls(self, port: int) -> bool:
        return any(check.port == port and check.by == "tls" for check in self._checks)

    def _in_tls(self, connection: socket.socket) -> socket.socket:
        assert self._tls
        return self._tls.wrap_socket(connection, server_side=True)

    def _serve_one(self, connection: socket.socket, wanted: dict[bytes, int]) -> None:
        """Reads until what came is the request of a check, or can no longer be one."""
        ends_ns, came = SYSTEM.now_ns() + int(_LAST_TRY_S * 1e9), b""
        while came not in wanted:
            if not any(request.startswith(came) for request in wanted) or SYSTEM.now_ns() > ends_ns:
                return
            piece = connection.recv(_PIECE_BYTES)
            if not piece:
                return
            came += piece
        self._note(wanted[came])
        connection.sendall(self._exchanges[wanted[came]].answer)

    def _answer_datagram(self, sock: socket.socket) -> None:
        datagram, control, _, peer = sock.recvmsg(2048, 128)
        for number, check in enumerate(self._checks):
            exchange = self._exchanges[number]
            if check.by in _DATAGRAMS and check.port == self._datagrams[sock] and datagram == exchange.request:
                self._note(number)
                sock.sendmsg([exchange.answer], from_same_address(control), 0, peer)
                return

    def _note_segment(self, packet: bytes) -> None:
        for number, check in enumerate(self._checks):
            request = self._exchanges[number].request
            if check.by == "flags" and payload_of_segment(packet, check.port)[: len(request)] == request:
                self._note(number)

    def _note(self, number: int) -> None:
        with self._lock:
            self._arrived[number] += 1

    def interrupt(self) -> None:
        """Makes `watch` return soon."""
        with contextlib.suppress(OSError):
            self._wake_write.send(b"x")

    def summary(self) -> PolicySummary:
        """How many requests arrived."""
        with self._lock:
            counts = [CheckCounts(arrived=arrived) for arrived in self._arrived]
        return PolicySummary(self.direction, self.role, counts)

    def close(self) -> None:
        """Listens no more."""
        self._closing.close()


def _listening(host: str | None, port: int) -> Sequence[socket.socket]:
    try:
        return listen(host, port)
    except NearEndError as error:
        raise FarEndError(
            f"the station cannot listen on TCP port {port} for a policy check: {error.message}",
            "Free the port there, start the station as root for ports below 1024, or give the check another port.",
        ) from error


def _raw_socket(error: type[HarvokError], who: str) -> socket.socket:
    try:
        return socket.socket(socket.AF_INET, socket.SOCK_RAW, socket.IPPROTO_TCP)
    except OSError as denied:
        raise error(
            f"{who} may not use raw sockets, which checks of TCP flags need", "Start it as root, or leave them out."
        ) from denied


class PolicyProber:
    """The near end: tries every check once in each round, side by side, as long as the trial lasts; once at least."""

    direction: str = SEND.name
    role: Role = "sender"

    def __init__(self, trial: AppTrial, proof: str, target: tuple[str, int], source: Source) -> None:
        """Raises NearEndError where a check needs what this host does not allow."""
        self._checks, self._exchanges = trial.policy, exchanges_of(trial, proof)
        self._lasts_s, self._host, self._source = trial.duration_s, target[0], source
        self._counts: list[tuple[list[int], dict[str, int]]] = [([0, 0], {}) for _ in self._checks]
        self._tls = users_context("http/1.1") if any(check.by == "tls" for check in self._checks) else None
        self._stop = threading.Event()
        self._raw: socket.socket | None = None
        if any(check.by == "flags" for check in self._checks):
            if ":" in self._host:
                raise NearEndError("checks of TCP flags are made over IPv4", "Give the station's IPv4 address.")
            self._raw = _raw_socket(NearEndError, "this host")

    def wait_ready(self) -> None:
        """Nothing has to be prepared."""

    def begin(self) -> None:
        """It tries as soon as it is watched."""

    def watch(self, meter_maker: MeterMaker, on_interval: Any) -> None:
        """Tries until the trial is over, or somebody interrupts."""
        began_ns = SYSTEM.now_ns()
        with ThreadPoolExecutor(len(self._checks)) as pool:
            while not self._stop.is_set():
                round_ns = SYSTEM.now_ns()
                for counts, how in zip(self._counts, pool.map(self._tried, range(len(self._checks))), strict=True):
                    if how is not None:
                        _count(*counts, how)
                if (SYSTEM.now_ns() - began_ns) / 1e9 + _ROUND_S > self._lasts_s:
                    return
                self._stop.wait(max(_ROUND_S - (SYSTEM.now_ns() - round_ns) / 1e9, 0))

    def _tried(self, number: int) -> str | None:
        """One try: how it was blocked, empty where it passed, and None where this end could not even try."""
        check, exchange = self._checks[number], self._exchanges[number]
        try:
            if check.by == "flags":
                return self._send_segment(check, exchange)
            if check.by in _DATAGRAMS:
                return self._ask_by_datagram(check, exchange)
            return self._ask_on_connection(check, exchange)
        except TimeoutError:
            return "no-answer"
        except OSError as error:
            return "tls" if isinstance(error, ssl.SSLError) else _HOW.get(error.errno or 0)

    def _socket(self, kind: socket.SocketKind) -> socket.socket:
        sock = socket.socket(socket.AF_INET6 if ":" in self._host else socket.AF_INET, kind)
        sock.settimeout(TRY_S)
        bind_source(sock, self._source)
        return sock

    def _ask_on_connection(self, check: PolicyCheck, exchange: CheckExchange) -> str:
        with self._socket(socket.SOCK_STREAM) as sock:
            sock.connect(socket_address(self._host, check.port))
            if check.by == "tls":
                assert self._tls
                with self._tls.wrap_socket(sock, server_hostname=check.host or _HOST) as spoken:
                    return _exchange(spoken, exchange)
            return _exchange(sock, exchange)

    def _ask_by_datagram(self, check: PolicyCheck, exchange: CheckExchange) -> str:
        """Twice, since one may be lost without anybody's will."""
        with self._socket(socket.SOCK_DGRAM) as sock:
            sock.connect(socket_address(self._host, check.port))
            sock.settimeout(TRY_S / 2)
            sock.send(exchange.request)
            try:
                came = sock.recv(2048)
            except TimeoutError:
                sock.send(exchange.request)
                came = sock.recv(2048)
        return "" if came == exchange.answer else "other-answer"

    def _send_segment(self, check: PolicyCheck, exchange: CheckExchange) -> str:
        """Nobody answers it: the far end tells at the end how many arrived."""
        assert self._raw
        with self._socket(socket.SOCK_DGRAM) as sock:
            sock.connect((self._host, check.port))
            own = str(sock.getsockname()[0])
        source = (own, 49_152 + secrets.randbelow(16_000))
        self._raw.sendto(segment_of(check, exchange.request, source, (self._host, check.port)), (self._host, 0))
        return "not-seen"

    def interrupt(self) -> None:
        """Makes `watch` return soon."""
        self._stop.set()

    def summary(self) -> PolicySummary:
        """What became of each check so far."""
        counts = [CheckCounts(tried, passed, blocked=dict(how)) for (tried, passed), how in self._counts]
        return PolicySummary(self.direction, self.role, counts)

    def close(self) -> None:
        """Nothing is tried any more."""
        if self._raw:
            self._raw.close()


def _count(numbers: list[int], blocked: dict[str, int], how: str) -> None:
    numbers[0] += 1
    if how:
        blocked[how] = blocked.get(how, 0) + 1
    else:
        numbers[1] += 1


def _exchange(sock: socket.socket, exchange: CheckExchange) -> str:
    sock.sendall(exchange.request)
    came = b"".join(_pieces(sock, len(exchange.answer)))
    if came == exchange.answer:
        return ""
    return "other-answer" if came else "closed"


def _pieces(sock: socket.socket, most_bytes: int) -> Iterator[bytes]:
    """What comes until the connection ends, or as much was read as the right answer has."""
    ends_ns, came = SYSTEM.now_ns() + int(TRY_S * 1e9), 0
    while came < most_bytes and SYSTEM.now_ns() < ends_ns and (piece := sock.recv(most_bytes - came)):
        came += len(piece)
        yield piece
