"""Two-way delay to a reflector: STAMP (RFC 8762) where one answers, ICMP echo where none does."""

import errno
import os
import secrets
import select
import socket
import struct
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from functools import partial
from typing import Protocol

from harvok.clock import Clock
from harvok.core.ethernet import IpVersion, ip_version_of
from harvok.core.trials.delay import DelayTrial, DelayTrialResult, Echo, Means
from harvok.core.trials.tcp import SocketOptions
from harvok.core.wire.echo import decode_reply, encode_request
from harvok.core.wire.stamp import (
    AUTHENTICATED_BYTES,
    PLAIN_BYTES,
    SenderPacket,
    decode_reflector,
    encode_sender,
    error_estimate,
)
from harvok.errors import NearEndError, SilentError
from harvok.traffic.sockets import Source, apply_options, bind_source
from harvok.traffic.stamps import ReceivedDatagram, receive, tell_times
from harvok.zones import socket_address

_SPIN_NS = 300_000
_MAX_BYTES = 9216
_EXTRA_PADDING = b"\x00\x01"
_TRIES, _TRY_S = 4, 1.0

OnEcho = Callable[[Echo], None]


@dataclass(frozen=True, slots=True)
class ProbeAnswer:
    """What an answer tells: which packet it is for, when the reflector got and sent it, and its own count."""

    number: int
    received_ns: int | None = None
    sent_ns: int | None = None
    counted: int | None = None


class Prober(Protocol):
    """One way of asking a host for an answer."""

    means: Means
    sock: socket.socket

    def request(self, number: int, sent_ns: int) -> bytes: ...
    def answer(self, got: ReceivedDatagram) -> ProbeAnswer | None: ...


class StampProber:
    """Asks a STAMP reflector, in a session of its own."""

    def __init__(
        self, address: tuple[str, int], source: Source, key: bytes | None, payload_bytes: int, dscp: int | None = None
    ) -> None:
        self.means: Means = "stamp" if key is None else "stamp-authenticated"
        self._key = key
        self._ssid = secrets.randbelow(0xFFFF) + 1
        self._error = error_estimate(False, 1.0)
        self._payload_bytes = payload_bytes
        family = socket.AF_INET6 if ":" in address[0] else socket.AF_INET
        self.sock = _prepared(socket.socket(family, socket.SOCK_DGRAM), source, dscp)
        self.sock.connect(socket_address(*address))

    def request(self, number: int, sent_ns: int) -> bytes:
        packet = encode_sender(SenderPacket(number, sent_ns, self._error, self._ssid), self._key)
        room = self._payload_bytes - len(packet)
        return packet if room < 4 else packet + _EXTRA_PADDING + struct.pack("!H", room - 4) + bytes(room - 4)

    def answer(self, got: ReceivedDatagram) -> ProbeAnswer | None:
        packet = decode_reflector(got.data, self._key)
        if packet is None or packet.ssid not in (0, self._ssid):  # 0: a reflector that knows no sessions
            return None
        return ProbeAnswer(packet.sender.number, packet.received_ns, packet.sent_ns, packet.number)


class EchoProber:
    """Asks with ICMP echo. Raises NearEndError where this user may not."""

    means: Means = "echo"

    def __init__(self, host: str, source: Source, payload_bytes: int, dscp: int | None = None) -> None:
        self._version = ip_version_of(host)
        self._identifier = secrets.randbelow(1 << 16)
        self._payload_bytes = max(payload_bytes, 8)
        self._token = secrets.token_bytes(4)
        self.sock = _prepared(_echo_socket(self._version), source, dscp)
        self.sock.connect(socket_address(host, 0))

    def request(self, number: int, sent_ns: int) -> bytes:
        payload = (self._token + struct.pack("!I", number)).ljust(self._payload_bytes, b"\0")
        return encode_request(self._version, self._identifier, number, payload)

    def answer(self, got: ReceivedDatagram) -> ProbeAnswer | None:
        reply = decode_reply(self._version, got.data)
        if reply is None or not reply[2].startswith(self._token) or len(reply[2]) < 8:
            return None
        return ProbeAnswer(struct.unpack_from("!I", reply[2], 4)[0])


def _prepared(sock: socket.socket, source: Source, dscp: int | None) -> socket.socket:
    try:
        apply_options(sock, SocketOptions(dscp=dscp))
        bind_source(sock, source)
        tell_times(sock)
        sock.setblocking(False)
    except BaseException:
        sock.close()
        raise
    return sock


def _echo_socket(version: IpVersion) -> socket.socket:
    """A raw socket, or an unprivileged one of those that Linux has for echo alone."""
    family, protocol = (
        (socket.AF_INET, socket.IPPROTO_ICMP) if version == 4 else (socket.AF_INET6, socket.IPPROTO_ICMPV6)
    )
    try:
        return socket.socket(family, socket.SOCK_DGRAM, protocol)
    except OSError:
        pass
    try:
        return socket.socket(family, socket.SOCK_RAW, protocol)
    except PermissionError as error:
        raise NearEndError(
            "this user may not send ICMP echo",
            "Run as root, widen net.ipv4.ping_group_range, or measure to a STAMP reflector.",
        ) from error


@dataclass(slots=True)
class _ProbeState:
    """What is known of the packets of one trial."""

    sent_ns: list[int] = field(default_factory=list)
    echoes: dict[int, Echo] = field(default_factory=dict)
    duplicates: int = 0
    reordered: int = 0
    refused: int = 0
    highest: int = -1
    counts: set[int] = field(default_factory=set)
    """The reflector's own numbers, as far as they came."""
    repeats_numbers: bool = True
    """Whether the reflector's numbers were all the sender's: then it does not count, or lost nothing."""


@dataclass(frozen=True, slots=True)
class ProbeRoute:
    """A way that answers: `make` a fresh prober for every trial, so that late answers never mix with those of the next.
    `port` is the reflector's, 0 for ICMP echo; `silent` are the ports that were asked before it and did not answer."""

    make: Callable[[], Prober]
    port: int
    silent: tuple[int, ...] = ()


class DelaySession:
    """Sends the packets of a trial and matches their answers. Use `interrupt` from another thread to end early."""

    def __init__(self, prober: Prober, clock: Clock) -> None:
        self._prober, self._clock = prober, clock
        self._stopping = False
        self.began_ns = 0
        """When the first packet was sent, by the wall clock."""

    def run(self, trial: DelayTrial, on_echo: OnEcho = lambda _: None) -> DelayTrialResult:
        """Runs a trial; `on_echo` hears of each answer, and at the end of each packet that had none."""
        asked = _ProbeState()
        poll = select.poll()
        poll.register(self._prober.sock, select.POLLIN)
        gap_ns, begun_ns = int(trial.gap_s * 1e9), self._clock.now_ns()
        for number in range(trial.packets):
            due_ns = begun_ns + number * gap_ns
            while not self._stopping and (left_ns := due_ns - self._clock.now_ns()) > 0:
                self._hear(asked, poll, 0 if left_ns < _SPIN_NS else left_ns // 1_000_000, on_echo)
            if self._stopping:
                break
            self._ask(asked, number)
        deadline_ns = self._clock.now_ns() + int(trial.wait_s * 1e9)
        while len(asked.echoes) < len(asked.sent_ns) and (left_ns := deadline_ns - self._clock.now_ns()) > 0:
            self._hear(asked, poll, min(left_ns // 1_000_000 + 1, 20), on_echo)
            if self._stopping:
                break
        return self._result(trial, asked, on_echo)

    def interrupt(self) -> None:
        """Makes `run` return soon with what there is."""
        self._stopping = True

    def _ask(self, asked: _ProbeState, number: int) -> None:
        asked.sent_ns.append(self._clock.wall_ns())
        self.began_ns = self.began_ns or asked.sent_ns[0]
        try:
            self._prober.sock.send(self._prober.request(number, asked.sent_ns[-1]))
        except OSError as error:
            if error.errno == errno.EMSGSIZE:
                raise NearEndError(
                    "packets of that size do not fit this host's interface", "Choose a smaller --payload."
                ) from error
            if error.errno not in (errno.ECONNREFUSED, errno.EHOSTUNREACH, errno.ENETUNREACH, errno.ENOBUFS):
                raise NearEndError(
                    f"cannot send there: {os.strerror(error.errno or 0)}", "Check the address and the route."
                ) from error

    def _hear(self, asked: _ProbeState, poll: "select.poll", timeout_ms: int, on_echo: OnEcho) -> None:
        if not poll.poll(timeout_ms):
            return
        try:
            got = receive(self._prober.sock, _MAX_BYTES, self._clock)
        except OSError:
            return  # told that an earlier packet was refused: it stays unanswered
        answer = self._prober.answer(got)
        if answer is None or answer.number >= len(asked.sent_ns):
            asked.refused += 1
            return
        if answer.counted is not None:
            asked.counts.add(answer.counted)
            asked.repeats_numbers &= answer.counted == answer.number
        if answer.number in asked.echoes:
            asked.duplicates += 1
        else:
            echo = _echo(answer, asked.sent_ns, got.at_ns)
            asked.echoes[answer.number] = echo
            asked.reordered += answer.number < asked.highest
            asked.highest = max(asked.highest, answer.number)
            on_echo(echo)

    def _result(self, trial: DelayTrial, asked: _ProbeState, on_echo: OnEcho) -> DelayTrialResult:
        echoes = []
        for number, sent_ns in enumerate(asked.sent_ns):
            echo = asked.echoes.get(number)
            if echo is None:
                echo = Echo(number, (sent_ns - asked.sent_ns[0]) / 1e9)
                on_echo(echo)
            echoes.append(echo)
        there, back = _split_loss(asked)
        return DelayTrialResult(
            means=self._prober.means,
            echoes=echoes,
            duplicates=asked.duplicates,
            reordered=asked.reordered,
            refused=asked.refused,
            lost_there=there,
            lost_back=back,
        )


def _echo(answer: ProbeAnswer, sent_ns: list[int], at_ns: int) -> Echo:
    asked_ns = sent_ns[answer.number]
    sent_s = (asked_ns - sent_ns[0]) / 1e9
    if answer.received_ns is None or answer.sent_ns is None:
        return Echo(answer.number, sent_s, (at_ns - asked_ns) / 1e9)
    held_ns = answer.sent_ns - answer.received_ns
    return Echo(
        number=answer.number,
        sent_s=sent_s,
        two_way_s=(at_ns - asked_ns - held_ns) / 1e9,
        there_s=(answer.received_ns - asked_ns) / 1e9,
        back_s=(at_ns - answer.sent_ns) / 1e9,
    )


def _split_loss(asked: _ProbeState) -> tuple[int | None, int | None]:
    """(lost there, lost back) by the reflector's own count; None where it only repeats the sender's numbers.

    What was lost after the last answer cannot be told apart, and counts as lost there.
    """
    lost = len(asked.sent_ns) - len(asked.echoes)
    if not asked.counts:
        return None, None
    if asked.repeats_numbers:
        return (None, None) if lost else (0, 0)
    back = min(max(asked.counts) + 1 - len(asked.counts), lost)
    return lost - back, back


def find_probe_route(
    host: str, ports: tuple[int, ...], source: Source, key: bytes | None, trial: DelayTrial, clock: Clock, echo: bool
) -> ProbeRoute:
    """The first of these that answers: a STAMP reflector on one of the ports, then ICMP echo where that is allowed.

    Raises SilentError when nothing does.
    """
    minimum = PLAIN_BYTES if key is None else AUTHENTICATED_BYTES
    size = max(trial.payload_bytes, minimum)
    ways = [ProbeRoute(partial(StampProber, (host, port), source, key, size, trial.dscp), port) for port in ports]
    if echo:
        ways.append(ProbeRoute(partial(EchoProber, host, source, trial.payload_bytes, trial.dscp), 0))
    for number, way in enumerate(ways):
        if _answers(way.make(), clock):
            return replace(way, silent=ports[:number])
    tried = [f"no STAMP reflector on UDP port {port}{' with this key' if key else ''}" for port in ports]
    tried += ["no ICMP echo"] if echo else []
    raise SilentError(
        f"{host} answers nothing: {', '.join(tried)}",
        "Start `harvok station` there, or give --port the reflector's port; see that a firewall lets it through.",
    )


def _answers(prober: Prober, clock: Clock) -> bool:
    quick = DelayTrial(packets=_TRIES, gap_s=_TRY_S / _TRIES, wait_s=_TRY_S)
    session = DelaySession(prober, clock)
    try:
        return any(echo.two_way_s is not None for echo in session.run(quick, lambda _: session.interrupt()).echoes)
    finally:
        prober.sock.close()
